import { type Change, joinChanges, type Schema, tableOf } from '@koinon/core';
import { dropMeta, meta, setMeta } from '../database/layout.ts';
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
  for (const [i, { changes }] of run.entries())
    for (const change of changes) {
      const key = `${change.table}\0${change.id}`;
      const row = rows.get(key) ?? { table: change.table, id: change.id, changes: [], met: 0, last: i };
      rows.set(key, row);
      row.changes.push(change);
      row.last = i;
      order.push(row);
    }
  const pieces = piecesOf(run, order);
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
      beginAt(outbox, sequence, end, newId, editedAt);
      if (pieces.length > 1) setMeta(outbox.database, 'joined', JSON.stringify({ id: newId, pieces } satisfies Joined));
    },
  };
}

/** Some of the joined transactions that touch no row which others of them touch: the place where they begin, and their time. */
type Piece = readonly [place: number, editedAt: number];

/** What the last joined transaction was made of. */
interface Joined {
  readonly id: string;
  readonly pieces: readonly Piece[];
}

/** Where what is joined can be taken apart again, since no row is changed on both sides. @param order the rows of all changes. */
function piecesOf(run: readonly OutboxTransaction[], order: readonly Row[]): Piece[] {
  const pieces: Piece[] = [];
  let [begin, reach, next] = [0, 0, 0];
  for (const [i, { changes, editedAt }] of run.entries()) {
    for (const end = next + changes.length; next < end; next++) reach = Math.max(reach, order[next]?.last ?? 0);
    if (reach > i) continue;
    pieces.push([run[begin]?.sequence as number, editedAt]);
    begin = reach = i + 1;
  }
  return pieces;
}

/**
 * Takes a joined transaction apart that the server has not applied: what one of its edits met with is not to hold up all the
 * others. The pieces are sent as they are, each under an id of its own. Returns whether there was anything to take apart.
 */
export function takeApart(outbox: Outbox, sequence: number, id: string, host: Pick<Host, 'newId'>): boolean {
  const { database } = outbox;
  const known = meta(database, 'joined');
  const joined = known === undefined ? undefined : (JSON.parse(known) as Joined);
  if (joined?.id !== id) return false;
  const end = endOf(outbox, sequence);
  outbox.revision++;
  dropMeta(database, 'joined');
  database.statement('DELETE FROM koinon_sent WHERE sequence = ?').run(sequence);
  for (const [i, [from, editedAt]] of joined.pieces.entries()) {
    const to = joined.pieces[i + 1]?.[0] ?? end;
    const { first } = database
      .statement('SELECT min(place) AS first FROM koinon_change WHERE place >= ? AND place < ?')
      .get(from, to) as { first: number | null };
    // All of it came to nothing.
    if (first === null) continue;
    const newId = host.newId();
    beginAt(outbox, first, to, newId, editedAt);
    database.statement("INSERT INTO koinon_sent VALUES (?, ?, ?, 'pending', NULL)").run(first, newId, editedAt);
  }
  return true;
}

/** Makes one transaction of the changes from a place on, up to another. */
function beginAt({ database }: Outbox, first: number, end: number, id: string, editedAt: number): void {
  database
    .statement('UPDATE koinon_change SET sequence = ?1, id = NULL, edited_at = NULL WHERE place > ?1 AND place < ?2')
    .run(first, end);
  database
    .statement('UPDATE koinon_change SET sequence = NULL, id = ?, edited_at = ? WHERE place = ?')
    .run(id, editedAt, first);
}

/** A row that transactions change, and how many of its changes have been looked at. */
interface Row {
  readonly table: string;
  readonly id: string;
  readonly changes: Change[];
  met: number;
  /** The last of the joined transactions that changes it. */
  last: number;
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
