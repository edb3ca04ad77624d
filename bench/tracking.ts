import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { postgresStore, sqliteStore, startServer } from '@koinon/server';
import pg from 'pg';
import { followers, until } from './followers.ts';
import type { BenchRow } from './measure.ts';
import { startPostgres } from './postgres.ts';
import { folderOf } from './served.ts';
import { visits } from './visits.ts';

// Other programs that write the server's database: what being followed costs them, and how soon they are.

/** The cost of the feed's triggers for an update. */
function tracked(size: number, times: number, most: number): BenchRow {
  return {
    row: `sync-tracked-${size}`,
    unit: `ms/update of ${size} rows, PostgreSQL`,
    reach: { most },
    async prepare() {
      const { url, stop } = await startPostgres();
      const store = await postgresStore(visits, url);
      const client = new pg.Client({ connectionString: url });
      await client.connect();
      await client.query(
        'DROP TABLE IF EXISTS untracked; TRUNCATE visit; CREATE TABLE untracked (LIKE visit INCLUDING ALL)',
      );
      const rows = `SELECT 'v-' || n, 'hive-' || n % 997, now(), 'even', n % 20, 20 + n % 300, NULL FROM generate_series(1, ${Math.max(size, 20_000)}) n`;
      await client.query(`INSERT INTO visit ${rows}; INSERT INTO untracked ${rows}`);
      let round = 0;
      const time = async (table: string) => {
        // Each round finds the table as the other side does: without the dead rows of the rounds before.
        for (const each of [table, 'koinon.stamp']) await client.query(`VACUUM ANALYZE ${each}`);
        const start = performance.now();
        for (let n = 0; n < times; n++) {
          round++;
          await client.query(
            size === 1
              ? `UPDATE ${table} SET mites = mites + 1 WHERE id = 'v-${1 + (round % 20_000)}'`
              : `UPDATE ${table} SET mites = mites + 1`,
          );
        }
        return (performance.now() - start) / times;
      };
      return {
        floor: () => time('untracked'),
        koinon: () => time('visit'),
        async close() {
          await client.end();
          await store.close();
          await stop();
        },
      };
    },
  };
}

const edits = 40;

/** From another program's commit on the server's database until a replica's connection has the row. */
function directWrite(kind: 'sqlite' | 'postgres'): BenchRow {
  return {
    row: `direct-write-${kind}`,
    unit: 'ms',
    rounds: 3,
    async prepare() {
      const folder = folderOf();
      const postgres = kind === 'postgres' ? await startPostgres() : undefined;
      const file = join(folder, 'server.db');
      const store = postgres ? await postgresStore(visits, postgres.url) : await sqliteStore(visits, file);
      const server = await startServer({ store, port: 0 });
      const office = postgres ? new pg.Client({ connectionString: postgres.url }) : await openNodeDriver({ file });
      if (office instanceof pg.Client) await office.connect();
      let next = 0;
      const write = async () => {
        const sql = `INSERT INTO visit (id, hive, at, brood, mites) VALUES ('direct-${process.pid}-${next++}', 'h', '2026-06-01T10:00:00.000Z', 'even', 1)`;
        if (office instanceof pg.Client) await office.query(sql);
        else office.exec(sql);
      };
      const following = await followers(server.url, 1);
      const median = async (work: () => Promise<void>) => {
        const times: number[] = [];
        for (let n = 0; n < edits; n++) {
          // At any moment between two looks of the server.
          await new Promise((done) => setTimeout(done, (n * 37) % 160));
          const began = performance.now();
          await work();
          times.push(performance.now() - began);
        }
        return times.sort((a, b) => a - b)[edits >> 1] as number;
      };
      return {
        floor: () => median(write),
        koinon: () =>
          median(async () => {
            const before = following.rows();
            await write();
            await until(() => following.rows() > before);
          }),
        async close() {
          following.close();
          if (office instanceof pg.Client) await office.end();
          else office.close();
          await server.close();
          await postgres?.stop();
          rmSync(folder, { recursive: true, force: true });
        },
      };
    },
  };
}

/** The rows about programs that write directly. */
export const trackingRows: readonly BenchRow[] = [
  tracked(20_000, 1, 2.5),
  tracked(1, 500, 1.5),
  directWrite('sqlite'),
  directWrite('postgres'),
];
