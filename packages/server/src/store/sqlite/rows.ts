import {
  type AnyRow,
  type Column,
  type Condition,
  type JsonValue,
  KoinonError,
  type Schema,
  type SqlValue,
  type Table,
} from '@koinon/core';
import {
  columnsFromWire,
  conditionSql,
  decimalSizeOf,
  everything,
  fromWire,
  inOneForm,
  quoteName,
  rowDecoder,
  toSql,
  wholeRow,
  wireFromSql,
  withOwnTimes,
} from '@koinon/core/internal';
import { mayBeLarge, type Room, type RowText } from '../store.ts';
import type { TypedValues } from '../typed-values.ts';
import type { Prepared } from './driver.ts';
import type { StoredTimes } from './stored-times.ts';

/** How the app's tables are read. */
export interface TableReading {
  /** The quoted name by which a table is read. */
  readonly relation: (table: string) => string;
  /** The columns that nothing holds to their types, by table. */
  readonly unenforced: ReadonlyMap<string, ReadonlySet<string>>;
  readonly typed: TypedValues;
  readonly times: StoredTimes;
}

/** Rows by their keys. */
interface Found {
  readonly rows: readonly { readonly id: string; readonly columns: Record<string, JsonValue> }[];
  readonly bytes: number;
  readonly more: boolean;
}

/** Rows that SQLite has made into text. */
interface MadeText {
  readonly count: number;
  readonly last: string | null;
  readonly fits: 0 | 1;
  readonly json: string;
}

/** Rows that are made into text at once. */
const textStride = 500;

/** The facts in the stamp of a row that is gone. */
interface Gone {
  readonly table_name: string;
  readonly row_id: string;
  readonly image: string | null;
}

/** The rows of the app's tables, as they stand and as tombstones keep them. Reads on one connection. */
export class AppRows {
  private readonly database: Prepared;
  private readonly schema: Schema;
  private readonly tables: TableReading;
  private readonly decoders = new Map<string, (raw: unknown) => AnyRow>();
  private readonly fieldLists = new Map<string, string>();

  constructor(database: Prepared, schema: Schema, tables: TableReading) {
    this.database = database;
    this.schema = schema;
    this.tables = tables;
  }

  /** The quoted name by which a table is read. */
  relation(table: string): string {
    return this.tables.relation(table);
  }

  /** A row; null where there is none. */
  byId(table: string, id: string): AnyRow | null {
    const raw = this.database.get(`SELECT ${this.fields(table)} FROM ${this.tables.relation(table)} WHERE id = ?`, id);
    return raw === undefined ? null : this.decode(table, raw);
  }

  /** Rows of one table by their ids; those that are not there are left out. */
  byIds(table: string, ids: readonly string[]): AnyRow[] {
    const among = 'id IN (SELECT value FROM json_each(?))';
    const sql = `SELECT ${this.fields(table)} FROM ${this.tables.relation(table)} WHERE ${among}`;
    return this.database.all(sql, JSON.stringify(ids)).map((raw) => this.decode(table, raw));
  }

  /** The rows of a table that fulfil a condition. */
  where(table: string, where: Condition): AnyRow[] {
    const { text, values } = this.condition(table, where);
    const rows = this.database.all(
      `SELECT ${this.fields(table)} FROM ${this.tables.relation(table)} WHERE ${text} ORDER BY id`,
      ...values,
    );
    return rows.map((raw) => this.decode(table, raw));
  }

  /** Rows behind a key, in the order of their keys, as JSON carries them: as many as there is room for. */
  after(table: string, after: string | null, room: Room, where = everything): Found {
    const { text, values } = this.condition(table, where);
    const large = this.large(table);
    const rows: { readonly id: string; readonly columns: Record<string, JsonValue> }[] = [];
    let bytes = 0;
    for (let last = after; rows.length < room.rows && bytes < room.bytes; ) {
      const left = { rows: room.rows - rows.length, bytes: room.bytes - bytes };
      const from = `FROM ${this.tables.relation(table)} WHERE ${isBehind(last)} AND ${text} ORDER BY id LIMIT ?`;
      const given = last === null ? values : [last, ...values];
      const most = large.length > 0 ? this.fitting(large, from, given, left) : left.rows;
      const found = this.database.all<{ id: string }>(`SELECT ${this.fields(table)} ${from}`, ...given, most);
      for (const raw of found) {
        for (const name of large) bytes += storedBytes((raw as Record<string, unknown>)[name]);
        rows.push({ id: raw.id, columns: this.wire(table, raw) });
      }
      if (found.length < most) return { rows, bytes, more: false };
      last = found.at(-1)?.id ?? last;
    }
    return { rows, bytes, more: true };
  }

  /** The same rows as text that SQLite makes; undefined for a table whose columns it cannot, or that nothing holds to their types. */
  textAfter(
    table: string,
    columns: readonly string[],
    after: string | null,
    room: Room,
    where = everything,
  ): RowText | undefined {
    const definition = this.schema.tables[table] as Table;
    const unenforced = [...(this.tables.unenforced.get(table) ?? [])];
    const areHeld = unenforced.every((name) => definition.columns[name]?.type === 'set');
    if (definition.hasBytes || !areHeld) return undefined;
    const { text, values } = this.condition(table, where);
    const large = this.large(table);
    const fields = columns.map((name) => jsonSql(definition.columns[name] as Column, quoteName(name)));
    const fits = ['true', ...unenforced.map((name) => isSetSql(quoteName(name)))].join(' AND ');
    const parts: string[] = [];
    let [last, count, bytes] = [after, 0, 0];
    while (count < room.rows && bytes < room.bytes) {
      const from = `FROM ${this.tables.relation(table)} WHERE ${isBehind(last)} AND ${text} ORDER BY id LIMIT ?`;
      const given = last === null ? values : [last, ...values];
      const left = { rows: Math.min(room.rows - count, textStride), bytes: room.bytes - bytes };
      const most = large.length > 0 ? this.fitting(large, from, given, left) : left.rows;
      const found = this.database.get<MadeText>(
        `SELECT count(*) AS count, max(id) AS last, coalesce(min(${fits}), 1) AS fits, json_group_array(json_array(${['id', ...fields].join(', ')})) AS json
         FROM (SELECT * ${from})`,
        ...given,
        most,
      ) as MadeText;
      if (found.fits === 0) return undefined;
      if (found.count > 0) parts.push(found.json.slice(1, -1));
      count += found.count;
      bytes += found.json.length;
      last = found.last ?? last;
      if (found.count < most) return { json: `[${parts.join()}]`, count, last, more: false };
    }
    return { json: `[${parts.join()}]`, count, last, more: true };
  }

  /** The columns of a table that may be large. */
  large(table: string): readonly string[] {
    const { entries } = this.schema.tables[table] as Table;
    return entries.flatMap(([name, column]) => (mayBeLarge(column) ? [name] : []));
  }

  /** The size of some rows of a table in columns that may be large, in bytes. */
  bytesOf(table: string, ids: readonly string[]): number {
    const large = this.large(table);
    if (large.length === 0) return 0;
    const among = 'id IN (SELECT value FROM json_each(?))';
    const sql = `SELECT sum(${sizeSql(large)}) AS bytes FROM ${this.tables.relation(table)} WHERE ${among}`;
    return this.database.get<{ bytes: number | null }>(sql, JSON.stringify(ids))?.bytes ?? 0;
  }

  /** How many of some rows fit. */
  private fitting(names: readonly string[], from: string, values: readonly SqlValue[], { rows, bytes }: Room): number {
    const sized = `SELECT id, ${sizeSql(names)} AS size ${from}`;
    const all = this.database.get<{ bytes: number | null }>(
      `SELECT sum(size) AS bytes FROM (${sized})`,
      ...values,
      rows,
    );
    if ((all?.bytes ?? 0) <= bytes) return rows;
    const fit = `SELECT count(*) AS most FROM (SELECT sum(size) OVER (ORDER BY id) - size AS before FROM (${sized})) WHERE before < ?`;
    return (this.database.get<{ most: number }>(fit, ...values, rows, bytes) as { most: number }).most;
  }

  /** How many rows of a table fulfil a condition. */
  count(table: string, where = everything): number {
    const { text, values } = this.condition(table, where);
    const sql = `SELECT count(*) AS n FROM ${this.tables.relation(table)} WHERE ${text}`;
    return (this.database.get(sql, ...values) as { n: number }).n;
  }

  /** The values that a deleted row held last, as JSON carries them. */
  imageOf({ table_name: table, row_id: id, image }: Gone): Record<string, JsonValue> | undefined {
    if (image === null) return undefined;
    const raw = JSON.parse(image) as Record<string, SqlValue>;
    // The trigger writes bytes as hexadecimal digits, and reals as text with all of theirs.
    for (const [name, { type }] of (this.schema.tables[table] as Table).entries) {
      const value = raw[name];
      if (type === 'bytes' && typeof value === 'string') raw[name] = Buffer.from(value, 'hex');
      else if (type === 'real' && typeof value === 'string') raw[name] = Number(value);
      else if (isDecimal(type) && typeof value === 'string') raw[name] = shortest(value);
    }
    const whole = Object.fromEntries(
      (this.schema.tables[table] as Table).names.map((name) => [name, raw[name] ?? null]),
    );
    return this.wire(table, { id, ...whole });
  }

  /** The same as a row. */
  lastOf(stamp: Gone): AnyRow | undefined {
    const columns = this.imageOf(stamp);
    const table = this.schema.tables[stamp.table_name] as Table;
    return columns && wholeRow(table, stamp.row_id, columnsFromWire(table, columns));
  }

  /** The end of a condition's SQL in this table. */
  private condition(table: string, where: Condition): { readonly text: string; readonly values: readonly SqlValue[] } {
    const values: SqlValue[] = [];
    const definition = this.schema.tables[table] as Table;
    const unenforced = this.tables.unenforced.get(table);
    const read = (name: string) => {
      const column = unenforced?.has(name) ? definition.columns[name] : undefined;
      return column && decimalSizeOf(column) ? readableSql(column, quoteName(name)) : quoteName(name);
    };
    return { text: conditionSql(definition, where, values, read), values };
  }

  /** The expressions that are selected of a row, `id` first. */
  private fields(table: string): string {
    const known = this.fieldLists.get(table);
    if (known) return known;
    const made = this.fieldsOf(table, (this.schema.tables[table] as Table).names);
    this.fieldLists.set(table, made);
    return made;
  }

  /** The same of some columns. */
  fieldsOf(table: string, names: readonly string[]): string {
    const { columns } = this.schema.tables[table] as Table;
    const unenforced = this.tables.unenforced.get(table);
    const fields = names.map((name) => {
      const column = columns[name] as Column;
      const quoted = quoteName(name);
      // Drivers stumble over whole numbers of 64 bits also where they are held to be that.
      const isRead = unenforced?.has(name) || column.type === 'big-integer';
      return isRead ? `${readableSql(column, quoted)} AS ${quoted}` : quoted;
    });
    return ['id', ...fields].join(', ');
  }

  private decode(table: string, raw: unknown): AnyRow {
    const decoder = this.decoders.get(table) ?? rowDecoder(this.schema.tables[table] as Table);
    this.decoders.set(table, decoder);
    return decoder(this.typed(table, raw));
  }

  /** Reads some columns of rows as they were selected, with values of their types. */
  decoderOf(table: string, names: readonly string[]): (raw: unknown) => AnyRow {
    const decode = rowDecoder(this.schema.tables[table] as Table, names);
    return (raw) => decode(this.typed(table, raw));
  }

  /**
   * A column as an expression whose values are compared as they are everywhere.
   *
   * @throws KoinonError `query-invalid` for one whose times have a form of their own.
   */
  comparedSql(table: string): (name: string) => string {
    const { columns } = this.schema.tables[table] as Table;
    const unenforced = this.tables.unenforced.get(table);
    return (name) => {
      const column = name === 'id' ? undefined : columns[name];
      const quoted = quoteName(name);
      if (column === undefined) return quoted;
      if (this.tables.times.get(table)?.has(name))
        throw new KoinonError(
          'query-invalid',
          `Rows cannot be asked for or ordered by ${name} on the server: its database keeps the times in a form of its own.`,
          { table, column: name },
        );
      if (column.type === 'timestamp' || column.type === 'big-integer') return `(${jsonSql(column, quoted)})`;
      return unenforced?.has(name) && decimalSizeOf(column) ? readableSql(column, quoted) : quoted;
    };
  }

  private wire(table: string, raw: unknown): Record<string, JsonValue> {
    const definition = this.schema.tables[table] as Table;
    return wireFromSql(definition, this.typed(table, raw));
  }

  /** A row as it was selected, with values of its columns' types. */
  private typed(table: string, raw: unknown): Record<string, unknown> {
    const definition = this.schema.tables[table] as Table;
    const row = raw as Record<string, unknown>;
    for (const [name, form] of this.tables.times.get(table) ?? []) if (name in row) row[name] = form.read(row[name]);
    withOwnTimes(definition, row);
    for (const name of this.tables.unenforced.get(table) ?? []) {
      if (!(name in row)) continue;
      const column = definition.columns[name] as Column;
      const found = { table, id: row.id as string, column: name };
      row[name] = toSql(column, this.tables.typed.read(found, column, storedValue(column, row[name])));
    }
    return row;
  }
}

const isDecimal = (type: Column['type']) => type === 'decimal' || type === 'decimal-counter';

/** The digits of a number that a trigger wrote: a double has more of them than somebody gave it. */
function shortest(text: string): string {
  const number = String(Number(text));
  return /^-?\d{1,15}\.\d{16,}$/.test(text) && !number.includes('e') ? number : text;
}

/** The size of a row in some columns. SQLite tells the size of a value without reading it. */
function sizeSql(names: readonly string[]): string {
  return names.map((name) => `coalesce(octet_length(${quoteName(name)}), 0)`).join(' + ');
}

/** A column as JSON has it, in the form of {@link wireFromSql}. */
function jsonSql({ type }: Column, name: string): string {
  if (type === 'big-integer') return `CAST(${name} AS TEXT)`;
  if (type === 'boolean') return `json(CASE ${name} WHEN 1 THEN 'true' WHEN 0 THEN 'false' END)`;
  if (type === 'json' || type === 'file' || type === 'set') return `iif(json_valid(${name}), json(${name}), NULL)`;
  // Minus zero is zero.
  if (type === 'real') return `${name} + 0.0`;
  // Other programs may write times in SQL's own form.
  if (type === 'timestamp')
    return `iif(length(${name}) <> 24 AND ${name} GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]*', strftime('%Y-%m-%dT%H:%M:%fZ', ${name}), ${name})`;
  return name;
}

/** Tells whether a column holds a set of texts. */
function isSetSql(name: string): string {
  const text = `iif(json_valid(${name}), ${name}, '[0]')`;
  const members = `SELECT count(*) = count(DISTINCT value) AND coalesce(sum(type <> 'text'), 0) = 0 FROM json_each(${text})`;
  return `(${name} IS NULL OR (json_type(${text}) = 'array' AND (${members})))`;
}

/** The size of a value in the database, about. */
export function storedBytes(value: unknown): number {
  if (typeof value === 'string') return value.length;
  return value instanceof Uint8Array ? value.byteLength : 0;
}

/** A column that may hold anything, selected so that no driver stumbles over it: whole numbers may be too large for JavaScript. */
function readableSql(column: Column, name: string): string {
  const { type } = column;
  const whole = (read: string) => `CASE typeof(${name}) WHEN 'integer' THEN ${read} ELSE ${name} END`;
  const size = decimalSizeOf(column);
  // A number with all its digits; one that has more of them than the column as it is, to be told from the others.
  if (size !== undefined && type !== 'big-integer') {
    const printed = `printf('%.${size.scale}f', ${name})`;
    return `CASE typeof(${name}) WHEN 'text' THEN ${name} ELSE iif(CAST(${printed} AS REAL) = ${name}, ${printed}, CAST(${name} AS TEXT)) END`;
  }
  if (type === 'real') return whole(`CAST(${name} AS REAL)`);
  if (type === 'boolean') return whole(`${name} <> 0`);
  if (type !== 'integer' && type !== 'counter') return whole(`CAST(${name} AS TEXT)`);
  return whole(`iif(${name} BETWEEN -9007199254740991 AND 9007199254740991, ${name}, CAST(${name} AS TEXT))`);
}

/** The stored value of such a column; undefined where it cannot be one. */
function storedValue(column: Column, stored: unknown): unknown {
  if (stored === null || stored === undefined) return null;
  switch (column.type) {
    case 'boolean':
      return typeof stored === 'number' ? stored !== 0 : undefined;
    case 'json':
    case 'file':
    case 'set':
      try {
        return JSON.parse(stored as string) as unknown;
      } catch {
        return undefined;
      }
    case 'integer':
    case 'counter':
    case 'real':
    case 'bytes':
      return stored;
    case 'big-integer':
      return typeof stored === 'string' ? fromWire(column, stored) : stored;
    case 'decimal':
    case 'decimal-counter':
    case 'time':
    case 'local-date-time':
      return inOneForm(column, stored);
    default:
      // The id of a row whose key is a number, say.
      return typeof stored === 'number' ? String(stored) : stored;
  }
}

/** The rows behind a key. Without one there is no bound: SQLite would look from there on where the condition has a better one. */
const isBehind = (last: string | null) => (last === null ? 'true' : 'id > ?');
