import { type Change, joinChanges, type Schema, tableOf } from '@koinon/core';
import type { Host } from '../host/host.ts';
import type { ColumnNames } from '../link/columns.ts';
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
  readonly lacking: ColumnNames;
  readonly waiting: ReadonlySet<string>;
  readonly host: Pick<Host, 'newId'>;
}

/** A change that may hold bytes counts for so many, since all that are joined are in memory. */
const bytesCountFor = 100;

/** Transactions that go up as one, which is written down only when it is sent: until then each can be taken back alone. */
export interface Join {
  /** What they come to; without changes where they come to nothing. */
  readonly transaction: OutboxTransaction;
  /** Makes one of them in the outbox. */
  write(): void;
}

/**
 * Joins the next transactions that are to be sent into one, so that only the latest state of each row goes up: those that
 * were never sent and follow on each other, whole. What was sent keeps its content, since its outcome may be unknown.
 *
 * @param most changes that are joined.
 * @returns undefined where there is nothing to join.
 */
export function joinNext(joining: Joining, most: number): Join | undefined {
  const { schema, outbox, host } = joining;
  const run: OutboxTransaction[] = [];
  let changes = 0;
  for (const queued of ready(joining)) {
    const before = run.at(-1);
    for (const { table } of queued.changes) changes += schema.tables[table]?.isPlain ? 1 : bytesCountFor;
    const follows = before === undefined || isNext(outbox, before, queued);
    if (queued.wasSent || !follows || (before && changes > most)) break;
    run.push(queued);
  }
  const last = run.at(-1);
  if (run.length < 2 || last === undefined) return undefined;
  return join(schema, outbox, run, endOf(outbox, last.sequence), host.newId());
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
function join(schema: Schema, outbox: Outbox, run: readonly OutboxTransaction[], end: number, newId: string): Join {
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
  const kept = new Map<Row, readonly (Change | undefined)[]>();
  for (const row of rows.values()) if (row.changes.length > 1) kept.set(row, joinedRow(schema, row));
  const placesOf = ({ table, id }: Row) => outbox.places.of(table, id).filter((place) => place >= from && place < end);
  let sequence: number | undefined;
  const changes = order.flatMap((row) => {
    const change = kept.has(row) ? kept.get(row)?.[row.met] : row.changes[0];
    if (change !== undefined) sequence ??= placesOf(row)[row.met];
    row.met++;
    return change === undefined ? [] : [change];
  });
  return {
    transaction: { sequence: sequence ?? from, id: newId, state, editedAt, changes, problems, wasSent },
    write() {
      outbox.revision++;
      for (const [row, left] of kept) writeRow(outbox, row, placesOf(row), left);
      if (sequence === undefined) return;
      const { database } = outbox;
      database
        .statement(
          'UPDATE koinon_change SET sequence = ?1, id = NULL, edited_at = NULL WHERE place > ?1 AND place < ?2',
        )
        .run(sequence, end);
      database
        .statement('UPDATE koinon_change SET sequence = NULL, id = ?, edited_at = ? WHERE place = ?')
        .run(newId, editedAt, sequence);
    },
  };
}

/** A row that transactions change, and how many of its changes have been looked at. */
interface Row {
  readonly table: string;
  readonly id: string;
  readonly changes: Change[];
  met: number;
}

/** What stands in the place of each change of a row when they are joined. */
function joinedRow(schema: Schema, { changes }: Row): readonly (Change | undefined)[] {
  const [first, second] = joinedChanges(schema, changes);
  return changes.map((_change, i) => (i === 0 ? first : i === changes.length - 1 ? second : undefined));
}

/** Writes down what stands in the place of each change of a row. */
function writeRow(
  outbox: Outbox,
  { table, id }: Row,
  places: readonly number[],
  left: readonly (Change | undefined)[],
): void {
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
