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
const mostJoined = 2_500;

/**
 * Joins the next transactions that are to be sent into one, so that only the latest state of each row goes up: those that
 * were never sent and follow on each other, whole. What was sent keeps its content, since its outcome may be unknown.
 *
 * @returns the one that is left of several; undefined where nothing was joined, or what was joined came to nothing.
 */
export function joinNext({ schema, outbox, conflicts, database, host }: Joining): QueuedTransaction | undefined {
  const run: QueuedTransaction[] = [];
  let changes = 0;
  for (const queued of ready(schema, outbox, conflicts)) {
    const before = run.at(-1);
    changes += queued.changes.length;
    const follows = before === undefined || isNext(outbox, before, queued);
    if (queued.wasSent || !follows || (before && changes > mostJoined)) break;
    run.push(queued);
  }
  const [first, last] = [run[0], run.at(-1)];
  if (first === undefined || last === undefined || first === last) return undefined;
  const before = run.flatMap((queued) => queued.changes);
  const joined = { ...first, id: host.newId(), editedAt: last.editedAt, changes: joinedChanges(schema, before) };
  replace({ schema, outbox, database }, before, outbox.endOf(last.sequence), joined);
  return joined.changes.length > 0 ? joined : undefined;
}

/** Whether no other transaction stands between two. */
function isNext(outbox: Outbox, { sequence, changes }: QueuedTransaction, next: QueuedTransaction): boolean {
  // Where the changes of the first fill the places up to the second, there is no need to look.
  return sequence + changes.length === next.sequence || outbox.endOf(sequence) === next.sequence;
}

/** Puts one transaction in the place of consecutive ones that were never sent, which stand up to a place and did this. */
function replace(
  { schema, outbox, database }: Pick<Joining, 'schema' | 'outbox' | 'database'>,
  before: readonly Change[],
  end: number,
  { sequence, id: newId, editedAt, changes }: QueuedTransaction,
): void {
  database.statement('DELETE FROM koinon_change WHERE place >= ? AND place < ?').run(sequence, end);
  for (const { table, id } of before) {
    const places = outbox.places.of(table, id).filter((place) => place >= sequence && place < end);
    outbox.places.remove(table, id, new Set(places));
  }
  const insert = database.statement(
    'INSERT INTO koinon_change (place, sequence, id, edited_at, table_name, row_id, kind, columns, operations) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)',
  );
  changes.forEach((change, i) => {
    const { kind, table, id, columns, operations } = changeToWire(schema, change);
    outbox.places.add(table, id, sequence + i);
    insert.run(
      sequence + i,
      i === 0 ? null : sequence,
      i === 0 ? newId : null,
      i === 0 ? Date.parse(editedAt) : null,
      table,
      id,
      kind,
      kind === 'delete' ? null : JSON.stringify(columns ?? {}),
      operations ? JSON.stringify(operations) : null,
    );
  });
}

/** Changes of several transactions as those of one: each row once, unless it was deleted and made anew. */
function joinedChanges(schema: Schema, changes: readonly Change[]): Change[] {
  const rows = new Map<string, Change[]>();
  for (const change of changes) {
    const key = `${change.table}\0${change.id}`;
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
