import { KoinonError } from '@koinon/core';
import { useRows } from '@koinon/react';
import { Alert, Badge, Group, Paper, Select, Text, TextInput } from '@mantine/core';
import { IconCloudOff, IconSearch } from '@tabler/icons-react';
import { useState } from 'react';
import { List } from '../parts/list.tsx';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { counted, places, shownMonth } from '../words.ts';

/** As many are asked for at once. */
const most = 50;

const months = Array.from({ length: 12 }, (_, n) => ({ value: String(n + 1), label: shownMonth(n + 1) }));

/** The catalogue of plants: the server holds it, and is asked. */
export function PlantsPage() {
  const replica = useReplica();
  const [search, setSearch] = useState('');
  const [month, setMonth] = useState(String(new Date().getMonth() + 1));
  const wanted = search.trim();
  const first = wanted.charAt(0).toLocaleUpperCase() + wanted.slice(1).toLocaleLowerCase();
  const plants = useRows(
    replica,
    {
      from: 'plant',
      where: {
        ...(wanted === ''
          ? {}
          : { or: [{ name: { prefix: first } }, { name: { contains: wanted.toLocaleLowerCase() } }] }),
        // The winter honeysuckle blooms from December to March.
        ...(month === '' ? {} : { and: [inBloom(Number(month))] }),
      },
      order: [['nectar', 'desc'], 'name'],
      limit: most,
    },
    { meanwhile: 'last' },
  );
  return (
    <Page
      title="Plants for bees"
      back="/"
      under="The office keeps the catalogue. It is looked up where there is a signal."
    >
      <Group wrap="nowrap" align="flex-end">
        <TextInput
          flex={1}
          label="Name"
          placeholder="Search plants"
          leftSection={<IconSearch size={18} aria-hidden />}
          value={search}
          onChange={(event) => setSearch(event.currentTarget.value)}
        />
        <Select
          w={150}
          allowDeselect={false}
          label="In bloom"
          data={[{ value: '', label: 'All year' }, ...months]}
          value={month}
          onChange={(value) => setMonth(value ?? '')}
        />
      </Group>
      {plants.error && (
        <Alert icon={<IconCloudOff aria-hidden />} title="The catalogue is out of reach">
          {plants.error instanceof KoinonError && plants.error.code === 'not-linked'
            ? 'This field book has no server, which would keep the catalogue.'
            : `${plants.ready ? 'What is below may be old. ' : ''}It is looked up again by itself when there is a signal.`}
        </Alert>
      )}
      {(plants.error === undefined || plants.ready) && (
        <List label="Plants" shown={{ ...plants, error: undefined }} empty="No plant matches.">
          {plants.rows.map(({ id, name, blooms, until, nectar, pollen, grows }) => (
            <Paper key={id} component="li" withBorder p="sm" style={{ listStyle: 'none' }}>
              <Group justify="space-between" gap="xs">
                <div>
                  <Text fw={600}>{name}</Text>
                  <Text size="sm" c="dimmed">
                    {shownMonth(blooms)} to {shownMonth(until)} · {places[grows]}
                  </Text>
                </div>
                <Group gap="xs">
                  <Badge variant="light">{`Nectar ${nectar} of 4`}</Badge>
                  <Badge variant="light">{`Pollen ${pollen} of 4`}</Badge>
                </Group>
              </Group>
            </Paper>
          ))}
        </List>
      )}
      {plants.ready && plants.rows.length > 0 && (
        <Text size="sm" c="dimmed">
          {plants.rows.length < most ? counted(plants.rows.length, 'plant') : `The first ${most} plants`}
        </Text>
      )}
    </Page>
  );
}

/** The plants that are in bloom in a month: of some the months go over the end of the year. */
const inBloom = (month: number) => ({
  or: [
    { blooms: { '<=': month }, until: { '>=': month } },
    ...[10, 11, 12].flatMap((begins) => [
      { blooms: begins, until: { between: [month, begins - 1] as const } },
      ...(month >= begins ? [{ blooms: begins, until: { '<': begins } }] : []),
    ]),
  ],
});
