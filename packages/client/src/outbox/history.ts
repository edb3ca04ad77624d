import { type AnyRow, type Change, type RowKey, type Schema, tableOf } from '@koinon/core';
import { applyChange, columnsFromWire, columnsToWire, quoteName, rowKey, wholeRow } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import type { Outbox, QueuedChange } from './outbox.ts';

/** How long confirmed transactions are kept, in milliseconds: 7 days. */
export const keepFor = 7 * 86_400_000;

const copied = 'kind, id, origin, edited_at, table_name, row_id, columns, operations, before';

// Confirmed transactions that the feed has brought back are kept for some days: should the server's database be restored
// from a backup that lacks them, they are offered again. Each change is kept with what it changed, so that what the server
// has then can be told from what somebody did there meanwhile.

/** Keeps a transaction that is about to leave the outbox, from its place up to another. */
export function keep(database: Database, sequence: number, end: number, now: number): void {
  // Places go on behind those that are there, so that those of one transaction stay together.
  database
    .statement(
      `INSERT INTO koinon_history (place, kept_at, sequence, ${copied})
       SELECT place + shift, ?1, sequence + shift, ${copied}
       FROM koinon_outbox, (SELECT coalesce(max(place), 0) + 1 - ?2 AS shift FROM koinon_history)
       WHERE place >= ?2 AND place < ?3 ORDER BY place`,
    )
    .run(now, sequence, end);
}

/** Forgets what was confirmed before a time. */
export function forgetKept(database: Database, before: number): void {
  // All rows of one transaction have the same time.
  database.statement('DELETE FROM koinon_history WHERE kept_at < ?').run(before);
}

/** Forgets what is kept of rows that are not here any more. */
export function forgetGoneRows(database: Database, schema: Schema): void {
  for (const [table, { home }] of Object.entries(schema.tables)) {
    if (home === 'device') continue;
    const isGone = `table_name = ? AND row_id NOT IN (SELECT id FROM ${quoteName(table)})`;
    database.statement(`DELETE FROM koinon_history WHERE ${isGone}`).run(table);
  }
  forgetEmpty(database);
}

const isAmong = 'table_name = ? AND row_id IN (SELECT value FROM json_each(?))';

/** The ids of rows as JSON, by table: with an index for neither, the list is read once and not once for each. */
function idsByTable(rows: readonly RowKey[]): Iterable<readonly [string, string]> {
  const ids = new Map<string, string[]>();
  for (const { table, id } of rows) {
    const known = ids.get(table);
    if (known) known.push(id);
    else ids.set(table, [id]);
  }
  return [...ids].map(([table, some]) => [table, JSON.stringify(some)] as const);
}

/** Forgets what is kept of some rows. */
export function forgetRows(database: Database, rows: readonly RowKey[]): void {
  const forget = database.statement(`DELETE FROM koinon_history WHERE ${isAmong}`);
  for (const [table, some] of idsByTable(rows)) forget.run(table, some);
  const ids = JSON.stringify(rows.map(({ id }) => id));
  // The input of an action may name the row, and tell of it.
  const names = (input: string) =>
    `EXISTS (SELECT 1 FROM json_each(${input}) WHERE value IN (SELECT value FROM json_each(?)))`;
  database.statement(`DELETE FROM koinon_history WHERE kind = 'action' AND ${names('columns')}`).run(ids);
  if (database.statement("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_invocation'").get() !== undefined)
    database.statement(`DELETE FROM koinon_invocation WHERE ${names('input')}`).run(ids);
  forgetEmpty(database);
}

/** Empties the confirmed changes of rows that have left, which the outbox holds until the feed has brought them all. */
export function eraseConfirmed(database: Database, rows: readonly RowKey[]): void {
  const erase = database.statement(
    `UPDATE koinon_outbox SET columns = CASE kind WHEN 'delete' THEN NULL ELSE '{}' END, operations = NULL, before = NULL
     WHERE is_acknowledged = 1 AND ${isAmong}`,
  );
  for (const [table, some] of idsByTable(rows)) erase.run(table, some);
}

/** Transactions of which nothing is kept any more are forgotten themselves. */
function forgetEmpty(database: Database): void {
  database
    .statement(
      "DELETE FROM koinon_history WHERE kind = 'transaction' AND place NOT IN (SELECT sequence FROM koinon_history WHERE sequence IS NOT NULL)",
    )
    .run();
}

/**
 * Offers again what was confirmed in the last days, since the server may have lost it: as transactions that were sent
 * before, in front of all others. Returns the rows they touch as they were before, none for one that nobody can tell.
 */
export function offerAgain(
  database: Database,
  schema: Schema,
  outbox: Outbox,
  rowOf: (table: string, id: string) => AnyRow | null,
): Iterable<OfferedRow> {
  // Which rows have changes is asked as it was before these are among them.
  outbox.places.load();
  outbox.revision++;
  const offered = offeredRows(schema, putBack(database), rowOf);
  outbox.places.forget();
  return offered;
}

/**
 * Puts all that is kept back into the outbox, in front of what is there, as transactions that were sent before. Returns
 * the rows they touch, with what each change undone leads back to, last change first.
 */
function putBack(database: Database): readonly UndoneChange[] {
  const undone = database
    .statement(
      `SELECT table_name AS "table", row_id AS id, kind, before FROM koinon_history WHERE kind NOT IN ('transaction', 'action') ORDER BY place DESC`,
    )
    .all() as UndoneChange[];
  if (database.statement('SELECT 1 FROM koinon_history LIMIT 1').get() === undefined) return [];
  const { shift } = database
    .statement(
      `SELECT (SELECT coalesce(min(place), 1) FROM koinon_outbox) - 1 - (SELECT max(place) FROM koinon_history) AS shift`,
    )
    .get() as { shift: number };
  const columns = copied.replace('before', 'NULL');
  database
    .statement(
      `INSERT INTO koinon_outbox (place, sequence, state, ${copied})
       SELECT place + ?1, sequence + ?1, CASE kind WHEN 'transaction' THEN 'pending' END, ${columns} FROM koinon_history`,
    )
    .run(shift);
  database.statement('DELETE FROM koinon_history').run();
  return undone;
}

/** A change that is offered again, and what it had changed. */
interface UndoneChange {
  readonly table: string;
  readonly id: string;
  readonly kind: Change['kind'];
  readonly before: string | null;
}

/** A row that is offered again, as it was before. */
export interface OfferedRow {
  readonly table: string;
  readonly id: string;
  readonly row: AnyRow | null;
}

/** The rows as they were before these changes, last change first; `rowOf` says how they are now. */
function offeredRows(
  schema: Schema,
  undone: readonly UndoneChange[],
  rowOf: (table: string, id: string) => AnyRow | null,
): Iterable<OfferedRow> {
  const rows = new Map<string, OfferedRow>();
  for (const { table, id, kind, before } of undone) {
    const key = rowKey({ table, id });
    const known = rows.get(key);
    const now = known ? known.row : rowOf(table, id);
    const columns = before === null ? {} : columnsFromWire(tableOf(schema, table), JSON.parse(before));
    const isNobodysToTell = kind === 'update' && now === null;
    const row =
      kind === 'insert' || isNobodysToTell ? null : wholeRow(tableOf(schema, table), id, { ...now, ...columns });
    rows.set(key, { table, id, row });
  }
  return rows.values();
}

/** The columns that each of these changes of one row changes, in order, from a row on: as JSON, null for an insert. */
export function beforeOf(schema: Schema, row: AnyRow | null, changes: readonly QueuedChange[]): (string | null)[] {
  let now = row;
  return changes.map(({ change }) => {
    const table = tableOf(schema, change.table);
    const names =
      change.kind === 'update' ? [...Object.keys(change.columns), ...Object.keys(change.operations)] : table.names;
    const held = now;
    now = applyChange(table, now, change);
    if (change.kind === 'insert' || held === null) return null;
    return JSON.stringify(columnsToWire(table, Object.fromEntries(names.map((name) => [name, held[name]]))));
  });
}
