import { useRow, useRows } from '@koinon/react';
import { ActionIcon, Badge, SegmentedControl, Text, TextInput } from '@mantine/core';
import { IconAlertTriangle, IconPencil, IconPlus, IconSearch, IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import { isSparing } from '../account.ts';
import { usePlace } from '../leaving.tsx';
import { Forecast } from '../parts/forecast.tsx';
import { Entry, List } from '../parts/list.tsx';
import { Page } from '../parts/page.tsx';
import { RowMark } from '../parts/row-mark.tsx';
import { TakeAlong } from '../parts/take-along.tsx';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';
import { counted, forages, queens } from '../words.ts';

/** One site and its hives. */
export function SitePage({ id }: { readonly id: string }) {
  const replica = useReplica();
  const { go } = usePlace();
  const [search, setSearch] = useState('');
  const [queen, setQueen] = useState('all');
  const { row: site, ready } = useRow(replica, 'site', id);
  const { row: keeper } = useRow(replica, 'member', site?.keeper);
  const hives = useRows(
    replica,
    {
      from: 'hive',
      where: {
        site: id,
        ...(search.trim() === '' ? {} : { mark: { prefix: search.trim().toUpperCase() } }),
        ...(queen === 'all' ? {} : { queen: queen as keyof typeof queens }),
      },
      order: 'mark',
      join: { sync: 'status' },
    },
    { meanwhile: 'last' },
  );
  if (ready && site === undefined) return <Gone />;
  const remove = async () => {
    try {
      await replica.delete('site', id);
      go('/');
      offerUndo(replica, `${site?.name} was deleted.`);
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Page
      title={site?.name ?? ''}
      back="/"
      under={site && `${forages[site.forage]} · ${keeper?.name ?? ''}`}
      actions={
        <>
          <ActionIcon aria-label="Edit the site" onClick={() => go(`/site/${id}/edit`)}>
            <IconPencil />
          </ActionIcon>
          <ActionIcon aria-label="Delete the site" color="red" onClick={remove}>
            <IconTrash />
          </ActionIcon>
          <ActionIcon variant="filled" aria-label="Add a hive" onClick={() => go(`/site/${id}/hive`)}>
            <IconPlus />
          </ActionIcon>
        </>
      }
    >
      {site && <Forecast site={id} />}
      {site && isSparing() && <TakeAlong site={site} />}
      <TextInput
        aria-label="Search by mark"
        placeholder="Search by mark"
        leftSection={<IconSearch size={18} aria-hidden />}
        value={search}
        onChange={(event) => setSearch(event.currentTarget.value)}
      />
      <SegmentedControl
        aria-label="Which queens"
        data={[
          { value: 'all', label: 'All' },
          { value: 'marked', label: 'Marked' },
          { value: 'unmarked', label: 'Unmarked' },
          { value: 'missing', label: 'No queen' },
        ]}
        value={queen}
        onChange={setQueen}
      />
      <List
        label="Hives"
        shown={hives}
        empty={search === '' && queen === 'all' ? 'No hive is on this device.' : 'No hive matches.'}
      >
        {hives.rows.map((hive) => (
          <Entry
            key={hive.id}
            to={`/hive/${hive.id}`}
            title={`Hive ${hive.mark}`}
            under={`Strength ${hive.strength} of 10${hive.notes ? ` · ${hive.notes}` : ''}`}
            marks={
              <>
                <RowMark sync={hive.sync} />
                <Badge
                  leftSection={hive.queen === 'missing' && <IconAlertTriangle size={12} aria-hidden />}
                  variant={hive.queen === 'missing' ? 'filled' : 'light'}
                  color={hive.queen === 'missing' ? 'red.8' : 'teal'}
                >
                  {queens[hive.queen]}
                </Badge>
              </>
            }
          />
        ))}
      </List>
      {hives.ready && hives.rows.length > 0 && (
        <Text size="sm" c="dimmed">
          {counted(hives.rows.length, 'hive')}
        </Text>
      )}
    </Page>
  );
}

/** The text for something that is not there, or no longer. */
export function Gone() {
  return (
    <Page title="Not here any more" back="/">
      <Text>It was deleted, or the address is wrong.</Text>
    </Page>
  );
}
