import { type AnyRow, type Column, type JsonValue, type Schema, tableOf } from '@koinon/core';
import { columnsFromWire, columnsToWire, fromWire, type TypedOver, toWire, wholeRow } from '@koinon/core/internal';

/** The values that a change in conflict was typed over, as the file has them. */
interface Stored {
  readonly columns: Readonly<Record<string, JsonValue>>;
  /** For a conflict of the whole row: what it held. */
  readonly row?: Readonly<Record<string, JsonValue>> | null;
}

/** The text for `before` of a change; null where it is in no conflict. */
export function writeTypedOver(schema: Schema, tableName: string, typedOver: TypedOver): string | null {
  if (typedOver.size === 0) return null;
  const table = tableOf(schema, tableName);
  const columns: Record<string, JsonValue> = {};
  for (const [name, value] of typedOver)
    if (name !== null) columns[name] = toWire(table.columns[name] as Column, value);
  if (!typedOver.has(null)) return JSON.stringify({ columns } satisfies Stored);
  const row = typedOver.get(null) as AnyRow | null;
  return JSON.stringify({ columns, row: row && columnsToWire(table, row) } satisfies Stored);
}

/** Reads what {@link writeTypedOver} wrote. */
export function readTypedOver(schema: Schema, tableName: string, id: string, text: string): TypedOver {
  const table = tableOf(schema, tableName);
  const { columns, row } = JSON.parse(text) as Stored;
  const typedOver = new Map<string | null, unknown>();
  for (const [name, value] of Object.entries(columns))
    typedOver.set(name, fromWire(table.columns[name] as Column, value));
  if (row !== undefined) typedOver.set(null, row && wholeRow(table, id, columnsFromWire(table, row)));
  return typedOver;
}
