import type { DeletedRow } from '@koinon/client';
import { Button, Group, Loader, Paper, Text } from '@mantine/core';
import { IconRestore } from '@tabler/icons-react';
import { useCallback, useEffect, useState } from 'react';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { sayError } from '../undo.tsx';
import { shownDay, shownMoment } from '../words.ts';

const named = ({ table, id, columns }: DeletedRow) => {
  const { name, mark, at, day } = columns as Readonly<Record<string, string | undefined>>;
  const kind = `${table.charAt(0).toUpperCase()}${table.slice(1)}`;
  return `${kind} ${name ?? mark ?? (at ? shownMoment(at) : undefined) ?? (day ? shownDay(day) : undefined) ?? id}`;
};

/** The deleted rows that can be brought back, as long as the server keeps them. */
export function TrashPage() {
  const replica = useReplica();
  const [rows, setRows] = useState<readonly DeletedRow[]>();
  const [problem, setProblem] = useState<string>();
  const read = useCallback(
    (before?: DeletedRow) =>
      replica
        .trash(before === undefined ? { limit: 50 } : { limit: 50, before })
        .then((found) => setRows((known) => (before === undefined ? found : [...(known ?? []), ...found])))
        .catch((error: Error) => setProblem(error.message)),
    [replica],
  );
  useEffect(() => void read(), [read]);
  const restore = async ({ table, id }: DeletedRow) => {
    try {
      await replica.restore(table as 'site', id);
      setRows((known) => known?.filter((row) => row.table !== table || row.id !== id));
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Page title="Trash" back="/device" under="deleted on any device or in the office">
      {problem && <Text>The list comes from the server: {problem}</Text>}
      {!problem && rows === undefined && <Loader size="sm" role="status" aria-label="Loading" />}
      {rows?.length === 0 && <Text c="dimmed">Nothing was deleted.</Text>}
      {rows?.map((row) => (
        <Paper key={`${row.table} ${row.id}`} withBorder p="sm">
          <Group justify="space-between" wrap="nowrap">
            <div>
              <Text fw={600}>{named(row)}</Text>
              <Text size="sm" c="dimmed">
                deleted {shownMoment(row.deletedAt)}
              </Text>
            </div>
            <Button
              variant="light"
              leftSection={<IconRestore size={16} aria-hidden />}
              aria-label={`Bring ${named(row)} back`}
              onClick={() => restore(row)}
            >
              Bring back
            </Button>
          </Group>
        </Paper>
      ))}
      {rows !== undefined && rows.length > 0 && rows.length % 50 === 0 && (
        <Button variant="default" onClick={() => read(rows.at(-1))}>
          Show what was deleted before
        </Button>
      )}
    </Page>
  );
}
