import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { served } from './served.ts';
import { columns, insertSql, prepareBare } from './visits.ts';

// The server of the rows `sync-upload`, in a process of its own, as it is anywhere: device and server work at the same time.

/** What the least server's rows are sent by: a batch is answered once it is committed durably. */
async function bareInserts(folder: string): Promise<string> {
  const table = await openNodeDriver({ file: join(folder, 'bare-server.db') });
  prepareBare(table, 'constraints');
  table.exec('PRAGMA synchronous = full');
  const insert = table.prepare(insertSql);
  const server = createServer(async (request, response) => {
    const rows = JSON.parse(await bodyOf(request)) as Record<string, string>[];
    table.exec('BEGIN IMMEDIATE');
    for (const row of rows) insert.run(...columns.map((name) => row[name] ?? null));
    table.exec('COMMIT');
    response.end('{}');
  });
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

async function bodyOf(request: IncomingMessage): Promise<string> {
  const parts: Buffer[] = [];
  for await (const part of request) parts.push(part as Buffer);
  return Buffer.concat(parts).toString();
}

const [kind, folder] = process.argv.slice(2) as ['bare' | 'koinon', string];
if (kind === 'bare') {
  const url = await bareInserts(folder);
  process.once('disconnect', () => process.exit());
  process.send?.(url);
} else {
  const source = await served(0);
  process.once('disconnect', () => void source.close().then(() => process.exit()));
  process.send?.(source.url);
}
