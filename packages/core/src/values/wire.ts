import { isValid } from 'js-base64';
import { fromBase64, toBase64 } from '#base64';
import type { Column, JsonValue } from '../table/column.ts';
import type { Table } from '../table/table.ts';

/** Column values by name, as JSON carries them. */
export type WireColumns = Readonly<Record<string, JsonValue>>;

/** The value as JSON carries it: bytes as base64 (RFC 4648), bigints as their digits, everything else as it is. */
export function toWire(column: Column, value: unknown): JsonValue {
  if (value === null || value === undefined) return null;
  if (column.type === 'big-integer') return String(value);
  return column.type === 'bytes' ? toBase64(value as Uint8Array) : (value as JsonValue);
}

const wholeForm = /^(0|-?[1-9]\d{0,18})$/;

/** The value that JSON carried. Not checked: {@link checkValue} does that. Bytes that are not base64 stay text. */
export function fromWire(column: Column, value: JsonValue): unknown {
  if (column.type === 'bytes' && typeof value === 'string' && isValid(value)) return fromBase64(value);
  if (column.type === 'big-integer' && typeof value === 'string' && wholeForm.test(value)) return BigInt(value);
  return value;
}

/** Columns of a row as JSON carries them; names the table does not know are left out, and `id`. */
export function columnsToWire(table: Table, columns: Readonly<Record<string, unknown>>): Record<string, JsonValue> {
  // Only bytes and bigints look different in JSON.
  if (table.isPlain && !('id' in columns)) return columns as Record<string, JsonValue>;
  const wire: Record<string, JsonValue> = {};
  for (const name in columns) {
    const column = table.columns[name];
    if (column) wire[name] = toWire(column, columns[name]);
  }
  return wire;
}

/** Columns that JSON carried; names the table does not know are left out. */
export function columnsFromWire(table: Table, wire: WireColumns): Readonly<Record<string, unknown>> {
  // Only bytes and bigints look different in JSON.
  if (table.isPlain && areKnown(table, wire)) return wire;
  const columns: Record<string, unknown> = {};
  for (const name of Object.keys(wire)) {
    const column = Object.hasOwn(table.columns, name) ? table.columns[name] : undefined;
    if (column) columns[name] = fromWire(column, wire[name] as JsonValue);
  }
  return columns;
}

function areKnown(table: Table, wire: WireColumns): boolean {
  for (const name in wire) if (!Object.hasOwn(table.columns, name)) return false;
  return true;
}
