import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { httpTransport, openNodeDriver, openReplica, type Replica } from '@koinon/client';
import { type AnyRow, KoinonError, type Query, type Schema } from '@koinon/core';
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
      const found = new Set([...(await others(fresh, copy, table)), ...(await others(copy, fresh, table))]);
      const ids = [...found].filter((id) => !unsent.has(`${table}/${id}`));
      if (ids.length > 0) differing.set(table, ids);
    }
    if (differing.size === 0) break;
  }
  return differing;
}

/** The ids of rows of one replica that are not so in another one. */
async function others(one: Replica<Schema>, other: Replica<Schema>, table: string): Promise<readonly string[]> {
  const found: string[] = [];
  for (let where: object = {}; ; ) {
    const rows = await textsOf(one, { from: table, where, order: 'id', limit: together });
    const ids = [...rows.keys()];
    const same = await textsOf(other, { from: table, where: { id: { in: ids } } });
    found.push(...ids.filter((id) => rows.get(id) !== same.get(id)));
    if (ids.length < together) return found;
    where = { id: { '>': ids.at(-1) } };
  }
}

/** Rows as texts, by their ids. */
async function textsOf(replica: Replica<Schema>, query: Query<Schema, string>): Promise<Map<string, string>> {
  const rows: readonly unknown[] = await replica.rows(query);
  const text = (row: unknown) =>
    JSON.stringify(row, (_name, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value));
  return new Map((rows as readonly AnyRow[]).map((row) => [row.id, text(row)]));
}
