import { openNodeDriver, openReplica } from '@koinon/client';
import { WebSocket } from 'ws';
import { opened } from './followers.ts';
import { bareWriter, prepareBare, type visit, visits } from './visits.ts';

// A device of the row `live-hop`, in a process of its own: what one still does with a write is in nobody's way elsewhere.

type Row = ReturnType<typeof visit>;

/** A message of a device: it is ready, it has begun to write, a row of the other one has arrived. Nanoseconds of the machine's clock. */
export type Told = { readonly ready: true } | { readonly began: string } | { readonly arrived: string };

const [kind, url, file] = process.argv.slice(2) as ['bare' | 'koinon', string, string];
const tell = (told: Told) => process.send?.(told);
const now = () => String(process.hrtime.bigint());

if (kind === 'bare') {
  const driver = await openNodeDriver({ file });
  prepareBare(driver);
  const device = bareWriter(driver);
  const socket = new WebSocket(url);
  await opened(socket);
  socket.on('message', (data) => {
    device.all([JSON.parse(String(data)) as Row]);
    tell({ arrived: now() });
  });
  process.on('message', (row: Row) => {
    tell({ began: now() });
    device.all([row]);
    socket.send(JSON.stringify(row));
  });
  process.once('disconnect', () => {
    socket.terminate();
    driver.close();
  });
} else {
  const device = await openReplica({ schema: visits, file, server: url, sync: { debounce: 0 } });
  for await (const { rows } of device.syncState()) if (rows[0]?.phase === 'live') break;
  device.listen('visit', ([event]) => event?.origin === 'server' && tell({ arrived: now() }));
  process.on('message', (row: Row) => {
    tell({ began: now() });
    void device.insert('visit', row);
  });
  process.once('disconnect', () => void device.close());
}
tell({ ready: true });
