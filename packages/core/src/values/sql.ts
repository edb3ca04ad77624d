import type { Column } from '../table/column.ts';
import type { AnyRow, Table } from '../table/table.ts';
import { inOneForm } from './check.ts';

/** A value that SQLite stores and a driver hands over. */
export type SqlValue = null | number | string | Uint8Array;

/** The value as SQLite stores it. */
export function toSql(column: Column, value: unknown): SqlValue {
  if (value === null || value === undefined) return null;
  switch (column.type) {
    case 'boolean':
      return value ? 1 : 0;
    case 'json':
    case 'file':
    case 'set':
      return JSON.stringify(value);
    case 'big-integer':
      return String(value);
    case 'decimal':
    case 'decimal-counter':
    case 'time':
    case 'local-date-time':
      return inOneForm(column, value) as string;
    default:
      return value as SqlValue;
  }
}

/** The value that SQLite stored. */
export function fromSql(column: Column, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  switch (column.type) {
    case 'boolean':
      return value !== 0;
    case 'json':
    case 'file':
    case 'set':
      return deepFreeze(JSON.parse(value as string));
    case 'big-integer':
      return BigInt(value as string);
    default:
      return value;
  }
}

/**
 * The class of all rows. Engines name the class when a frozen row is written to, so its name is the advice:
 * Cannot assign to read only property 'mark' of object '#<FrozenRow_change_it_with_update>'.
 */
class FrozenRow_change_it_with_update {
  [column: string]: unknown;

  constructor(id: unknown, columns: Readonly<Record<string, unknown>>, names: readonly string[]) {
    this.id = id;
    for (let i = 0; i < names.length; i++) {
      const name = names[i] as string;
      this[name] = columns[name] ?? null;
    }
  }
}

/** A row: the id, and of the columns those that are named, null where there is no value. */
export function frozenRow(id: string, columns: Readonly<Record<string, unknown>>, names: readonly string[]): AnyRow {
  return Object.freeze(new FrozenRow_change_it_with_update(id, columns, names)) as unknown as AnyRow;
}

/** Turns a driver's raw row into a frozen one. Compiled once per query, since a scan calls it for each row. */
export function rowDecoder(table: Table, names: readonly string[] = table.names): (raw: unknown) => AnyRow {
  const converted = names.flatMap((name): [string, Column][] => {
    const column = table.columns[name];
    return column && ['boolean', 'json', 'file', 'set', 'big-integer'].includes(column.type) ? [[name, column]] : [];
  });
  return (raw) => {
    const row = raw as Record<string, unknown>;
    for (let i = 0; i < converted.length; i++) {
      const [name, column] = converted[i] as readonly [string, Column];
      row[name] = fromSql(column, row[name]);
    }
    return frozenRow(row.id as string, row, names);
  };
}

/**
 * Puts times that other programs wrote in SQL's own form, `2026-05-01 09:30:00`, into the one Koinon keeps. For raw rows
 * of a database that others write; a replica holds no other times than its own.
 */
export function withOwnTimes(table: Table, raw: unknown): unknown {
  const row = raw as Record<string, unknown>;
  for (const [name, { type }] of table.entries) if (type === 'timestamp') row[name] = instantOf(row[name]);
  return row;
}

function instantOf(text: unknown): unknown {
  if (typeof text !== 'string' || text.length === 24) return text;
  const time = Date.parse(
    /[zZ]|[+-]\d\d:?\d\d$/.test(text) ? text : `${text.replace(' ', 'T')}${text.length > 10 ? 'Z' : ''}`,
  );
  return Number.isNaN(time) ? text : new Date(time).toISOString();
}

/** A value of JSON that nobody changes any more. Bytes stay what they are: they cannot be frozen. */
export function deepFreeze(value: unknown): unknown {
  if (value !== null && typeof value === 'object' && !(value instanceof Uint8Array)) {
    for (const member of Object.values(value)) deepFreeze(member);
    Object.freeze(value);
  }
  return value;
}
