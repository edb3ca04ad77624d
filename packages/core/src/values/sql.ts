import type { Column } from '../schema/column.ts';
import type { AnyRow } from '../schema/schema.ts';
import type { Table } from '../schema/table.ts';

/** What SQLite stores and a driver hands over. */
export type SqlValue = null | number | string | Uint8Array;

/** The value as SQLite stores it. */
export function toSql(column: Column, value: unknown): SqlValue {
  if (value === null || value === undefined) return null;
  switch (column.type) {
    case 'boolean':
      return value ? 1 : 0;
    case 'json':
    case 'set':
      return JSON.stringify(value);
    case 'real':
      return exactReal(value as number);
    default:
      return value as SqlValue;
  }
}

/**
 * A real as it must be bound to arrive unchanged. The drop-in driver for Node 20 binds numbers that are within 2⁻⁵² of a
 * whole number as that number, so 1e-17 would become 0: those go as text, which a REAL column turns back exactly.
 */
function exactReal(value: number): SqlValue {
  const fraction = Math.abs(value - Math.round(value));
  return fraction !== 0 && fraction <= Number.EPSILON ? String(value) : value;
}

/** The value that SQLite stored. Times other programs wrote in SQL's own form come out in ours. */
export function fromSql(column: Column, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  switch (column.type) {
    case 'boolean':
      return value !== 0;
    case 'json':
    case 'set':
      return deepFreeze(JSON.parse(value as string));
    case 'timestamp':
      return (value as string).length === 24 ? value : instantOf(value as string);
    default:
      return value;
  }
}

/**
 * What a row is an instance of. Engines name the class when a frozen row is written to, so its name is the advice:
 * Cannot assign to read only property 'mark' of object '#<FrozenRow_change_it_with_update>'.
 */
class FrozenRow_change_it_with_update {}

/** Makes columns a row: frozen, and of the class whose name says how to change one. */
export function frozenRow(columns: Record<string, unknown>): AnyRow {
  return Object.freeze(Object.setPrototypeOf(columns, FrozenRow_change_it_with_update.prototype)) as AnyRow;
}

/** Turns a driver's raw row into a frozen one, in place. Compiled once per table, since a scan calls it for each row. */
export function rowDecoder(
  table: Table,
  names: readonly string[] = Object.keys(table.columns),
): (raw: unknown) => AnyRow {
  const converted = names.flatMap((name): [string, Column][] => {
    const column = table.columns[name];
    return column && ['boolean', 'json', 'set', 'timestamp'].includes(column.type) ? [[name, column]] : [];
  });
  return (raw) => {
    const row = raw as Record<string, unknown>;
    for (const [name, column] of converted) row[name] = fromSql(column, row[name]);
    return frozenRow(row);
  };
}

/** `2026-05-01 09:30:00`, as SQLite's datetime() writes it, in the form Koinon keeps. Other text stays as it is. */
function instantOf(text: string): string {
  const time = Date.parse(
    /[zZ]|[+-]\d\d:?\d\d$/.test(text) ? text : `${text.replace(' ', 'T')}${text.length > 10 ? 'Z' : ''}`,
  );
  return Number.isNaN(time) ? text : new Date(time).toISOString();
}

function deepFreeze(value: unknown): unknown {
  if (value !== null && typeof value === 'object') {
    for (const member of Object.values(value)) deepFreeze(member);
    Object.freeze(value);
  }
  return value;
}
