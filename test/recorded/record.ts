// Records files and an exchange of this version, which later versions have to read and to answer (test/sync/recorded.test.ts):
//   npx tsx --conditions=koinon-source test/recorded/record.ts version-1
// Each version of the protocol, of a replica's own tables and of a server's own tables is recorded once.
import { mkdir, mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { openNodeDriver, openReplica } from '@koinon/client';
import { sqliteStore, startServer } from '@koinon/server';
import { byHand, recorded, type Step } from './schema.ts';

const target = join(import.meta.dirname, process.argv[2] ?? 'version-1');
const folder = await mkdtemp(join(tmpdir(), 'koinon-recording-'));
const [server, replica] = [join(folder, 'server.db'), join(folder, 'replica.db')];
const serving = async () => startServer({ store: await sqliteStore(recorded, server), port: 0 });
const open = (url: string, file: string) => openReplica({ schema: recorded, file, server: url, sync: byHand });

// The server's file as it is before the exchange.
let running = await serving();
const first = await open(running.url, join(folder, 'first.db'));
await first.insertAll('bed', [
  { id: 'b1', name: 'north' },
  { id: 'b2', name: 'south', sunny: false },
]);
await first.insertAll('plant', [
  { id: 'p1', bed: 'b1', kind: 'herb', label: 'sage', height: 20, tags: ['old'] },
  { id: 'p2', bed: 'b2', kind: 'tree', label: 'plum', picture: new Uint8Array([1, 2, 3]) },
  { id: 'p3', bed: 'b2', kind: 'flower', label: 'aster' },
]);
await first.sync();
await first.close();
await running.close();
await mkdir(target);
const pack = async (from: string, name: string) => writeFile(join(target, name), gzipSync(await readFile(from)));
await pack(server, 'server.db.gz');

// The exchange of one replica with it.
const steps: Step[] = [];
const far = globalThis.fetch;
globalThis.fetch = async (input, init) => {
  const response = await far(input, init);
  const path = new URL(String(input)).pathname + new URL(String(input)).search;
  const body = typeof init?.body === 'string' ? init.body : null;
  steps.push({ path, body, status: response.status, answer: await response.clone().text() });
  return response;
};
const other = async (sql: string) => {
  const shell = await openNodeDriver({ file: server });
  shell.exec(sql);
  shell.close();
  steps.push({ sql });
};
running = await serving();
const device = await open(running.url, replica);
await device.sync();
await device.insert('plant', { id: 'p4', bed: 'b1', kind: 'herb', label: 'thyme' });
await device.update('plant', 'p1', { height: 25 });
await device.add('plant', 'p1', 'watered', 2);
await device.include('plant', 'p1', 'tags', 'new');
await device.delete('plant', 'p3');
await device.insert('bed', { id: 'b3', name: 'north' }).catch(() => undefined);
await device.sync();
await device.update('plant', 'p2', { label: 'plum, device' });
await other("UPDATE plant SET label = 'plum, office' WHERE id = 'p2'");
await device.sync();
await device.trash();
await fetch(`${running.url}/v1/feed`);
// The file of a replica with a conflict and with changes that are not sent.
await device.update('plant', 'p4', { height: 7 });
await device.insert('bed', { id: 'b4', name: 'west' });
await device.close();
await running.close();
await pack(replica, 'replica.db.gz');
await pack(server, 'server-after.db.gz');
await writeFile(join(target, 'exchange.json'), `${JSON.stringify(steps, null, 1)}\n`);
await rm(folder, { recursive: true });
