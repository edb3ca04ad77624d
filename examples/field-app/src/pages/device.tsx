import type { ReplicaStatus, StorageReport } from '@koinon/client';
import { Table, Text } from '@mantine/core';
import { useEffect, useState } from 'react';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { counted } from '../words.ts';

const megabytes = (bytes: number | null) =>
  bytes === null ? 'unknown' : bytes < 1e9 ? `${(bytes / 1e6).toFixed(1)} MB` : `${(bytes / 1e9).toFixed(1)} GB`;

/** What this device keeps, and where. */
export function DevicePage() {
  const replica = useReplica();
  const [known, setKnown] = useState<{ readonly status: ReplicaStatus; readonly storage: StorageReport }>();
  useEffect(() => {
    void Promise.all([replica.status(), replica.storage()]).then(([status, storage]) => setKnown({ status, storage }));
  }, [replica]);
  if (known === undefined) return null;
  const { status, storage } = known;
  const lines: [string, string][] = [
    ['Kept in', storage.kind === 'file' ? 'a database of this browser' : 'memory only'],
    ['Size of the database', megabytes(storage.size)],
    ['Used by this site', `${megabytes(storage.usage)} of ${megabytes(storage.quota)}`],
    [
      'When the device runs short of room',
      storage.isPersistent === null ? 'unknown' : storage.isPersistent ? 'it is kept' : 'the browser may remove it',
    ],
    ['Not sent anywhere yet', counted(status.pending, 'transaction')],
    ['Number of this replica', status.replicaId],
  ];
  return (
    <Page title="This device" back="/">
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
      <Text size="sm" c="dimmed">
        Everything works without a signal: the app and its data are on this device.
      </Text>
    </Page>
  );
}
