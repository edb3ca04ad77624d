import { type Change, sameValue } from '@koinon/core';
import { changeToWire, type RebasedChange } from '@koinon/core/internal';
import type { Host } from '../host/host.ts';
import type { Outbox, QueuedChange, TransactionState } from './outbox.ts';
import { dropMarks, dropSettled, endOf, type Leaving } from './transactions.ts';
import { writeTypedOver } from './typed-over.ts';

// Gives a transaction of the outbox another content: for rebases, decisions, taking back. Loaded only where there is something
// to rebase, decide or take back. Everything runs inside a transaction, on transactions that are not under way.

/**
 * Puts others in the place of a row's changes. A transaction whose content this alters has a new id and keeps its place and
 * its origin; one that has nothing left is gone.
 *
 * @param after one for each of `changes`, in the same order.
 */
export function rewrite(
  outbox: Outbox,
  changes: readonly QueuedChange[],
  after: readonly RebasedChange[],
  { newId }: Pick<Host, 'newId'>,
  how: Leaving = 'settled',
): void {
  const { database, schema } = outbox;
  const [first] = changes;
  if (first === undefined) return;
  const { table, id } = first.change;
  const altered = new Set<number>();
  const gone = new Set<number>();
  let isKept = false;
  changes.forEach(({ change: before, place, sequence, typedOver }, i) => {
    const { change, typedOver: next, predictedOver } = after[i] as RebasedChange;
    if (change === undefined) outbox.predictions.setOver(sequence, place, table, nothing);
    else if (predictedOver) outbox.predictions.setOver(sequence, place, table, predictedOver);
    if (change !== undefined && sameChange(change, before)) {
      if (next.size === 0 && typedOver === undefined) return;
      const text = writeTypedOver(schema, table, next);
      database.statement('UPDATE koinon_outbox SET before = ? WHERE place = ?').run(text, place);
      return;
    }
    // Nothing follows on an insert that is its own record.
    if (!isKept) outbox.keepInserted(table, id);
    isKept = true;
    altered.add(sequence);
    if (change === undefined) gone.add(place);
    else writeChange(outbox, place, change, writeTypedOver(schema, table, next));
  });
  const remove = database.statement('DELETE FROM koinon_outbox WHERE place = ?');
  for (const place of gone) remove.run(place);
  if (gone.size > 0) outbox.places.remove(table, id, gone);
  for (const sequence of altered) {
    if (hasChanges(outbox, sequence)) renew(outbox, sequence, newId());
    else {
      dropSettled(outbox, sequence, endOf(outbox, sequence), how);
      dropMarks(outbox);
    }
  }
}

const nothing: ReadonlyMap<string | null, unknown> = new Map();

function sameChange(a: Change, b: Change): boolean {
  if (a === b) return true;
  if (a.kind === 'delete' || b.kind === 'delete') return a.kind === b.kind;
  if (a.kind !== b.kind || !sameValue(a.columns, b.columns)) return false;
  return a.kind === 'insert' || b.kind === 'insert' || sameValue(a.operations, b.operations);
}

function hasChanges({ database }: Outbox, sequence: number): boolean {
  const next = 'SELECT kind FROM koinon_outbox WHERE place > ? ORDER BY place LIMIT 1';
  const found = database.statement(next).get(sequence) as { kind: string } | undefined;
  return found !== undefined && found.kind !== 'transaction';
}

/** Puts another change of the same row into a place. */
function writeChange({ database, schema }: Outbox, place: number, change: Change, before: string | null): void {
  const { kind, columns, operations } = changeToWire(schema, change);
  database
    .statement('UPDATE koinon_outbox SET kind = ?, columns = ?, operations = ?, before = ? WHERE place = ?')
    .run(
      kind,
      kind === 'delete' ? null : JSON.stringify(columns ?? {}),
      operations ? JSON.stringify(operations) : null,
      before,
      place,
    );
}

/**
 * Gives a transaction with another content a new id, and those that go up as one with it. A refused one stays refused: to send
 * it again is the person's to say.
 */
export function renew(outbox: Outbox, sequence: number, newId: string): void {
  outbox.revision++;
  outbox.database
    .statement(
      `UPDATE koinon_outbox SET id = ?1 WHERE place = ?2
         OR (state IS NOT NULL AND id = (SELECT id FROM koinon_outbox WHERE place = ?2))`,
    )
    .run(newId, sequence);
}

/** Has transactions go up as one, under a new id. */
export function join(outbox: Outbox, sequences: readonly number[], newId: string): void {
  outbox.revision++;
  const write = outbox.database.statement("UPDATE koinon_outbox SET id = ?, state = 'pending' WHERE place = ?");
  for (const sequence of sequences) write.run(newId, sequence);
}

/** Several transactions were to go up as one, and one has been taken back: the others are what they were before that. */
export function dissolve(outbox: Outbox, id: string, newId: () => string): void {
  outbox.revision++;
  const { database } = outbox;
  const text = "SELECT place FROM koinon_outbox WHERE state IS NOT NULL AND id = ? AND state = 'pending'";
  const places = database.statement(text).all(id) as { place: number }[];
  const write = database.statement(
    "UPDATE koinon_outbox SET id = ?, state = CASE WHEN problems IS NULL THEN 'pending' ELSE 'rejected' END WHERE place = ?",
  );
  for (const { place } of places) write.run(newId(), place);
}

/** Lets a transaction that was refused go up again as it is, under a new id. Returns whether there was one. */
export function resend(outbox: Outbox, id: string, newId: string): boolean {
  outbox.revision++;
  const { changes } = outbox.database
    .statement(
      "UPDATE koinon_outbox SET id = ?, state = 'pending' WHERE state IS NOT NULL AND id = ? AND state = 'rejected'",
    )
    .run(newId, id);
  return Number(changes) > 0;
}

/** A change as it is to be again. */
export interface RestoredChange {
  readonly place: number;
  readonly sequence: number;
  readonly origin: string;
  readonly editedAt: number;
  readonly state: TransactionState;
  readonly change: Change;
  readonly before: string | null;
}

/**
 * Puts changes of one row back to where they stood; what has come into their places meanwhile makes that impossible, and
 * then they go to the end, as transactions of their own. Returns whether that was possible.
 */
export function restoreChanges(
  outbox: Outbox,
  changes: readonly RestoredChange[],
  { newId }: Pick<Host, 'newId'>,
): boolean {
  const { database } = outbox;
  const [first] = changes;
  if (first === undefined) return true;
  const at = database.statement('SELECT kind, origin, sequence, table_name, row_id FROM koinon_outbox WHERE place = ?');
  const { table, id } = first.change;
  const isFree = ({ place, sequence, origin }: RestoredChange) => {
    const head = at.get(sequence) as { kind: string; origin: string | null } | undefined;
    const held = at.get(place) as { sequence: number; table_name: string; row_id: string } | undefined;
    const isOwn = held?.sequence === sequence && held.table_name === table && held.row_id === id;
    return (
      (head === undefined || (head.kind === 'transaction' && head.origin === origin)) && (held === undefined || isOwn)
    );
  };
  const isInPlace = changes.every(isFree);
  const isOtherwiseChanged = outbox
    .changesOf(table, id)
    .some(({ place, state }) => state !== 'confirmed' && !changes.some((each) => each.place === place));
  if (!isInPlace && isOtherwiseChanged) return false;
  outbox.revision++;
  const begin = database.statement(
    "INSERT INTO koinon_outbox (place, kind, state, id, origin, edited_at) VALUES (?, 'transaction', ?, ?, ?, ?) ON CONFLICT DO NOTHING",
  );
  const put = database.statement(
    'INSERT INTO koinon_outbox (place, sequence, kind, table_name, row_id) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING',
  );
  const sequences = new Map<number, number>();
  let next = lastPlace(outbox);
  for (const { place, sequence, origin, editedAt, state, change, before } of changes) {
    if (!isInPlace && !sequences.has(sequence)) sequences.set(sequence, ++next);
    const head = sequences.get(sequence) ?? sequence;
    begin.run(head, state === 'rejected' ? 'rejected' : 'pending', newId(), origin, editedAt);
    const own = isInPlace ? place : ++next;
    put.run(own, head, change.kind, table, id);
    writeChange(outbox, own, change, before);
    renew(outbox, head, newId());
  }
  outbox.places.forget();
  return true;
}

/** The place of the last transaction or change; 0 for none. */
export function lastPlace({ database }: Outbox): number {
  const found = database.statement('SELECT coalesce(max(place), 0) AS place FROM koinon_outbox').get();
  return (found as { place: number }).place;
}
