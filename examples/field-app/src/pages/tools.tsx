import { useRows } from '@koinon/react';
import { Button, Group, NumberInput, Paper, Text, TextInput } from '@mantine/core';
import { useState } from 'react';
import { signedInMember } from '../account.ts';
import { List } from '../parts/list.tsx';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';

/** One's own tools: rows that nobody else gets. */
export function ToolsPage() {
  const replica = useReplica();
  const member = signedInMember();
  const tools = useRows(replica, { from: 'tool', ...(member && { where: { member } }), order: 'name' });
  const [name, setName] = useState('');
  const add = () =>
    replica.insert('tool', { member: member ?? '', name }).then(() => {
      setName('');
      offerUndo(replica, 'The tool is on your list.');
    }, sayError);
  return (
    <Page title="My tools" back="/device" under="Nobody else gets this list.">
      {member !== null && (
        <Group align="flex-end" wrap="nowrap">
          <TextInput flex={1} label="New tool" value={name} onChange={(event) => setName(event.currentTarget.value)} />
          <Button disabled={name.trim() === ''} onClick={add}>
            Add
          </Button>
        </Group>
      )}
      <List label="My tools" shown={tools} empty="No tools yet.">
        {tools.rows.map(({ id, name: what, count }) => (
          <Paper key={id} component="li" withBorder p="sm" style={{ listStyle: 'none' }}>
            <Group justify="space-between" wrap="nowrap">
              <Text fw={600}>{what}</Text>
              <NumberInput
                w={90}
                min={0}
                aria-label={`How many of ${what}`}
                value={count}
                onChange={(value) =>
                  typeof value === 'number' && replica.update('tool', id, { count: value }).catch(sayError)
                }
              />
            </Group>
          </Paper>
        ))}
      </List>
    </Page>
  );
}
