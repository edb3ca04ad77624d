import { type Change, changeToWire } from '@koinon/core';
import { clockOffset } from '../database/layout.ts';
import type { Host } from '../host/host.ts';
import { joined, type Outbox, type StoredChange } from './outbox.ts';
import { placesIn } from './transactions.ts';

// What makes a transaction of the outbox another one: merges, decisions, undoing. Loaded only where there is something to
// merge, decide or undo. Everything runs inside a transaction, on transactions that are not under way.

/**
 * Takes what an unconfirmed transaction did to one row out of it. What is left of it is another transaction and gets
 * another id; when nothing is left it is gone.
 */
export function removeChanges(outbox: Outbox, sequence: number, table: string, id: string, newId: string): void {
  const places = placesIn(outbox, sequence, table, id);
  rewrite(outbox, table, id, new Map(places.map((place) => [place, undefined])), () => newId);
}

/**
 * Puts one change in the place of all unconfirmed ones of a row; undefined for none. The transactions this alters are
 * pending, and have new ids; one that has nothing left is gone.
 */
export function replaceChanges(
  outbox: Outbox,
  table: string,
  id: string,
  change: Change | undefined,
  { newId, now }: Pick<Host, 'newId' | 'now'>,
): void {
  const unconfirmed = outbox.changesOf(table, id).filter(({ state }) => state !== 'confirmed');
  const last = unconfirmed.at(-1);
  const changes = new Map(unconfirmed.map(({ place }) => [place, place === last?.place ? change : undefined]));
  rewrite(outbox, table, id, changes, newId);
  if (change !== undefined && last !== undefined)
    renew(outbox, last.sequence, newId(), now() + clockOffset(outbox.database));
}

/**
 * Puts other changes in the place of some of a row's; undefined takes one out. The transactions this alters are pending,
 * keep their places, and have new ids; one that has nothing left is gone.
 */
export function rewrite(
  outbox: Outbox,
  table: string,
  id: string,
  changes: ReadonlyMap<number, Change | undefined>,
  newId: () => string,
): void {
  const { database } = outbox;
  outbox.keepInserted(table, id);
  const altered = new Map<number, number>();
  for (const [place, change] of changes) {
    const { sequence, edited_at } = database.statement(`${joined} WHERE c.place = ?`).get(place) as StoredChange;
    altered.set(sequence, edited_at as number);
    if (change === undefined) database.statement('DELETE FROM koinon_change WHERE place = ?').run(place);
    else writeChange(outbox, place, change);
  }
  const gone = [...changes].flatMap(([place, change]) => (change === undefined ? [place] : []));
  outbox.places.remove(table, id, new Set(gone));
  for (const [sequence, editedAt] of altered) renew(outbox, sequence, newId(), editedAt);
}

/** Lets a transaction that was refused go up again as it is, under a new id. Returns whether there was one. */
export function resend(outbox: Outbox, id: string, newId: string): boolean {
  const found = outbox.database
    .statement("SELECT sequence, edited_at FROM koinon_sent WHERE id = ? AND state = 'rejected'")
    .get(id) as { sequence: number; edited_at: number } | undefined;
  if (found) renew(outbox, found.sequence, newId, found.edited_at);
  return found !== undefined;
}

/** Puts another change of the same row into a place. */
export function writeChange({ database, schema }: Outbox, place: number, change: Change): void {
  const { kind, columns, operations } = changeToWire(schema, change);
  database
    .statement('UPDATE koinon_change SET kind = ?, columns = ?, operations = ? WHERE place = ?')
    .run(
      kind,
      kind === 'delete' ? null : JSON.stringify(columns ?? {}),
      operations ? JSON.stringify(operations) : null,
      place,
    );
}

/** Makes a transaction one that was never sent, under a new id; its first change carries that. */
export function renew(outbox: Outbox, sequence: number, newId: string, editedAt: number): void {
  outbox.revision++;
  outbox.database.statement('DELETE FROM koinon_sent WHERE sequence = ?').run(sequence);
  outbox.database
    .statement(
      `UPDATE koinon_change SET id = ?, edited_at = ? WHERE place =
         (SELECT min(place) FROM koinon_change WHERE place >= ? AND coalesce(sequence, place) = ?)`,
    )
    .run(newId, editedAt, sequence, sequence);
}
