import { openNodeDriver } from '@koinon/client';
import { postgresStore, startServer } from '@koinon/server';
import fastify from 'fastify';
import pg from 'pg';
import type { BenchRow } from './measure.ts';
import { startPostgres } from './postgres.ts';
import { served } from './served.ts';
import { columns, visit, visits } from './visits.ts';

// Queries that the server answers, against bare SQL over HTTP.

const [size, times, page] = [100_000, 500, 50];

/** The beginnings of the pages that are asked for, all over the table. */
const beginnings = Array.from({ length: times }, (_, n) => visit((n * 7_919) % (size - page)).id);

/** Asks for each page, one after the other; milliseconds for one of them. */
async function ask(url: string, body: (from: string) => unknown): Promise<number> {
  const began = performance.now();
  for (const from of beginnings) {
    const answer = await fetch(url, {
      method: 'POST',
      // Both sides write JSON as it is: what is compared is the query, not the compression.
      headers: { 'content-type': 'application/json', 'accept-encoding': 'identity' },
      body: JSON.stringify(body(from)),
    });
    const { rows } = (await answer.json()) as { rows: unknown[] };
    if (rows.length !== page) throw new Error(`${rows.length} rows came.`);
  }
  return (performance.now() - began) / times;
}

const query = (id: string) => ({
  rows: { from: 'visit', where: { id: { '>=': id } }, order: 'id', limit: page },
});

/** A server that does nothing but run one statement and write its rows. */
async function bareServer(rowsFrom: (id: string) => unknown[] | Promise<unknown[]>) {
  const app = fastify();
  app.post<{ Body: { from: string } }>('/rows', async ({ body }) => ({ rows: await rowsFrom(body.from) }));
  const url = await app.listen({ host: '127.0.0.1', port: 0 });
  return { url: `${url}/rows`, close: () => app.close() };
}

const inSqlite: BenchRow = {
  row: 'query-sqlite',
  unit: `ms/query of ${page} rows over HTTP`,
  reach: { most: 1.67 },
  async prepare() {
    const source = await served(size);
    const read = await openNodeDriver({ file: source.file });
    const statement = read.prepare(`SELECT ${columns.join(', ')} FROM visit WHERE id >= ? ORDER BY id LIMIT ${page}`);
    const bare = await bareServer((id) => statement.all(id));
    return {
      floor: () => ask(bare.url, (from) => ({ from })),
      koinon: () => ask(`${source.url}/v1/query`, query),
      async close() {
        await bare.close();
        read.close();
        await source.close();
      },
    };
  },
};

const inPostgres: BenchRow = {
  row: 'query-postgres',
  unit: `ms/query of ${page} rows over HTTP`,
  reach: { most: 1.67 },
  async prepare() {
    const { url, stop } = await startPostgres();
    const store = await postgresStore(visits, url);
    const pool = new pg.Pool({ connectionString: url });
    await pool.query(
      `TRUNCATE visit; INSERT INTO visit SELECT 'v-' || lpad(n::text, 9, '0'), 'hive-' || n % 997, now(), 'even', n % 20, 20 + n % 300, NULL
       FROM generate_series(0, ${size - 1}) n`,
    );
    await pool.query('ANALYZE visit');
    const text = `SELECT ${columns.join(', ')} FROM visit WHERE id >= $1 ORDER BY id LIMIT ${page}`;
    const bare = await bareServer(async (id) => (await pool.query(text, [id])).rows);
    const server = await startServer({ store, port: 0, requestsPerMinute: 1_000_000 });
    return {
      floor: () => ask(bare.url, (from) => ({ from })),
      koinon: () => ask(`${server.url}/v1/query`, query),
      async close() {
        await bare.close();
        await server.close();
        await pool.end();
        await stop();
      },
    };
  },
};

/** The rows `query-…`. */
export const queryRows: readonly BenchRow[] = [inSqlite, inPostgres];
