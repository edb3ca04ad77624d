import { useRow, useRows } from '@koinon/react';
import { ActionIcon, Badge, Button, Group, Paper, Text, Title } from '@mantine/core';
import { IconAlertTriangle, IconMinus, IconPencil, IconPlus, IconTrash, IconTruck } from '@tabler/icons-react';
import { useState } from 'react';
import { usePlace } from '../leaving.tsx';
import { Entry, List } from '../parts/list.tsx';
import { Page } from '../parts/page.tsx';
import { RowMark } from '../parts/row-mark.tsx';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';
import { broods, counted, manyMites, queens, shownDay, shownMoment } from '../words.ts';
import { Gone } from './site.tsx';

/** One hive: its frames of today, and its visits, newest first. */
export function HivePage({ id }: { readonly id: string }) {
  const replica = useReplica();
  const { go } = usePlace();
  const [limit, setLimit] = useState(20);
  const { row: hive, ready } = useRow(replica, 'hive', id);
  const { row: site } = useRow(replica, 'site', hive?.site);
  const visits = useRows(
    replica,
    { from: 'visit', where: { hive: id }, order: [['at', 'desc']], limit: limit + 1, join: { sync: 'status' } },
    { meanwhile: 'last' },
  );
  if (ready && hive === undefined) return <Gone />;
  const remove = async () => {
    try {
      await replica.transaction(async (transaction) => {
        const visits = await transaction.rows({ from: 'visit', where: { hive: id } });
        await transaction.deleteWhere('photo', { visit: { in: visits.map((visit) => visit.id) } });
        await transaction.deleteWhere('visit', { hive: id });
        await transaction.deleteWhere('harvest', { hive: id });
        await transaction.delete('hive', id);
      });
      go(`/site/${hive?.site}`);
      offerUndo(replica, `Hive ${hive?.mark} was deleted, with its visits.`);
    } catch (error) {
      sayError(error);
    }
  };
  const shown = visits.rows.slice(0, limit);
  return (
    <Page
      title={hive ? `Hive ${hive.mark}` : ''}
      back={hive ? `/site/${hive.site}` : '/'}
      under={hive && `${site?.name ?? ''} · ${queens[hive.queen]} · strength ${hive.strength} of 10`}
      actions={
        <>
          <ActionIcon aria-label="Move the hive" onClick={() => go(`/hive/${id}/move`)}>
            <IconTruck />
          </ActionIcon>
          <ActionIcon aria-label="Edit the hive" onClick={() => go(`/hive/${id}/edit`)}>
            <IconPencil />
          </ActionIcon>
          <ActionIcon aria-label="Delete the hive" color="red" onClick={remove}>
            <IconTrash />
          </ActionIcon>
        </>
      }
    >
      {hive?.notes && <Text>{hive.notes}</Text>}
      <Moves hive={id} />
      <Frames hive={id} />
      <Group justify="space-between">
        <Title order={2} size="h4">
          Visits
        </Title>
        <Button leftSection={<IconPlus size={18} aria-hidden />} onClick={() => go(`/hive/${id}/visit`)}>
          Add a visit
        </Button>
      </Group>
      <List label="Visits" shown={{ ...visits, rows: shown }} empty="No visits yet.">
        {shown.map((visit) => (
          <Entry
            key={visit.id}
            to={`/visit/${visit.id}`}
            title={shownMoment(visit.at)}
            under={[
              visit.queenSeen ? 'Queen seen' : 'Queen not seen',
              broods[visit.brood],
              visit.weight === null ? undefined : `${visit.weight} kg`,
              visit.notes ?? undefined,
            ]
              .filter((part) => part !== undefined)
              .join(' · ')}
            marks={
              <>
                <RowMark sync={visit.sync} />
                <Badge
                  leftSection={visit.mites >= manyMites && <IconAlertTriangle size={12} aria-hidden />}
                  variant={visit.mites >= manyMites ? 'filled' : 'light'}
                  color={visit.mites >= manyMites ? 'red.8' : 'gray'}
                >
                  {counted(visit.mites, 'mite')}
                </Badge>
              </>
            }
          />
        ))}
      </List>
      {visits.rows.length > limit && (
        <Button variant="default" onClick={() => setLimit(limit + 50)}>
          Show older visits
        </Button>
      )}
    </Page>
  );
}

/** The last move of a hive: one that the office has made, with its number, or one that it is asked for. */
function Moves({ hive }: { readonly hive: string }) {
  const replica = useReplica();
  const moves = useRows(replica, {
    from: 'movement',
    where: { hive },
    order: [['at', 'desc']],
    limit: 1,
    join: { sync: 'status', there: { by: 'to' } },
  });
  const [last] = moves.rows;
  if (last === undefined) return null;
  const words = {
    synced: `Move ${last.number}: to`,
    pending: 'The office is asked to move it to',
    conflicted: 'The office is asked to move it to',
    rejected: 'The office has refused to move it to',
  };
  return (
    <Group gap="xs">
      <Text>
        {words[last.sync.status]} {last.there?.name ?? last.to}, {shownMoment(last.at)}
      </Text>
      <RowMark sync={last.sync} />
    </Group>
  );
}

/** Counts today's harvested frames by tapping. The counts of several devices are summed. */
function Frames({ hive }: { readonly hive: string }) {
  const replica = useReplica();
  const day = new Date().toISOString().slice(0, 10);
  const harvests = useRows(replica, { from: 'harvest', where: { hive }, order: [['day', 'desc']], limit: 4 });
  const today = harvests.rows.find((harvest) => harvest.day === day);
  const earlier = harvests.rows.filter((harvest) => harvest.day !== day);
  const count = async (amount: number) => {
    try {
      // Inside a transaction, so that two quick taps do not begin the day twice.
      await replica.transaction(async (transaction) => {
        const [begun] = await transaction.rows({ from: 'harvest', where: { hive, day } });
        if (begun) await transaction.add('harvest', begun.id, 'frames', amount);
        else await transaction.insert('harvest', { hive, day, frames: amount });
      });
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Paper withBorder p="md" component="section" aria-label="Frames harvested today">
      <Group justify="space-between" wrap="nowrap">
        <div>
          <Text fw={600}>Frames today</Text>
          <Text size="sm" c="dimmed">
            {earlier.length === 0
              ? 'Nothing harvested before'
              : earlier.map(({ day: on, frames }) => `${shownDay(on)}: ${frames}`).join(' · ')}
          </Text>
        </div>
        <Group gap="sm" wrap="nowrap">
          <ActionIcon
            variant="default"
            size={52}
            aria-label="One frame less"
            disabled={(today?.frames ?? 0) === 0}
            onClick={() => count(-1)}
          >
            <IconMinus />
          </ActionIcon>
          <Text fz={32} fw={700} miw={44} ta="center" aria-live="polite" data-testid="frames">
            {today?.frames ?? 0}
          </Text>
          <ActionIcon variant="filled" size={52} aria-label="One frame more" onClick={() => count(1)}>
            <IconPlus />
          </ActionIcon>
        </Group>
      </Group>
    </Paper>
  );
}
