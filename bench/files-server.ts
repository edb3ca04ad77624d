import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { open } from 'node:fs/promises';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { folderStorage, sqliteStore, startServer } from '@koinon/server';
import { album } from './album.ts';

// The servers of the rows `files`, in a process of its own: Koinon's, and the least one that takes a content with its digest.

const [folder] = process.argv.slice(2) as [string];
const path = join(folder, 'bare-content');
const bare = createServer(async (request, response) => {
  if (request.method === 'GET') return void (await pipeline(createReadStream(path), response));
  const hash = createHash('sha256');
  const hashing = new Transform({
    transform(chunk: Buffer, _encoding, done) {
      hash.update(chunk);
      done(null, chunk);
    },
  });
  await pipeline(request, hashing, createWriteStream(path));
  const handle = await open(path, 'r+');
  await handle.sync();
  await handle.close();
  response.end(hash.digest('hex'));
});
await new Promise<void>((done) => bare.listen(0, '127.0.0.1', done));
const server = await startServer({
  store: await sqliteStore(album, join(folder, 'server.db')),
  port: 0,
  requestsPerMinute: 1_000_000,
  files: folderStorage(join(folder, 'server-files')),
});
process.on('message', () => process.send?.({ most: process.resourceUsage().maxRSS / 1e3 }));
process.once('disconnect', () => void server.close().then(() => process.exit()));
process.send?.({
  bare: `http://127.0.0.1:${(bare.address() as AddressInfo).port}`,
  url: server.url,
  idle: process.memoryUsage().rss / 1e6,
});
