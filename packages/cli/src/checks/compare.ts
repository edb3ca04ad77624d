import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { httpTransport, openNodeDriver, openReplica, type Replica } from '@koinon/client';
import { type AnyRow, KoinonError, type Schema } from '@koinon/core';
import { counted, type Finding, findingsOf } from './finding.ts';

const { ok, failure } = findingsOf('together');

/** Rows that are compared at once, and ids that are named of each table. */
const together = 1_000;
const named = 3;
/** How often both are read: other devices may write in between. */
const mostRounds = 3;

/** Where the server answers, and who asks. */
interface Asked {
  readonly url: string;
  readonly token: string | undefined;
}

/**
 * Compares the rows of a replica with those that a new one gets from the server. A copy of the file is brought up to date, in a folder that
 * is deleted afterwards; nothing is sent. The server notes that a new replica has asked. Rows with edits that it has not confirmed are left
 * out.
 */
export async function compareRows(schema: Schema, file: string, asked: Asked): Promise<Finding[]> {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-check-'));
  const opened: Replica<Schema>[] = [];
  try {
    const driver = await openNodeDriver({ file, readOnly: true });
    try {
      driver.prepare('VACUUM INTO ?').all(join(folder, 'copy.db'));
    } finally {
      driver.close();
    }
    for (const name of ['copy.db', 'new.db'])
      opened.push(
        await openReplica({
          schema,
          file: join(folder, name),
          server: httpTransport(asked.url, asked.token === undefined ? {} : { token: () => asked.token as string }),
          sync: { when: { open: false, change: false, online: false, visible: false, timer: false }, live: false },
        }),
      );
    const [copy, fresh] = opened as [Replica<Schema>, Replica<Schema>];
    const differing = await differences(schema, copy, fresh);
    if (differing.size === 0) return [ok('rows-agree', 'The replica has the rows that the server has for it.')];
    return [...differing].map(([table, ids]) =>
      failure(
        'rows-differ',
        `${table}: ${counted(ids.length, 'row')} of the replica ${ids.length === 1 ? 'differs' : 'differ'} from the server's: ${ids.slice(0, named).join(', ')}${ids.length > named ? ', …' : ''}.`,
        'Keep a copy of the file, and report this. A new replica has the right rows.',
      ),
    );
  } catch (error) {
    if (!(error instanceof KoinonError)) throw error;
    return [failure(error.code, `The replica cannot be compared: ${error.message}`, 'See the other findings.')];
  } finally {
    for (const replica of opened) await replica.close();
    await rm(folder, { recursive: true, force: true });
  }
}

/** The ids of rows that differ in both rounds, by table. */
async function differences(
  schema: Schema,
  copy: Replica<Schema>,
  fresh: Replica<Schema>,
): Promise<ReadonlyMap<string, readonly string[]>> {
  let differing = new Map<string, readonly string[]>();
  for (let round = 0; round < mostRounds; round++) {
    for (const replica of [copy, fresh]) await replica.sync({ direction: 'pull' });
    const unsent = new Set(
      (await copy.outbox()).flatMap(({ changes }) => changes.map(({ table, id }) => `${table}/${id}`)),
    );
    differing = new Map();
    for (const [table, { home }] of Object.entries(schema.tables)) {
      if (home === 'device') continue;
      const ids: string[] = [];
      const [there, here] = [pages(fresh, table), pages(copy, table)];
      let [one, other] = [(await there.next()).value, (await here.next()).value];
      while (one !== undefined || other !== undefined) {
        // Both come in the order of their ids.
        const id = other === undefined || (one !== undefined && one.id <= other.id) ? (one?.id as string) : other.id;
        const [a, b] = [one?.id === id ? one : undefined, other?.id === id ? other : undefined];
        if (a?.text !== b?.text && !unsent.has(`${table}/${id}`)) ids.push(id);
        if (a !== undefined) one = (await there.next()).value;
        if (b !== undefined) other = (await here.next()).value;
      }
      if (ids.length > 0) differing.set(table, ids);
    }
    if (differing.size === 0) break;
  }
  return differing;
}

/** The rows of a table in the order of their ids, each as text. */
async function* pages(
  replica: Replica<Schema>,
  table: string,
): AsyncGenerator<{ readonly id: string; readonly text: string }, undefined> {
  for (let where: object = {}; ; ) {
    const query = { from: table, where, order: 'id', limit: together } as const;
    const rows: readonly unknown[] = await replica.rows(query);
    for (const row of rows as readonly AnyRow[])
      yield {
        id: row.id,
        text: JSON.stringify(row, (_name, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value)),
      };
    if (rows.length < together) return undefined;
    where = { id: { '>': (rows.at(-1) as AnyRow).id } };
  }
}
