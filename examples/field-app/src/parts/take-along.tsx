import { useHoldings } from '@koinon/react';
import { Alert, Button, Group, Text } from '@mantine/core';
import { useEffect, useState } from 'react';
import { useReplica } from '../replica.ts';
import { sayError } from '../undo.tsx';
import { counted, shownBytes } from '../words.ts';

/** The hives of a site that the server has, and what it would take to have them here, with their visits. */
interface Size {
  readonly hives: readonly string[];
  readonly rows: number;
  readonly bytes: number;
}

/** Takes the hives of a site along with their visits, on a phone with little space; the size is told before. */
export function TakeAlong({ site: { id, name } }: { readonly site: { readonly id: string; readonly name: string } }) {
  const replica = useReplica();
  const [size, setSize] = useState<Size | Error>();
  const held = useHoldings(replica).rows.filter((holding) => holding.id.endsWith(` ${id}`));
  const isLeaving = held.some(({ state }) => state === 'leaving');
  const isHere = held.length > 0 && held.every(({ state }) => state === 'here');
  useEffect(() => {
    let isOver = false;
    const ask = async (): Promise<Size> => {
      const found = await replica.onServer.rows({ from: 'hive', where: { site: id }, columns: [] });
      const hives = found.map((hive) => hive.id);
      const parts = await Promise.all([
        replica.estimatePull({ from: 'hive', where: { site: id } }),
        replica.estimatePull({ from: 'visit', where: { hive: { in: hives } } }),
      ]);
      const all = [parts[0].hive, parts[1].visit].flatMap((part) => part ?? []);
      const sum = (of: (part: (typeof all)[number]) => number) => all.reduce((before, part) => before + of(part), 0);
      return { hives, rows: sum(({ rows }) => rows), bytes: sum(({ bytes }) => bytes) };
    };
    ask().then(
      (found) => isOver || setSize(found),
      (error: Error) => isOver || setSize(error),
    );
    return () => {
      isOver = true;
    };
  }, [replica, id]);
  const take = async () => {
    if (size === undefined || size instanceof Error) return;
    try {
      await replica.hold(`hives ${id}`, { from: 'hive', where: { site: id } });
      await replica.hold(`visits ${id}`, { from: 'visit', where: { hive: { in: size.hives } } });
    } catch (error) {
      sayError(error);
    }
  };
  const leave = async () => {
    for (const holding of held) await replica.letGo(holding.id).catch(sayError);
  };
  if (held.length === 0)
    return (
      <Alert title="This site is not on your phone">
        <Group justify="space-between">
          <Text size="sm">
            {size instanceof Error
              ? 'Its size is not known without a signal.'
              : size === undefined
                ? 'Asking for its size…'
                : `${counted(size.hives.length, 'hive')} with their visits: ${counted(size.rows, 'row')}, about ${shownBytes(size.bytes)}.`}
          </Text>
          <Button size="compact-md" disabled={size === undefined || size instanceof Error} onClick={take}>
            Take this site along
          </Button>
        </Group>
      </Alert>
    );
  return (
    <Group justify="space-between">
      <Text size="sm" c="dimmed">
        {isLeaving
          ? `${name} leaves this phone with the next sync.`
          : isHere
            ? `${name} is on your phone: ${counted(
                held.reduce((sum, { rows }) => sum + rows, 0),
                'row',
              )}.`
            : `${name} is coming.`}
      </Text>
      <Button size="compact-md" variant="default" disabled={isLeaving} onClick={leave}>
        Let it go
      </Button>
    </Group>
  );
}
