import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { createServerTable } from '@koinon/core/internal';
import { served } from './served.ts';
import { columns, insertSql, prepareBare } from './visits.ts';

// The server of the rows `sync-upload`, in a process of its own, as it is anywhere: device and server work at the same time.

/**
 * The least server that applies each transaction once: a receipt, and of each row a record for those who follow. A batch is
 * answered once it is committed durably.
 */
async function bareInserts(folder: string): Promise<string> {
  const table = await openNodeDriver({ file: join(folder, 'bare-server.db') });
  prepareBare(table, createServerTable);
  table.exec('PRAGMA synchronous = full');
  table.exec('CREATE TABLE receipt (id TEXT PRIMARY KEY NOT NULL, outcome TEXT NOT NULL, position INTEGER)');
  table.exec(
    'CREATE TABLE stamp (table_name TEXT NOT NULL, row_id TEXT NOT NULL, position INTEGER NOT NULL, edited_at INTEGER NOT NULL, receipt TEXT, PRIMARY KEY (table_name, row_id)) WITHOUT ROWID',
  );
  table.exec('CREATE UNIQUE INDEX stamp_position ON stamp (position)');
  const insert = table.prepare(insertSql);
  const receipt = table.prepare("INSERT INTO receipt VALUES (?, 'applied', ?) ON CONFLICT DO NOTHING");
  const stamp = table.prepare("INSERT INTO stamp VALUES ('visit', ?, ?, ?, ?)");
  let position = 0;
  const server = createServer(async (request, response) => {
    const transactions = JSON.parse(await bodyOf(request)) as BareTransaction[];
    table.exec('BEGIN IMMEDIATE');
    for (const { id, editedAt, rows } of transactions) {
      if (receipt.run(id, position + rows.length).changes === 0) continue;
      for (const row of rows) {
        insert.run(...columns.map((name) => row[name] ?? null));
        stamp.run(row.id ?? null, ++position, editedAt, id);
      }
    }
    table.exec('COMMIT');
    response.end(JSON.stringify(transactions.map(({ id }) => ({ id, outcome: 'applied' }))));
  });
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

/** A transaction as the least device sends it. */
interface BareTransaction {
  readonly id: string;
  readonly editedAt: number;
  readonly rows: readonly Record<string, string>[];
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
