import type { Problem, ServerValues } from '@koinon/core';
import {
  joined,
  type Outbox,
  type OutboxTransaction,
  type QueuedChange,
  type StoredChange,
  type TransactionState,
} from './outbox.ts';
import { endOf, placesIn } from './transactions.ts';

// What only a sync does with the outbox: loaded with it. Everything runs inside a transaction.

/** Changes of several rows of one table, by id, each in order; rows without any are left out. */
export function changesOfAll(outbox: Outbox, table: string, ids: readonly string[]): Map<string, QueuedChange[]> {
  const places = ids.flatMap((id) => outbox.places.of(table, id));
  if (places.length === 0) return new Map();
  const rows = outbox.database
    .statement(`${joined} WHERE c.place IN (SELECT value FROM json_each(?)) ORDER BY c.place`)
    .all(JSON.stringify(places)) as StoredChange[];
  const changes = new Map<string, QueuedChange[]>();
  for (const row of rows) {
    const known = changes.get(row.row_id);
    if (known) known.push(outbox.queued(row));
    else changes.set(row.row_id, [outbox.queued(row)]);
  }
  return changes;
}

/** Whether anything waits to be sent, or for what became of it. */
export function hasUnsent({ database }: Outbox): boolean {
  const text = `SELECT 1 FROM koinon_change c LEFT JOIN koinon_sent s ON s.sequence = coalesce(c.sequence, c.place)
    WHERE s.state IS NULL OR s.state IN ('pending', 'attempted') LIMIT 1`;
  return database.statement(text).get() !== undefined;
}

/** The place of a transaction that has been sent, by its id. */
export function placeOfSent({ database }: Outbox, id: string): number | undefined {
  const found = database.statement('SELECT sequence FROM koinon_sent WHERE id = ?').get(id);
  return (found as { sequence: number } | undefined)?.sequence;
}

/** The ids of transactions that have been sent and are in a state; `pending` is one that has to be sent again. */
export function sentIds({ database }: Outbox, state: TransactionState): string[] {
  const rows = database.statement('SELECT id FROM koinon_sent WHERE state = ? ORDER BY sequence').all(state);
  return (rows as { id: string }[]).map((row) => row.id);
}

/** Notes that transactions are being sent. */
export function noteAttempts({ database }: Outbox, transactions: readonly OutboxTransaction[]): void {
  const sent = transactions.map(({ sequence, id, editedAt }) => [sequence, id, editedAt]);
  database
    .statement(
      `INSERT INTO koinon_sent SELECT value ->> 0, value ->> 1, value ->> 2, 'attempted', NULL FROM json_each(?) WHERE true
       ON CONFLICT (sequence) DO UPDATE SET state = 'attempted', problems = NULL`,
    )
    .run(JSON.stringify(sent));
}

/** Notes that transactions that were sent have been applied just as they are. */
export function noteConfirmed(outbox: Outbox, ids: readonly string[]): void {
  if (ids.length === 0) return;
  outbox.revision++;
  outbox.harmless++;
  outbox.database
    .statement(
      `UPDATE koinon_sent SET state = 'confirmed', problems = NULL
       WHERE id IN (SELECT value FROM json_each(?))`,
    )
    .run(JSON.stringify(ids));
}

/** Notes what became of a transaction that was sent. @param values what the server put in the place of what was sent. */
export function noteState(
  outbox: Outbox,
  sequence: number,
  state: TransactionState,
  problems: readonly Problem[] = [],
  values: readonly ServerValues[] = [],
): void {
  outbox.revision++;
  const { database } = outbox;
  database
    .statement('UPDATE koinon_sent SET state = ?, problems = ? WHERE sequence = ?')
    .run(state, problems.length > 0 ? JSON.stringify(problems) : null, sequence);
  database
    .statement(
      'UPDATE koinon_change SET server_values = NULL WHERE place >= ? AND place < ? AND server_values IS NOT NULL',
    )
    .run(sequence, endOf(outbox, sequence));
  const put = database.statement('UPDATE koinon_change SET server_values = ? WHERE place = ?');
  for (const { table, id, columns } of values)
    for (const place of placesIn(outbox, sequence, table, id)) put.run(JSON.stringify(columns), place);
}

/** Refuses a transaction on this device: it could not be applied any more. What else was known of it is forgotten. */
export function refuseHere(
  outbox: Outbox,
  { sequence, id, editedAt }: { readonly sequence: number; readonly id: string; readonly editedAt: number },
  problem: Problem,
): void {
  outbox.revision++;
  outbox.database
    .statement(
      "INSERT INTO koinon_sent VALUES (?, ?, ?, 'rejected', ?) ON CONFLICT (sequence) DO UPDATE SET state = 'rejected', problems = excluded.problems",
    )
    .run(sequence, id, editedAt, JSON.stringify([problem]));
}

/** Notes that the feed has brought back these changes of one row, all at once however many there are, and what each of them had changed. */
export function noteBack(
  outbox: Outbox,
  table: string,
  id: string,
  changes: readonly QueuedChange[],
  before: readonly (string | null)[],
): void {
  outbox.revision++;
  // Should a transaction have to be sent again as a whole, it must be what it was.
  outbox.keepInserted(table, id);
  const mark = outbox.database.statement('UPDATE koinon_change SET back = 1, before = ? WHERE place = ?');
  changes.forEach(({ place }, i) => {
    mark.run(before[i] ?? null, place);
  });
  outbox.places.remove(table, id, new Set(changes.map(({ place }) => place)));
}

/** A transaction with some of its changes: from one up to another. */
export function stretchOf(outbox: Outbox, sequence: number, from: number, to: number): OutboxTransaction | undefined {
  const rows = outbox.database
    .statement(`${joined} WHERE c.place >= ? AND coalesce(c.sequence, c.place) = ? ORDER BY c.place LIMIT ? OFFSET ?`)
    .all(sequence, sequence, to - from, from) as StoredChange[];
  const [head] = rows;
  if (head === undefined) return undefined;
  return {
    sequence,
    id: head.id as string,
    state: head.state ?? 'pending',
    editedAt: head.edited_at as number,
    changes: rows.map((row) => outbox.changeOf(row)),
    problems: [],
    wasSent: true,
  };
}
