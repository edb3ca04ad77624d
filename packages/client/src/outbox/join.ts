import { type Change, changeToWire, joinChanges, type Schema, tableOf } from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Host } from '../host/host.ts';
import type { ConflictList } from '../overlay/conflict-list.ts';
import { ready } from './batch.ts';
import type { Outbox, QueuedTransaction } from './outbox.ts';

/** What joining works on, inside a transaction. */
export interface Joining {
  readonly schema: Schema;
  readonly outbox: Outbox;
  readonly conflicts: ConflictList;
  readonly database: Database;
  readonly host: Pick<Host, 'newId'>;
}

/** Changes that are joined into one transaction at most. */
const mostJoined = 5_000;

/**
 * Joins the next transactions that are to be sent into one, so that only the latest state of each row goes up: those that
 * were never sent and follow on each other, whole. What was sent keeps its content, since its outcome may be unknown.
 */
export function joinNext({ schema, outbox, conflicts, database, host }: Joining): void {
  const run: QueuedTransaction[] = [];
  let changes = 0;
  for (const queued of ready(schema, outbox, conflicts)) {
    const before = run.at(-1);
    changes += queued.changes.length;
    const follows = before === undefined || outbox.endOf(before.sequence) === queued.sequence;
    if (queued.wasSent || !follows || (before && changes > mostJoined)) break;
    run.push(queued);
  }
  if (run.length < 2) return;
  const joined = joinedChanges(
    schema,
    run.flatMap((queued) => queued.changes),
  );
  replace({ schema, outbox, database }, run, joined, host.newId());
}

/** Puts one transaction with these changes in the place of several consecutive ones that were never sent. */
function replace(
  { schema, outbox, database }: Pick<Joining, 'schema' | 'outbox' | 'database'>,
  transactions: readonly QueuedTransaction[],
  changes: readonly Change[],
  newId: string,
): void {
  const [first] = transactions as [QueuedTransaction, ...QueuedTransaction[]];
  const last = transactions.at(-1) as QueuedTransaction;
  database
    .statement('DELETE FROM koinon_change WHERE place >= ? AND place < ?')
    .run(first.sequence, outbox.endOf(last.sequence));
  const insert = database.statement(
    'INSERT INTO koinon_change (place, sequence, id, edited_at, table_name, row_id, kind, columns, operations) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)',
  );
  changes.forEach((change, i) => {
    const { kind, table, id, columns, operations } = changeToWire(schema, change);
    insert.run(
      first.sequence + i,
      i === 0 ? null : first.sequence,
      i === 0 ? newId : null,
      i === 0 ? Date.parse(last.editedAt) : null,
      table,
      id,
      kind,
      kind === 'delete' ? null : JSON.stringify(columns ?? {}),
      operations ? JSON.stringify(operations) : null,
    );
  });
  outbox.places.forget();
}

/** Changes of several transactions as those of one: each row once, unless it was deleted and made anew. */
function joinedChanges(schema: Schema, changes: readonly Change[]): Change[] {
  const rows = new Map<string, Change[]>();
  for (const change of changes) {
    const key = JSON.stringify([change.table, change.id]);
    const own = rows.get(key) ?? [];
    const before = own.pop();
    if (before?.kind === 'delete' && change.kind === 'insert') own.push(before, change);
    // What was new here and is gone again was never there.
    else if (!(before?.kind === 'insert' && change.kind === 'delete'))
      own.push(joinChanges(tableOf(schema, change.table), before, change));
    rows.set(key, own);
  }
  return [...rows.values()].flat();
}
