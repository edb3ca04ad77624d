import { KoinonError } from '@koinon/core';
import pg from 'pg';
import { together } from '../together.ts';

/** How long is waited for a connection, a new one or one that others use, in milliseconds. */
const connectWait = 20_000;

/** A transaction that cut connections, or others, keep getting in the way of is tried this often. */
export const mostTries = 10;

/** One process at a time looks at what a database lacks, and makes it. */
export const layoutLock = 'SELECT pg_advisory_xact_lock(5127301)';

/** Connections to a database. @param waits how long is waited for a connection, and for an answer, in milliseconds. */
export function openPool(
  url: string,
  max: number,
  waits: { readonly connection: number; readonly answer?: number } = { connection: connectWait },
): pg.Pool {
  const pool = new pg.Pool({
    connectionString: url,
    max,
    application_name: 'koinon',
    // A database that is gone without a word is noticed, and nobody waits for it for ever.
    keepAlive: true,
    // Statements that do not wait for each other's answers go out together: each answer that is waited for costs a round trip.
    pipeline: true,
    connectionTimeoutMillis: waits.connection,
    ...(waits.answer !== undefined && { query_timeout: waits.answer }),
    options: '-c DateStyle=ISO -c TimeZone=UTC -c client_min_messages=warning',
  });
  // A connection that broke while nobody used it is replaced when one is needed.
  pool.on('error', () => undefined);
  // One may break in the very moment in which it is handed out, and would end the process if nobody listened.
  pool.on('connect', (client) => client.on('error', () => undefined));
  return pool;
}

/** Does something with a database in one transaction, while nobody else works on it as a whole. @throws KoinonError `storage-refused`. */
export async function once<T>(url: string, work: (client: pg.PoolClient) => Promise<T>): Promise<T> {
  const pool = openPool(url, 1);
  try {
    return await inTransaction(pool, 'BEGIN', async (client) => {
      await client.query(layoutLock);
      return work(client);
    });
  } catch (error) {
    throw asRefused(error, url);
  } finally {
    await pool.end();
  }
}

/**
 * A connection with a transaction begun, and the row that the last statement of `begin` has returned. A connection that was cut while
 * nobody used it says so only now: another one is taken.
 */
async function begun<Row>(
  pool: pg.Pool,
  begin: string,
): Promise<{ readonly client: pg.PoolClient; readonly row: Row }> {
  for (let tries = 1; ; tries++) {
    const client = await pool.connect();
    try {
      // Several statements in one text have a result each.
      const results: unknown = await client.query(begin);
      const last = (Array.isArray(results) ? results.at(-1) : results) as pg.QueryResult;
      return { client, row: last.rows[0] as Row };
    } catch (error) {
      client.release(error as Error);
      if (tries === mostTries) throw error;
    }
  }
}

/**
 * Does something in a transaction on a connection of its own.
 *
 * @param begin begins the transaction. Where it reads as well, the row goes to the work: a statement of its own would cost a round trip.
 */
export function inTransaction<T, Row = undefined>(
  pool: pg.Pool,
  begin: string,
  work: (client: pg.PoolClient, row: Row) => Promise<T>,
): Promise<T> {
  return transacted(pool, begin, work, (ended) => ended);
}

/** The result of a transaction, and its last statement, which is on its way. */
export interface Ending<T> {
  readonly result: T;
  readonly last: Promise<void>;
}

/** The same for a transaction whose last statement goes out together with the commit. Should it fail, nothing is kept. */
export async function inTransactionWithEnding<T, Row = undefined>(
  pool: pg.Pool,
  begin: string,
  work: (client: pg.PoolClient, row: Row) => Promise<Ending<T>>,
): Promise<T> {
  const waitFor = async (ended: Promise<void>, { last }: Ending<T>) => void (await together(last, ended));
  return (await transacted(pool, begin, work, waitFor)).result;
}

/** Reads in a transaction on a connection of its own. Nobody waits for its end: there is nothing in it that could fail to be kept. */
export function inReadTransaction<T, Row = undefined>(
  pool: pg.Pool,
  begin: string,
  work: (client: pg.PoolClient, row: Row) => Promise<T>,
): Promise<T> {
  return transacted(pool, begin, work, (ended) => void ended.catch(() => undefined));
}

/** @param waitFor waits for the end of the transaction, as far as that is to be waited for. */
async function transacted<T, Row>(
  pool: pg.Pool,
  begin: string,
  work: (client: pg.PoolClient, row: Row) => Promise<T>,
  waitFor: (ended: Promise<void>, result: T) => Promise<void> | void,
): Promise<T> {
  const { client, row } = await begun<Row>(pool, begin);
  let broken: Error | undefined;
  // A connection that is cut between two queries says so by an event, which would end the process if nobody listened.
  const cut = (error: Error) => {
    broken = error;
  };
  client.on('error', cut);
  const rollBack = () =>
    client.query('ROLLBACK').catch((failure: Error) => {
      broken ??= failure;
    });
  const release = () => {
    client.off('error', cut);
    client.release(broken);
  };
  let result: T;
  try {
    result = await work(client, row);
  } catch (error) {
    await rollBack();
    release();
    throw error;
  }
  const ended = client
    .query('COMMIT')
    .then(() => undefined)
    .catch(async (error: unknown) => {
      await rollBack();
      throw error;
    })
    .finally(release);
  await waitFor(ended, result);
  return result;
}

/** The refusal of a database that cannot be opened. */
export function asRefused(error: unknown, url: string): unknown {
  if (error instanceof KoinonError) return error;
  // Without the password that may stand in it.
  const where = URL.canParse(url) ? new URL(url) : undefined;
  const named = where ? `${where.protocol}//${where.host}${where.pathname}` : 'That address';
  const { message, code, detail } = error as { message?: string; code?: string; detail?: string };
  return new KoinonError(
    'storage-refused',
    `${named} cannot be opened as the server's database: ${message || code}${detail ? ` (${detail})` : ''}.`,
    { cause: error },
  );
}
