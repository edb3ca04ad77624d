import { type Conflict, KoinonError, type Problem } from '@koinon/core';
import { singleRow } from '../database/holding-list.ts';
import { meta } from '../database/layout.ts';
import { argumentInvalid } from '../engine/arguments.ts';
import type { Engine } from '../engine/steps.ts';
import { type AnyInvocation, invocationsIn } from '../outbox/invocations.ts';
import type { QueuedTransaction } from '../outbox/outbox.ts';
import { transactionsOf } from '../outbox/transactions.ts';
import { isActive, storedHoldings } from '../sync/holdings.ts';
import { syncOwner } from '../sync/lease.ts';
import { invalidValuesIn } from '../sync/stored-values.ts';
import type { Holding, Rejection, ReplicaStatus } from './lists.ts';

// The reports of a replica about itself: loaded when it is asked. */

/** Its state. */
export function statusOf({ database, outbox, conflicts, host }: Omit<Engine, 'commit'>): ReplicaStatus {
  const position = meta(database, 'position');
  return {
    replicaId: meta(database, 'replica') as string,
    user: meta(database, 'user') ?? null,
    storage: database.driver.storage,
    pending: outbox.count('pending', 'attempted'),
    conflicted: conflicts.count(),
    rejected: outbox.count('rejected'),
    position: position === undefined ? null : Number(position),
    syncedAt: meta(database, 'synced at') ?? null,
    syncOwner: syncOwner(database, host),
    invalidValues: invalidValuesIn(database),
  };
}

/** The transactions that are not confirmed. */
function unconfirmedIn({ outbox }: Omit<Engine, 'commit'>): QueuedTransaction[] {
  return [...transactionsOf(outbox, 'pending', 'attempted', 'rejected')].map((transaction) => ({
    sequence: transaction.sequence,
    id: transaction.id,
    origin: transaction.origin,
    state: transaction.state,
    changes: transaction.changes,
    actions: transaction.actions,
    problems: transaction.problems,
    wasSent: transaction.wasSent,
    editedAt: new Date(transaction.editedAt).toISOString(),
  }));
}

/** The transactions that the server refused; several that went up as one are one refusal. */
function rejectionsOf({ outbox }: Omit<Engine, 'commit'>): Rejection[] {
  const found = new Map<
    string,
    { rows: Rejection['rows'][number][]; actions: Rejection['actions'][number][]; problems: Problem[] }
  >();
  for (const { id, changes, actions, problems } of transactionsOf(outbox, 'rejected')) {
    const known = found.get(id) ?? { rows: [], actions: [], problems: [] };
    found.set(id, known);
    known.problems.push(...problems);
    for (const { id: call, name, input } of actions) known.actions.push({ id: call, name, input });
    for (const change of changes)
      known.rows.push({
        table: change.table,
        id: change.id,
        columns: change.kind === 'delete' ? {} : change.columns,
        operations: change.kind === 'update' ? change.operations : {},
      });
  }
  return [...found].map(([transaction, refused]) => ({ transaction, ...refused }));
}

/** The size of the file, in bytes. */
export function sizeOf({ database }: Omit<Engine, 'commit'>): number {
  const pragma = (name: string) => Number(Object.values(database.once(`PRAGMA ${name}`)[0] as object)[0]);
  return pragma('page_count') * pragma('page_size');
}

/** Writes a compact copy. @throws KoinonError `storage-refused` where there is something already. */
export function copyOut({ database }: Omit<Engine, 'commit'>, file: string): void {
  if (file === '' || file === ':memory:') throw argumentInvalid('file', file, 'the path of a new file');
  try {
    database.statement('VACUUM INTO ?').run(file);
  } catch (error) {
    if (!/already exists/.test(String(error))) throw error;
    throw new KoinonError('storage-refused', `${file} is there already, and stays as it is; copy to a new file.`, {
      value: file,
      cause: error,
    });
  }
  // A copy is a replica of its own: it gets its identity where it is first opened.
  database.statement('ATTACH ? AS copy').run(file);
  try {
    database.driver.exec(
      "DELETE FROM copy.koinon_meta WHERE name IN ('replica', 'sync lease', 'user', 'name', 'uploads')",
    );
  } finally {
    database.driver.exec('DETACH copy');
  }
}

/** The bytes of a compact copy. @throws KoinonError `storage-unavailable` where the data is in a page's memory. */
export function copyOf(engine: Omit<Engine, 'commit'>): Uint8Array<ArrayBuffer> {
  const bytes = engine.database.driver.copy?.((file) => copyOut(engine, file));
  if (bytes === undefined)
    throw new KoinonError(
      'storage-unavailable',
      'A database in memory cannot be copied here. Export its rows with exportRows instead.',
    );
  return bytes;
}

/** The rows that are asked for by name. */
function holdingsIn({ database, schema, rows }: Omit<Engine, 'commit'>): readonly Holding[] {
  const stored = storedHoldings({ database, schema }).filter((holding) => singleRow(holding) === undefined);
  const active = new Set(stored.filter(isActive).map(({ name }) => name));
  // An earlier condition of a name leaves unseen.
  const shown = stored.filter((holding) => isActive(holding) || !active.has(holding.name));
  return [...new Map(shown.map((holding) => [holding.name, holding])).values()].map(({ name, from, where, state }) => ({
    ...{ id: name, from, where, state: state === 'dropping' ? 'leaving' : state },
    rows: rows.count({ from, ...(where && { where }) }),
  }));
}

/** The lists of a replica that are followed as a whole. */
export const lists = {
  conflicts: ({ conflicts }: Omit<Engine, 'commit'>): readonly Conflict[] => conflicts.list(),
  rejections: (engine: Omit<Engine, 'commit'>): readonly Rejection[] => rejectionsOf(engine),
  outbox: (engine: Omit<Engine, 'commit'>): readonly QueuedTransaction[] => unconfirmedIn(engine),
  invocations: ({ outbox }: Omit<Engine, 'commit'>): readonly AnyInvocation[] => invocationsIn(outbox),
  holdings: (engine: Omit<Engine, 'commit'>): readonly Holding[] => holdingsIn(engine),
};
