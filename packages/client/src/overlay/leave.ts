import type { AnyRow, Problem, RowKey, Schema } from '@koinon/core';
import { problemOf, rowKey, rowParameters } from '@koinon/core/internal';
import { eraseRunIds, noteErased } from '../database/erasure.ts';
import { eraseConfirmed, forgetGoneRows, forgetRows } from '../outbox/history.ts';
import type { QueuedChange } from '../outbox/outbox.ts';
import { rewrite } from '../outbox/rewriting.ts';
import { refuseHere } from '../outbox/sending.ts';
import { type Applying, showAnew } from './show.ts';

/**
 * A row that is no longer one of this user's leaves the device. What the person typed into it and has not sent is kept: its
 * transactions stand in the outbox as refused, to be copied from or dropped. Runs inside a transaction; {@link erase}
 * follows at its end. Returns the row as it was shown.
 */
export function leave(overlay: Applying, table: string, id: string, queued: readonly QueuedChange[]): AnyRow | null {
  const { rows, bases, outbox, conflicts, commit, host } = overlay;
  const before = rows.get(table, id);
  outbox.keepInserted(table, id);
  const orphaned = predictionsGone(overlay, { table, id });
  const unconfirmed = queued.filter(({ state }) => state === 'pending' || state === 'rejected');
  rewrite(
    outbox,
    unconfirmed,
    unconfirmed.map(({ change }) => ({ change: change.kind === 'delete' ? undefined : change, ...overNothing })),
    host,
  );
  for (const change of unconfirmed)
    if (change.change.kind !== 'delete') refuseHere(outbox, change, scopeLeft(overlay.schema, { table, id }, before));
  rows.remove(table, id);
  bases.drop(table, id);
  conflicts.set(table, id, []);
  commit.leave(table, id, before);
  for (const row of orphaned) {
    const own = outbox.changesOf(row.table, row.id);
    // A row that was there by prediction alone leaves as well, with what was typed into it.
    const wasPredicted = bases.get(row.table, row.id) === null && !own.some(({ change }) => change.kind === 'insert');
    if (wasPredicted) leave(overlay, row.table, row.id, own);
    else showAnew(overlay, row);
  }
  return before;
}

/**
 * An action that was expected to change a row which has left is not expected to do anything any more: no half of it is shown. Returns the other
 * rows that it was expected to change.
 */
function predictionsGone({ outbox: { predictions } }: Applying, row: RowKey): readonly RowKey[] {
  const others: RowKey[] = [];
  for (const { sequence } of predictions.of(row.table, row.id))
    for (const other of predictions.rowsOf(sequence)) {
      predictions.dropRow(other.table, other.id, sequence);
      if (rowKey(other) !== rowKey(row)) others.push(other);
    }
  return others;
}

const overNothing = { typedOver: new Map(), predictedOver: new Map() };

function scopeLeft(schema: Schema, { table, id }: RowKey, row: AnyRow | null): Problem {
  return problemOf(schema, 'scope-left', { table, id }, 'scope-left', rowParameters(schema, table, row));
}

/** Erases what else the file holds of rows that have left: what was sent of them, what calls returned, what the journal names. */
export function erase({ database, schema }: Applying, left: readonly RowKey[]): void {
  const decided = database.statement('DELETE FROM koinon_resolved WHERE table_name = ? AND row_id = ?');
  for (const { table, id } of left) decided.run(table, id);
  eraseConfirmed(database, left);
  forgetRows(database, left);
  // Rows that this user has deleted himself are not told to leave: they go with the first row that is.
  forgetGoneRows(database, schema);
  const ids = new Set(left.map(({ id }) => id));
  const calls = database.statement('SELECT place, outcome FROM koinon_call').all() as {
    place: number;
    outcome: string;
  }[];
  for (const { place, outcome } of calls)
    if (names(JSON.parse(outcome), ids))
      database.statement(`UPDATE koinon_call SET outcome = '{"value":null}' WHERE place = ?`).run(place);
  eraseRunIds(database, ids);
  noteErased(database);
}

/** Tells whether a value names one of these ids, however deep. */
function names(value: unknown, ids: ReadonlySet<string>): boolean {
  if (typeof value === 'string') return ids.has(value);
  if (value === null || typeof value !== 'object') return false;
  return Object.values(value).some((member) => names(member, ids));
}
