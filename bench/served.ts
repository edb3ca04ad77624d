import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, type SqlDriver } from '@koinon/client';
import { sqliteStore, startServer } from '@koinon/server';
import { fill, visits } from './visits.ts';

/** A folder for one row of the bench. */
export const folderOf = () => mkdtempSync(join(tmpdir(), 'koinon-bench-'));

/** A server's file with visits in it, and a way to fresh files for devices beside it. */
export async function served(size: number) {
  const folder = folderOf();
  const file = join(folder, 'server.db');
  const store = await sqliteStore(visits, file);
  const office = await openNodeDriver({ file });
  fill(office, size);
  const server = await startServer({ store, port: 0, requestsPerMinute: 1_000_000 });
  let devices = 0;
  return {
    file,
    office,
    url: server.url,
    device: () => join(folder, `device-${++devices}.db`),
    async close() {
      office.close();
      await server.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

const pulls = 20;

/** How long a pull takes of ten rows that another program has just changed, in ms. @param idOf one of the rows that may be changed. */
export async function timePulls(
  office: SqlDriver,
  idOf: (n: number) => string,
  sync: () => Promise<unknown>,
): Promise<number> {
  let spent = 0;
  for (let n = 0; n < pulls; n++) {
    const ids = Array.from({ length: 10 }, (_, i) => `'${idOf((n * 41 + i * 83) % 1_000)}'`);
    office.exec(`UPDATE visit SET mites = mites + 1 WHERE id IN (${ids.join(', ')})`);
    const began = performance.now();
    await sync();
    spent += performance.now() - began;
  }
  return spent / pulls;
}
