import {
  type Change,
  type Column,
  type PulledRow,
  type Schema,
  sameValue,
  tableOf,
  type WireChange,
} from '@koinon/core';
import { columnOf, columnsToWire, named, quoteName } from '@koinon/core/internal';
import type { Database } from './database.ts';
import { meta, setMeta } from './layout.ts';

/** Columns by table. */
export type ColumnNames = Readonly<Record<string, readonly string[]>>;

/**
 * The columns that a replica asks for: those of its schema, and of these the ones that are chosen.
 * @throws KoinonError `unknown-table`, `unknown-column`.
 */
export function askedColumns(schema: Schema, chosen: ColumnNames = {}): ColumnNames {
  for (const [table, names] of Object.entries(chosen))
    for (const name of names) columnOf(tableOf(schema, table), table, name);
  return Object.fromEntries(
    Object.entries(schema.tables).flatMap(([name, { home, names }]) =>
      home === 'device' ? [] : [[name, chosen[name] ?? names]],
    ),
  );
}

/**
 * Notes which columns are asked for. What is no longer among them leaves the file, but for what was typed and not sent; what
 * is new among them is fetched beside the cursor.
 */
export function noteColumns(database: Database, schema: Schema, asked: ColumnNames): void {
  const written = JSON.stringify(asked);
  const before = meta(database, 'asked columns');
  if (before === written) return;
  database.transact(() => {
    setMeta(database, 'asked columns', written);
    if (meta(database, 'cursor') === undefined) return;
    const known = before === undefined ? askedColumns(schema) : (JSON.parse(before) as ColumnNames);
    for (const [table, names] of Object.entries(asked)) {
      const had = known[table] ?? [];
      if (names.some((name) => !had.includes(name))) fetchBeside(database);
      for (const name of had)
        if (!names.includes(name) && schema.tables[table]?.columns[name]) empty(database, table, name);
    }
  });
}

/**
 * Notes that what the server holds of the columns and tables asked for is to be fetched beside the cursor. What was begun of that before may have
 * brought rows that the cursor tells nothing of: its own cursor tells of them.
 */
export function fetchBeside(database: Database): void {
  const begun = meta(database, 'backfill');
  if (begun) setMeta(database, 'backfilled', begun);
  setMeta(database, 'backfill', '');
}

/** The columns asked for that the server did not know when it last answered. */
export function unsupportedColumns(database: Database): ColumnNames {
  const noted = meta(database, 'unsupported');
  return noted === undefined ? {} : (JSON.parse(noted) as ColumnNames);
}

/**
 * Notes what the server does not know of what is asked for; says whether it has come to know some of it since. That has to be
 * fetched beside the cursor then.
 */
export function noteUnsupported(database: Database, unsupported: ColumnNames = {}): boolean {
  const before = unsupportedColumns(database);
  if (JSON.stringify(before) === JSON.stringify(unsupported)) return false;
  setMeta(database, 'unsupported', JSON.stringify(unsupported));
  const now = named(unsupported);
  return Object.entries(before).some(([table, names]) => names.some((name) => now[table]?.includes(name) !== true));
}

/** Tells whether a change waits for the server to know its columns. A new row goes without those that hold what they begin with. */
export function isUnsupported(schema: Schema, unsupported: ColumnNames, change: Change): boolean {
  const unknown = unsupported[change.table];
  if (unknown === undefined || change.kind === 'delete') return false;
  if (change.kind === 'update')
    return unknown.some((name) => Object.hasOwn(change.columns, name) || Object.hasOwn(change.operations, name));
  const isTable = Object.keys(change.columns).every((name) => unknown.includes(name));
  const { columns } = tableOf(schema, change.table);
  return isTable || unknown.some((name) => !sameValue(change.columns[name] ?? null, beginning(columns[name])));
}

/** The value that a column begins with, as far as every device and the server agree on that. */
function beginning(column: Column | undefined): unknown {
  return typeof column?.default === 'function' ? null : (column?.default ?? null);
}

/** A new row without the columns that the server does not know. */
export function withoutUnsupported(change: WireChange, unknown: readonly string[] | undefined): WireChange {
  if (unknown === undefined || change.kind !== 'insert' || change.columns === undefined) return change;
  const known = Object.entries(change.columns).filter(([name]) => !unknown.includes(name));
  return { ...change, columns: Object.fromEntries(known) };
}

/** Rows of a server that does not know all their columns, with these as they begin. */
export function completed(
  schema: Schema,
  unsupported: ColumnNames,
  pulled: readonly PulledRow[],
): readonly PulledRow[] {
  if (Object.keys(unsupported).length === 0) return pulled;
  return pulled.map((row) => {
    const unknown = unsupported[row.table];
    const table = schema.tables[row.table];
    if (row.kind !== 'insert' || unknown === undefined || table === undefined) return row;
    const begun = Object.fromEntries(unknown.map((name) => [name, beginning(table.columns[name])]));
    return { ...row, columns: { ...columnsToWire(table, begun), ...row.columns } };
  });
}

function empty(database: Database, table: string, column: string): void {
  // A new row has no base, and may be its own record in the outbox.
  const own = 'SELECT row_id FROM koinon_outbox WHERE table_name = ?';
  database.statement(`UPDATE ${quoteName(table)} SET ${quoteName(column)} = NULL WHERE id NOT IN (${own})`).run(table);
  database
    .statement(`UPDATE koinon_base SET columns = json_set(columns, '$."${column}"', NULL) WHERE table_name = ?`)
    .run(table);
}

/** A new row without the columns that nobody has filled in because they were not asked for: the server knows what they hold. */
export function withoutUnasked(change: WireChange, asked: readonly string[] | undefined): WireChange {
  if (asked === undefined || change.kind !== 'insert' || change.columns === undefined) return change;
  let lacks = false;
  for (const name in change.columns) lacks ||= change.columns[name] === null && !asked.includes(name);
  if (!lacks) return change;
  const kept = Object.entries(change.columns).filter(([name, value]) => value !== null || asked.includes(name));
  return { ...change, columns: Object.fromEntries(kept) };
}
