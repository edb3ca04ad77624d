import { type Change, joinChanges, type Schema, tableOf } from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Host } from '../host/host.ts';
import type { ConflictList } from '../overlay/conflict-list.ts';
import { ready } from './batch.ts';
import type { Outbox, OutboxTransaction } from './outbox.ts';
import { writeChange } from './rewriting.ts';
import { endOf } from './transactions.ts';

/** What joining works on, inside a transaction. */
export interface Joining {
  readonly schema: Schema;
  readonly outbox: Outbox;
  readonly conflicts: ConflictList;
  readonly database: Database;
  readonly host: Pick<Host, 'newId'>;
}

/** A change that may hold bytes counts for so many, since all that are joined are in memory. */
const bytesCountFor = 100;

/**
 * Joins the next transactions that are to be sent into one, so that only the latest state of each row goes up: those that
 * were never sent and follow on each other, whole. What was sent keeps its content, since its outcome may be unknown.
 *
 * @param most changes that are joined.
 * @returns the one that is left of several; undefined where nothing was joined, or what was joined came to nothing.
 */
export function joinNext(
  { schema, outbox, conflicts, database, host }: Joining,
  most: number,
): OutboxTransaction | undefined {
  const run: OutboxTransaction[] = [];
  let changes = 0;
  for (const queued of ready(schema, outbox, conflicts)) {
    const before = run.at(-1);
    for (const { table } of queued.changes) changes += schema.tables[table]?.isPlain ? 1 : bytesCountFor;
    const follows = before === undefined || isNext(outbox, before, queued);
    if (queued.wasSent || !follows || (before && changes > most)) break;
    run.push(queued);
  }
  const [first, last] = [run[0], run.at(-1)];
  if (first === undefined || last === undefined || first === last) return undefined;
  return join({ schema, outbox, database }, run, endOf(outbox, last.sequence), host.newId());
}

/** Whether no other transaction stands between two. */
function isNext(outbox: Outbox, { sequence, changes }: OutboxTransaction, next: OutboxTransaction): boolean {
  // Where the changes of the first fill the places up to the second, there is no need to look.
  return sequence + changes.length === next.sequence || endOf(outbox, sequence) === next.sequence;
}

/**
 * Makes one transaction of consecutive ones that were never sent and stand up to a place. Only rows that were changed more
 * than once are written anew: the changes of all others stay where they stand.
 */
function join(
  { schema, outbox, database }: Pick<Joining, 'schema' | 'outbox' | 'database'>,
  run: readonly OutboxTransaction[],
  end: number,
  newId: string,
): OutboxTransaction | undefined {
  const { sequence: from, state, problems, wasSent } = run[0] as OutboxTransaction;
  const { editedAt } = run.at(-1) as OutboxTransaction;
  const rows = new Map<string, Row>();
  const order: Row[] = [];
  for (const { changes } of run)
    for (const change of changes) {
      const key = `${change.table}\0${change.id}`;
      const row = rows.get(key) ?? { table: change.table, id: change.id, changes: [], met: 0 };
      rows.set(key, row);
      row.changes.push(change);
      order.push(row);
    }
  outbox.revision++;
  const kept = new Map<Row, readonly (Change | undefined)[]>();
  for (const row of rows.values()) if (row.changes.length > 1) kept.set(row, joinRow(schema, outbox, row, from, end));
  const changes = order.flatMap((row) => {
    const change = kept.has(row) ? kept.get(row)?.[row.met++] : row.changes[0];
    return change === undefined ? [] : [change];
  });
  const head = database
    .statement('SELECT min(place) AS place FROM koinon_change WHERE place >= ? AND place < ?')
    .get(from, end) as { place: number | null };
  if (head.place === null) return undefined;
  const sequence = head.place;
  database
    .statement('UPDATE koinon_change SET sequence = ?1, id = NULL, edited_at = NULL WHERE place > ?1 AND place < ?2')
    .run(sequence, end);
  database
    .statement('UPDATE koinon_change SET sequence = NULL, id = ?, edited_at = ? WHERE place = ?')
    .run(newId, editedAt, sequence);
  return { sequence, id: newId, state, editedAt, changes, problems, wasSent };
}

/** A row that transactions change, and how many of its changes have been looked at. */
interface Row {
  readonly table: string;
  readonly id: string;
  readonly changes: Change[];
  met: number;
}

/** Joins the changes of one row; tells what stands in the place of each of them. */
function joinRow(
  schema: Schema,
  outbox: Outbox,
  { table, id, changes }: Row,
  from: number,
  end: number,
): readonly (Change | undefined)[] {
  const places = outbox.places.of(table, id).filter((place) => place >= from && place < end);
  const [first, second] = joinedChanges(schema, changes);
  const left = places.map((_place, i) => (i === 0 ? first : i === places.length - 1 ? second : undefined));
  const gone = new Set<number>();
  for (const [i, place] of places.entries()) {
    const change = left[i];
    if (change !== undefined) writeChange(outbox, place, change);
    else {
      gone.add(place);
      outbox.database.statement('DELETE FROM koinon_change WHERE place = ?').run(place);
    }
  }
  outbox.places.remove(table, id, gone);
  return left;
}

/** Changes of one row as one; as two where it was deleted and made anew; as none where it is new here and gone again. */
function joinedChanges(schema: Schema, changes: readonly Change[]): Change[] {
  const own: Change[] = [];
  for (const change of changes) {
    const before = own.pop();
    if (before?.kind === 'delete' && change.kind === 'insert') own.push(before, change);
    // What was new here and is gone again was never there.
    else if (!(before?.kind === 'insert' && change.kind === 'delete'))
      own.push(joinChanges(tableOf(schema, change.table), before, change));
  }
  return own;
}
