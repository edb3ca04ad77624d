import { useInvocations, useRow, useRows } from '@koinon/react';
import { Alert, Button, Select, Stack, Text } from '@mantine/core';
import { useState } from 'react';
import { usePlace } from '../leaving.tsx';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';
import { Gone } from './site.tsx';

/** Asks the office to move a hive, with or without a signal; or corrects a move that the office has refused. */
export function MovePage({
  hive: asked,
  refused,
}: {
  readonly hive: string | undefined;
  readonly refused: string | undefined;
}) {
  const replica = useReplica();
  const { go } = usePlace();
  const [to, setTo] = useState<string | null>(null);
  const { rows: calls, ready: isListed } = useInvocations(replica);
  const call = calls.find(({ id, state }) => id === refused && state === 'refused');
  const id = asked ?? call?.input.hive;
  const { row: hive, ready } = useRow(replica, 'hive', id);
  const { rows: sites } = useRows(replica, { from: 'site', order: 'name' });
  if ((refused !== undefined && isListed && call === undefined) || (id !== undefined && ready && hive === undefined))
    return <Gone />;
  const back = refused === undefined ? `/hive/${id}` : '/waiting';
  const ask = async () => {
    if (hive === undefined || to === null) return;
    try {
      if (call !== undefined) {
        await replica.amend(call, { ...call.input, to });
        go(back);
        return;
      }
      const movement = crypto.randomUUID();
      await replica.invoke(
        'moveHive',
        { hive: hive.id, to, movement },
        {
          async locally(data) {
            const at = new Date().toISOString();
            await data.update('hive', hive.id, { site: to });
            await data.insert('movement', { id: movement, hive: hive.id, from: hive.site, to, at, number: 0 });
          },
        },
      );
      go(back);
      offerUndo(replica, `The office is asked to move hive ${hive.mark}.`);
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Page title={hive ? `Move hive ${hive.mark}` : ''} back={back}>
      <Stack>
        <Text>The office moves hives, and gives each move a number. Without a signal it is asked later.</Text>
        {call && (
          <Alert color="red" title="The office's rules say">
            {call.problems.map(({ message }) => message).join(' ')}
          </Alert>
        )}
        <Select
          label="To the site"
          searchable
          data={sites
            .filter(({ id: value }) => call !== undefined || value !== hive?.site)
            .map(({ id: value, name }) => ({ value, label: name }))}
          value={to}
          onChange={setTo}
        />
        <Button disabled={to === null} onClick={ask}>
          Ask the office
        </Button>
      </Stack>
    </Page>
  );
}
