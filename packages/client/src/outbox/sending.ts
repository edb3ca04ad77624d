import type { AppliedOrigin, Problem, ServerValues } from '@koinon/core';
import {
  type Outbox,
  type OutboxTransaction,
  type QueuedChange,
  type StoredChange,
  storedChanges,
  type TransactionState,
} from './outbox.ts';
import { placesIn } from './transactions.ts';

// The parts of the outbox that only a sync uses: loaded with it. Everything runs inside a transaction.

/** Tells whether anything waits to be sent, or for what became of it. */
export function hasUnsent({ database }: Outbox): boolean {
  const text =
    "SELECT 1 FROM koinon_outbox WHERE kind = 'transaction' AND (state IS NULL OR state IN ('pending', 'attempted')) LIMIT 1";
  return database.statement(text).get() !== undefined;
}

/** The places of the transactions that were sent under an id: of several, where they went up as one. */
export function placesOfSent({ database }: Outbox, id: string): number[] {
  const text = 'SELECT place FROM koinon_outbox WHERE state IS NOT NULL AND id = ? ORDER BY place';
  return (database.statement(text).all(id) as { place: number }[]).map(({ place }) => place);
}

/** The places of the transactions that were sent under these ids. */
export function placesOfAllSent({ database }: Outbox, ids: readonly string[]): number[] {
  const text =
    'SELECT place FROM koinon_outbox WHERE state IS NOT NULL AND id IN (SELECT value FROM json_each(?)) ORDER BY place';
  return (database.statement(text).all(JSON.stringify(ids)) as { place: number }[]).map(({ place }) => place);
}

/** The ids under which transactions in a state were sent, each once. */
export function sentIds({ database }: Outbox, state: TransactionState): string[] {
  const text = 'SELECT id FROM koinon_outbox WHERE state IS NOT NULL AND state = ? GROUP BY id ORDER BY min(place)';
  return (database.statement(text).all(state) as { id: string }[]).map((row) => row.id);
}

/** Notes that transactions are being sent, several of them under one id where they are joined. */
export function noteAttempts(
  { database }: Outbox,
  units: readonly { readonly id: string; readonly transactions: readonly OutboxTransaction[] }[],
): void {
  const places = (some: typeof units) =>
    JSON.stringify(some.flatMap(({ transactions }) => transactions.map(({ sequence }) => sequence)));
  const among = 'WHERE place IN (SELECT value FROM json_each(?))';
  database
    .statement(`UPDATE koinon_outbox SET state = 'attempted', id = coalesce(id, origin) ${among}`)
    .run(places(units));
  for (const unit of units)
    if (unit.transactions.length > 1)
      database.statement(`UPDATE koinon_outbox SET id = ? ${among}`).run(unit.id, places([unit]));
}

/** Notes that what was sent under these ids has been applied just as it is. */
export function noteConfirmed(outbox: Outbox, ids: readonly string[]): void {
  if (ids.length === 0) return;
  outbox.revision++;
  outbox.harmless++;
  outbox.database
    .statement(
      `UPDATE koinon_outbox SET state = 'confirmed', problems = NULL
       WHERE state IS NOT NULL AND id IN (SELECT value FROM json_each(?))`,
    )
    .run(JSON.stringify(ids));
}

/**
 * Notes that the server has applied what the person did under these origins, and under which ids it has. Returns the places of
 * the transactions that this concerns.
 */
export function noteApplied(outbox: Outbox, applied: readonly AppliedOrigin[]): readonly number[] {
  if (applied.length === 0) return [];
  outbox.revision++;
  const isUnknown = "kind = 'transaction' AND (state IS NULL OR state NOT IN ('confirmed', 'settled'))";
  const places = outbox.database
    .statement(
      `SELECT place FROM koinon_outbox WHERE ${isUnknown} AND origin IN (SELECT value FROM json_each(?)) ORDER BY place`,
    )
    .all(JSON.stringify(applied.map(({ origin }) => origin))) as { place: number }[];
  outbox.database
    .statement(
      `UPDATE koinon_outbox SET state = 'confirmed', problems = NULL, id = known.id
       FROM (SELECT value ->> 0 AS origin, value ->> 1 AS id FROM json_each(?)) AS known
       WHERE ${isUnknown} AND koinon_outbox.origin = known.origin`,
    )
    .run(JSON.stringify(applied.map(({ origin, id }) => [origin, id])));
  return places.map(({ place }) => place);
}

/** The origins of all transactions that the feed has not brought back. */
export function originsOf({ database }: Outbox): string[] {
  const text =
    "SELECT origin FROM koinon_outbox WHERE kind = 'transaction' AND (state IS NULL OR state <> 'settled') ORDER BY place";
  return (database.statement(text).all() as { origin: string }[]).map(({ origin }) => origin);
}

/** Notes that of what was confirmed the server knows nothing any more but these origins: the rest is to be sent again. */
export function noteLost(outbox: Outbox, known: readonly AppliedOrigin[]): void {
  outbox.revision++;
  outbox.database
    .statement(
      `UPDATE koinon_outbox SET state = 'pending' WHERE state IS NOT NULL AND state = 'confirmed'
       AND origin NOT IN (SELECT value FROM json_each(?))`,
    )
    .run(JSON.stringify(known.map(({ origin }) => origin)));
}

/** Notes that what was sent under an id is to be sent again. */
export function notePending(outbox: Outbox, id: string): void {
  outbox.revision++;
  outbox.database.statement("UPDATE koinon_outbox SET state = 'pending' WHERE state IS NOT NULL AND id = ?").run(id);
}

/** Takes several transactions apart that went up as one: each is sent alone from now on. */
export function part(outbox: Outbox, id: string, newId: () => string): void {
  outbox.revision++;
  const renewed = outbox.database.statement("UPDATE koinon_outbox SET state = 'pending', id = ? WHERE place = ?");
  for (const place of placesOfSent(outbox, id)) renewed.run(newId(), place);
}

/** Notes that the server refused what was sent under an id. */
export function noteRejected(outbox: Outbox, id: string, problems: readonly Problem[]): void {
  outbox.revision++;
  const { database } = outbox;
  const [first, ...others] = placesOfSent(outbox, id);
  const note = database.statement("UPDATE koinon_outbox SET state = 'rejected', problems = ? WHERE place = ?");
  // There may be thousands of reasons: the first of several transactions has them for all.
  if (first !== undefined) note.run(JSON.stringify(problems), first);
  for (const place of others) note.run('[]', place);
}

/** Notes what the server put in the place of what was sent under an id. */
export function noteServerValues(outbox: Outbox, id: string, values: readonly ServerValues[]): void {
  const put = outbox.database.statement('UPDATE koinon_outbox SET server_values = ? WHERE place = ?');
  for (const sequence of placesOfSent(outbox, id))
    for (const { table, id: row, columns } of values)
      for (const place of placesIn(outbox, sequence, table, row)) put.run(JSON.stringify(columns), place);
}

/** Refuses a transaction on this device: it could not be applied any more. Everything else that was known of it is forgotten. */
export function refuseHere(outbox: Outbox, { sequence, id }: QueuedChange, problem: Problem): void {
  outbox.revision++;
  outbox.database
    .statement("UPDATE koinon_outbox SET state = 'rejected', id = ?, problems = ? WHERE place = ?")
    .run(id, JSON.stringify([problem]), sequence);
}

/** Notes that the feed has brought back these changes of one row, all at once however many there are, and what each of them had changed. */
export function markAcknowledged(
  outbox: Outbox,
  table: string,
  id: string,
  changes: readonly QueuedChange[],
  before: readonly (string | null)[],
): void {
  outbox.revision++;
  // Should a transaction have to be sent again as a whole, it must be what it was.
  outbox.keepInserted(table, id);
  const mark = outbox.database.statement('UPDATE koinon_outbox SET is_acknowledged = 1, before = ? WHERE place = ?');
  changes.forEach(({ place }, i) => {
    mark.run(before[i] ?? null, place);
  });
  outbox.places.remove(table, id, new Set(changes.map(({ place }) => place)));
}

/** A transaction with some of its changes: from one up to another. */
export function changesFrom(outbox: Outbox, sequence: number, from: number, to: number): OutboxTransaction | undefined {
  const rows = outbox.database
    .statement(
      `${storedChanges} WHERE c.place > ? AND c.sequence = ? AND c.kind <> 'action' ORDER BY c.place LIMIT ? OFFSET ?`,
    )
    .all(sequence, sequence, to - from, from) as StoredChange[];
  const [head] = rows;
  if (head === undefined) return undefined;
  return {
    sequence,
    id: head.id,
    origin: head.origin,
    state: head.state ?? 'pending',
    editedAt: head.edited_at,
    changes: rows.map((row) => outbox.changeOf(row)),
    actions: [],
    problems: [],
    wasSent: true,
    isConflicted: false,
    isOverPrediction: false,
  };
}
