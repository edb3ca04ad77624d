import { useLive, useRows } from '@koinon/react';
import { ActionIcon, Badge, SegmentedControl, TextInput } from '@mantine/core';
import { IconFlower, IconPlus, IconSearch } from '@tabler/icons-react';
import { useMemo, useState } from 'react';
import { isSparing } from '../account.ts';
import { usePlace } from '../leaving.tsx';
import { Entry, List } from '../parts/list.tsx';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { counted, forages } from '../words.ts';

/** How many hives a site has; of a site that was not taken along nobody knows. */
const hivesAt = (count: number | undefined) =>
  count === undefined && isSparing() ? [] : [counted(count ?? 0, 'hive')];

/** All sites, by name, with a search and a filter. */
export function SitesPage() {
  const replica = useReplica();
  const { go } = usePlace();
  const [search, setSearch] = useState('');
  const [which, setWhich] = useState('open');
  const sites = useRows(replica, {
    from: 'site',
    ...(which === 'all' ? {} : { where: { open: which === 'open' } }),
    order: 'name',
    join: { cared: { by: 'keeper' } },
  });
  const perSite = useMemo(
    () => replica.liveSummary({ from: 'hive', by: ['site'], measures: { hives: 'count' } }),
    [replica],
  );
  const { rows: counts } = useLive(perSite);
  const hives = useMemo(() => new Map(counts.map(({ site, hives }) => [site, hives])), [counts]);
  const wanted = search.trim().toLocaleLowerCase();
  const rows = sites.rows.filter(({ name, cared }) => `${name} ${cared?.name}`.toLocaleLowerCase().includes(wanted));
  return (
    <Page
      title="Sites"
      actions={
        <>
          <ActionIcon aria-label="Plants" onClick={() => go('/plants')}>
            <IconFlower />
          </ActionIcon>
          <ActionIcon variant="filled" aria-label="Add a site" onClick={() => go('/site/new')}>
            <IconPlus />
          </ActionIcon>
        </>
      }
    >
      <TextInput
        aria-label="Search sites or keepers"
        placeholder="Search sites or keepers"
        leftSection={<IconSearch size={18} aria-hidden />}
        value={search}
        onChange={(event) => setSearch(event.currentTarget.value)}
      />
      <SegmentedControl
        aria-label="Which sites"
        data={[
          { value: 'open', label: 'Open' },
          { value: 'closed', label: 'Closed' },
          { value: 'all', label: 'All' },
        ]}
        value={which}
        onChange={setWhich}
      />
      <List label="Sites" shown={{ ...sites, rows }} empty={search ? `No site matches “${search}”.` : 'No sites yet.'}>
        {rows.map(({ id, name, forage, open, cared }) => (
          <Entry
            key={id}
            to={`/site/${id}`}
            title={name}
            under={[...hivesAt(hives.get(id)), cared?.name ?? 'no keeper'].join(' · ')}
            marks={
              <>
                {!open && (
                  <Badge variant="outline" color="gray">
                    Closed
                  </Badge>
                )}
                <Badge variant="light">{forages[forage]}</Badge>
              </>
            }
          />
        ))}
      </List>
    </Page>
  );
}
