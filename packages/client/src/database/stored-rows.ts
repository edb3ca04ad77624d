import type { Column, JsonValue, WireColumns } from '@koinon/core';
import { fromSql, quoteName, toWire } from '@koinon/core/internal';
import type { Database } from './database.ts';
import { meta } from './layout.ts';
import type { StoredColumn } from './shape.ts';

/** Tables, and their columns, as a file remembers its schema. */
export type StoredTables = Readonly<Record<string, Readonly<Record<string, StoredColumn>>>>;

/** The tables of a file; of one whose own record cannot be read, those that SQLite knows, with columns of text. */
export function storedTables(database: Database): StoredTables {
  try {
    return (JSON.parse(meta(database, 'schema') as string) as { tables: StoredTables }).tables;
  } catch {
    const names = database.once(
      "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'koinon%' AND name NOT LIKE 'sqlite%'",
    ) as { name: string }[];
    const columnsOf = (table: string) =>
      (database.once(`SELECT name FROM pragma_table_info(?) WHERE name <> 'id'`, table) as { name: string }[]).map(
        ({ name }): [string, StoredColumn] => [name, { type: 'text', optional: true }],
      );
    return Object.fromEntries(names.map(({ name }) => [name, Object.fromEntries(columnsOf(name))]));
  }
}

/** The columns of a stored row as they travel. A value that cannot be read as its type is left as it is. */
export function wireOf(
  columns: Readonly<Record<string, StoredColumn>>,
  raw: Readonly<Record<string, unknown>>,
): WireColumns {
  const wire: Record<string, JsonValue> = {};
  for (const [name, { type }] of Object.entries(columns)) {
    const column = { type } as Column;
    try {
      const value = fromSql(column, raw[name]);
      wire[name] = toWire(value instanceof Uint8Array ? ({ type: 'bytes' } as Column) : column, value);
    } catch {
      wire[name] = String(raw[name]);
    }
  }
  return wire;
}

/** A row of an app's table as it travels; undefined where there is none. */
export function storedRow(
  database: Database,
  tables: StoredTables,
  table: string,
  id: string,
): WireColumns | undefined {
  const columns = Object.hasOwn(tables, table) ? tables[table] : undefined;
  if (columns === undefined) return undefined;
  const [raw] = database.once(`SELECT * FROM ${quoteName(table)} WHERE id = ?`, id) as Record<string, unknown>[];
  return raw && wireOf(columns, raw);
}
