import type { JsonValue } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { fromSql } from './sql.ts';
import { toWire } from './wire.ts';

/** The columns of a row as a driver gives it, as JSON carries them: without making the row first. */
export function wireFromSql({ entries }: Table, raw: Readonly<Record<string, unknown>>): Record<string, JsonValue> {
  const wire: Record<string, JsonValue> = {};
  for (const [name, column] of entries) wire[name] = toWire(column, fromSql(column, raw[name]));
  return wire;
}
