import type { DeviceFinding, ReplicaStatus, StorageReport, SyncRun, TableTraffic } from '@koinon/client';
import { useSyncState } from '@koinon/react';
import { Button, Group, Progress, Table, Text, Title } from '@mantine/core';
import { useEffect, useState } from 'react';
import { usePlace } from '../leaving.tsx';
import { Account } from '../parts/account.tsx';
import { Page } from '../parts/page.tsx';
import { syncWords } from '../parts/sync-mark.tsx';
import { useReplica } from '../replica.ts';
import { sayError } from '../undo.tsx';
import { counted, shownBytes, shownMoment } from '../words.ts';

const megabytes = (bytes: number | null) => (bytes === null ? 'unknown' : shownBytes(bytes));

/** The rows that this device keeps, and its state with the server. */
export function DevicePage() {
  const replica = useReplica();
  const sync = useSyncState(replica);
  const [known, setKnown] = useState<{ readonly status: ReplicaStatus; readonly storage: StorageReport }>();
  useEffect(() => {
    void Promise.all([replica.status(), replica.storage()]).then(([status, storage]) => setKnown({ status, storage }));
  }, [replica]);
  if (known === undefined || sync === undefined) return null;
  const { status, storage } = known;
  return (
    <Page title="This device" back="/" under={syncWords(sync)}>
      <Account />
      {sync.phase !== 'stopped' && <Server />}
      <Facts
        lines={[
          ['Kept in', storage.kind === 'file' ? 'a database of this browser' : 'memory only'],
          ['Size of the database', megabytes(storage.size)],
          ['Used by this site', `${megabytes(storage.usage)} of ${megabytes(storage.quota)}`],
          [
            'When the device runs short of room',
            storage.isPersistent === null
              ? 'unknown'
              : storage.isPersistent
                ? 'it is kept'
                : 'the browser may remove it',
          ],
          ['Not sent yet', counted(sync.pending, 'edit')],
          ['Number of this replica', status.replicaId],
        ]}
      />
      <Findings />
      <Text size="sm" c="dimmed">
        Everything works without a signal: the app and its data are on this device.
      </Text>
    </Page>
  );
}

/** What is wrong with this device, if anything is, and what mends it. */
function Findings() {
  const replica = useReplica();
  const sync = useSyncState(replica);
  const [findings, setFindings] = useState<readonly DeviceFinding[]>([]);
  useEffect(() => {
    void replica.check().then(setFindings);
  }, [replica, sync?.phase, sync?.syncedAt, sync?.pending]);
  const wrong = findings.filter(({ level }) => level !== 'ok');
  if (wrong.length === 0) return null;
  return (
    <>
      <Title order={2} size="h4">
        To look at
      </Title>
      <Facts lines={wrong.map(({ message, cure }) => [message, (cure ?? '').replaceAll('`', '')])} />
    </>
  );
}

/** How it goes with the server, and what can be done about it. */
function Server() {
  const replica = useReplica();
  const { go } = usePlace();
  const sync = useSyncState(replica);
  const [runs, setRuns] = useState<readonly SyncRun[]>([]);
  const syncedAt = sync?.syncedAt;
  useEffect(() => {
    void replica.journal(8).then(setRuns);
  }, [replica, syncedAt, sync?.error]);
  if (sync === undefined) return null;
  const isPaused = sync.phase === 'paused';
  const isOff = sync.phase === 'unlinked';
  const down = sync.progress?.down;
  return (
    <>
      <Group>
        <Button disabled={isOff} onClick={() => replica.sync().catch(sayError)}>
          Sync now
        </Button>
        <Button
          variant="default"
          disabled={isOff}
          onClick={() => (isPaused ? replica.resumeSync() : replica.pauseSync())}
        >
          {isPaused ? 'Go on syncing' : 'Pause'}
        </Button>
        {sync.conflicted + sync.rejected + sync.pending > 0 && (
          <Button variant="light" onClick={() => go('/waiting')}>
            {sync.conflicted + sync.rejected > 0 ? 'Decide' : 'What waits'}
          </Button>
        )}
        <Button variant="default" onClick={() => go('/trash')}>
          Trash
        </Button>
        <Button variant="default" onClick={() => go('/tools')}>
          My tools
        </Button>
      </Group>
      {down?.of != null && down.of > 0 && (
        <Progress value={(down.done / down.of) * 100} aria-label="Rows fetched" size="lg" />
      )}
      <Facts
        lines={[
          ['Last in step with the server', sync.syncedAt === null ? 'never yet' : shownMoment(sync.syncedAt)],
          ['Last problem', sync.error?.message ?? 'none'],
          ['Edits in conflict, refused', `${sync.conflicted}, ${sync.rejected}`],
        ]}
      />
      <Title order={2} size="h4">
        Last syncs
      </Title>
      <Table.ScrollContainer minWidth={340}>
        <Table>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>When, why</Table.Th>
              <Table.Th>Received</Table.Th>
              <Table.Th>Sent</Table.Th>
              <Table.Th ta="right">kB</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {runs.map((run) => (
              <Table.Tr key={run.at}>
                <Table.Td>
                  {shownMoment(run.at)}
                  <Text size="sm" c={run.error ? 'red' : 'dimmed'}>
                    {run.error ? run.error.code : run.reason}
                  </Text>
                </Table.Td>
                <Table.Td>{moved(run.down)}</Table.Td>
                <Table.Td>{moved(run.up)}</Table.Td>
                <Table.Td ta="right">{((run.bytes.down + run.bytes.up) / 1000).toFixed(1)}</Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
    </>
  );
}

const moved = (tables: Readonly<Record<string, TableTraffic>>) =>
  Object.entries(tables)
    .map(([table, traffic]) => counted(traffic.insert + traffic.update + traffic.delete + (traffic.leave ?? 0), table))
    .join(', ') || '–';

function Facts({ lines }: { readonly lines: readonly (readonly [string, string])[] }) {
  return (
    <Table>
      <Table.Tbody>
        {lines.map(([what, value]) => (
          <Table.Tr key={what}>
            <Table.Th scope="row" w="40%">
              {what}
            </Table.Th>
            <Table.Td style={{ wordBreak: 'break-word' }}>{value}</Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}
