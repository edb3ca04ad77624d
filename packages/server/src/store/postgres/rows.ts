import type { AnyRow, Column, Condition, JsonValue } from '@koinon/core';
import { columnsToWire, frozenRow, quoteText, rowKey } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { byTable, mayBeLarge, type Room, type RowText, type Wanted } from '../store.ts';
import type { TypedValues } from '../typed-values.ts';
import { aliveSql, type ExistingColumn, jsonSql, readSql, readValue } from './columns.ts';
import { type ConditionTable, conditionSql } from './condition.ts';
import { jsonArrayText } from './json.ts';
import { idSql, keySql } from './key.ts';
import type { AppTable } from './layout.ts';

/** So few rows are read whatever they hold. */
const fewRows = 8;

/** How many of some rows there is room for, and what they hold. */
interface Fitting {
  readonly most: number;
  readonly bytes: number;
}

/** The facts about a row in its stamp. */
interface Deleted {
  readonly table_name: string;
  readonly row_id: string;
  readonly deleted: boolean;
}

/** The rows of the app's tables, as they stand and as tombstones keep them. Reads on one connection. */
export class AppRows {
  private readonly client: ClientBase;
  private readonly tables: ReadonlyMap<string, AppTable>;
  private readonly typed: TypedValues;

  constructor(client: ClientBase, tables: ReadonlyMap<string, AppTable>, typed: TypedValues) {
    this.client = client;
    this.tables = tables;
    this.typed = typed;
  }

  /** Rows of one table by their ids; those that are not there are left out. */
  async byIds(table: string, ids: readonly string[]): Promise<Map<string, AnyRow>> {
    const { key, sql, softDelete } = this.table(table);
    const alive = softDelete ? aliveSql(softDelete, 'r') : 'true';
    const { rows } = await this.client.query<unknown[]>({
      text: `SELECT ${this.fields(table)} FROM ${sql} r WHERE ${keySql(key, 'r')} = ANY($1::${key.type}[]) AND ${alive}`,
      values: [await this.possible(table, ids)],
      rowMode: 'array',
    });
    return new Map(rows.map((raw) => this.decode(table, raw)).map((row) => [row.id, row]));
  }

  /**
   * How many of some rows fit, and what they hold. PostgreSQL tells the size of a value without reading it.
   *
   * @param from what the rows are selected by, in the order of their keys, up to the first of the values.
   */
  async fitting(table: string, from: string, values: readonly unknown[], { rows, bytes }: Room): Promise<Fitting> {
    const size = this.sizeSql(table);
    if (size === undefined) return { most: rows, bytes: 0 };
    const found = await this.client.query<{ most: number; all: number; bytes: number }>(
      `SELECT count(*) FILTER (WHERE before < $${values.length + 1})::int AS most, count(*)::int AS all,
         coalesce(sum(size) FILTER (WHERE before < $${values.length + 1}), 0)::float8 AS bytes
       FROM (SELECT size, sum(size) OVER (ORDER BY place) - size AS before
         FROM (SELECT ${size} AS size, row_number() OVER () AS place FROM (SELECT * ${from}) r) sized) summed`,
      [...values, bytes],
    );
    const fit = found.rows[0] as { most: number; all: number; bytes: number };
    return { most: fit.most < fit.all ? fit.most : rows, bytes: fit.bytes };
  }

  /** The same of rows by their stamps, in their order. A few are not counted. */
  async fittingOf(stamps: readonly (Deleted & { readonly image_size: number | null })[], room: Room): Promise<Fitting> {
    if (stamps.length <= fewRows) return { most: room.rows, bytes: 0 };
    const sizes = new Map<string, number>();
    const wanted = byTable(
      stamps.flatMap(({ table_name: table, row_id: id, deleted }) =>
        !deleted && this.tables.has(table) ? [{ table, id }] : [],
      ),
    );
    for (const [table, ids] of wanted) {
      const size = this.sizeSql(table);
      if (size === undefined) continue;
      const { key, sql } = this.table(table);
      const { rows } = await this.client.query<{ id: string; size: number }>(
        `SELECT ${idSql(key, 'r')} AS id, (${size})::float8 AS size FROM ${sql} r WHERE ${keySql(key, 'r')} = ANY($1::${key.type}[])`,
        [await this.possible(table, ids)],
      );
      for (const row of rows) sizes.set(rowKey({ table, id: row.id }), row.size);
    }
    let bytes = 0;
    let most = 0;
    for (const { table_name: table, row_id: id, deleted, image_size } of stamps.slice(0, room.rows)) {
      if (bytes >= room.bytes) break;
      bytes += deleted ? (image_size ?? 0) : (sizes.get(rowKey({ table, id })) ?? 0);
      most++;
    }
    return { most, bytes };
  }

  /** Rows behind a key as text that PostgreSQL makes; undefined where it cannot, or a value is not of its column's type. */
  async textAfter(
    name: string,
    columns: readonly string[],
    after: string | null,
    room: Room,
    where: Condition,
  ): Promise<RowText | undefined> {
    const table = this.table(name);
    const { key, sql } = table;
    const fields = columns.map((column) => {
      const { sql: quoted, type } = table.columns.get(column) as ExistingColumn;
      return jsonSql(table.table.columns[column] as Column, { sql: `r.${quoted}`, type });
    });
    const written = fields.flatMap((field) => field ?? []);
    if (written.length < fields.length || key.type !== 'text') return undefined;
    const values: unknown[] = after === null ? [room.rows] : [room.rows, after];
    const behind = after === null ? 'true' : `${keySql(key, 'r')} > $2::${key.type}`;
    const from = `FROM ${sql} r WHERE ${behind} AND ${this.fulfils(name, where, values)} ORDER BY ${keySql(key, 'r')} LIMIT $1`;
    const { most } = await this.fitting(name, from, values, room);
    const made = jsonArrayText([keySql(key, 'r'), ...written.map(({ json }) => json)]);
    const fits = written.map(({ json, fits }) => `coalesce(${fits}, ${json} IS NULL)`).join(' AND ') || 'true';
    const { rows } = await this.client.query<{ count: number; last: string | null; json: string; fits: boolean }>(
      `SELECT count(*)::int AS count, max(${keySql(key, 'r')}) AS last, coalesce(bool_and(${fits}), true) AS fits,
         '[' || coalesce(string_agg(${made}, ','), '') || ']' AS json FROM (SELECT * ${from}) r`,
      [most, ...values.slice(1)],
    );
    const [found] = rows;
    if (!found?.fits) return undefined;
    const { count, last, json } = found;
    return { json, count, last, more: count === most };
  }

  /** The size of a row in columns that may be large, as it is stored; none where no column may. */
  private sizeSql(name: string): string | undefined {
    return this.largeSql(name, this.table(name).table.names, (sql, type) => {
      const size = /^(text|character varying|bytea)$/.test(type) ? 'octet_length' : 'pg_column_size';
      return `${size}(${sql})`;
    });
  }

  /** The size of these columns of a row, as they are sent: what is stored may be compressed. */
  sentSizeSql(name: string, names: readonly string[]): string | undefined {
    return this.largeSql(name, names, (sql, type) => `octet_length(${type === 'bytea' ? sql : `${sql}::text`})`);
  }

  private largeSql(
    name: string,
    names: readonly string[],
    sizeOf: (sql: string, type: string) => string,
  ): string | undefined {
    const { columns, table } = this.table(name);
    const sizes = names.flatMap((column) => {
      const { sql, type } = columns.get(column) as ExistingColumn;
      return mayBeLarge(table.columns[column] as Column) ? [`coalesce(${sizeOf(`r.${sql}`, type)}, 0)::bigint`] : [];
    });
    return sizes.length === 0 ? undefined : sizes.join(' + ');
  }

  /** The rows of a table that fulfil a condition. */
  async where(table: string, where: Condition): Promise<AnyRow[]> {
    const values: unknown[] = [];
    const fulfils = this.fulfils(table, where, values);
    const { key, sql } = this.table(table);
    const text = `SELECT ${this.fields(table)} FROM ${sql} r WHERE ${fulfils} ORDER BY ${keySql(key, 'r')}`;
    const { rows } = await this.client.query<unknown[]>({ text, values, rowMode: 'array' });
    return rows.map((raw) => this.decode(table, raw));
  }

  /** How many they are. */
  async count(table: string, where: Condition): Promise<number> {
    const values: unknown[] = [];
    const fulfils = this.fulfils(table, where, values);
    const text = `SELECT count(*) AS n FROM ${this.table(table).sql} r WHERE ${fulfils}`;
    return Number((await this.client.query<{ n: string }>(text, values)).rows[0]?.n);
  }

  /** Those of these ids that a row of the table can have: where ids are numbers, say, another text is an error to PostgreSQL. */
  async possible(table: string, ids: readonly string[]): Promise<readonly string[]> {
    if (this.table(table).key.type === 'text') return ids;
    const { rows } = await this.client.query<{ id: string }>(
      'SELECT row_id AS id FROM koinon.stamp WHERE table_name = $1 AND row_id = ANY($2)',
      [table, ids],
    );
    return rows.map(({ id }) => id);
  }

  /** For each of these rows that a row of the table refers to, one that does. */
  async referrers(table: string, column: string, ids: readonly string[]): Promise<Map<string, string>> {
    const { key, sql, softDelete, columns } = this.table(table);
    const { sql: name, type } = columns.get(column) as ExistingColumn;
    const alive = softDelete ? aliveSql(softDelete, 'r') : 'true';
    const { rows } = await this.client.query<{ to: string; from: string }>(
      `SELECT DISTINCT ON (r.${name}) r.${name}::text AS to, ${idSql(key, 'r')} AS from FROM ${sql} r
       WHERE r.${name} = ANY($1::${type}[]) AND ${alive}`,
      [ids],
    );
    return new Map(rows.map(({ to, from }) => [to, from]));
  }

  /** The values that deleted rows held last, where they are kept, by table and id. */
  async images(stamps: readonly Deleted[]): Promise<Map<string, Map<string, AnyRow>>> {
    const wanted = byTable(
      stamps.flatMap(({ table_name: table, row_id: id, deleted }) =>
        deleted && this.tables.has(table) ? [{ table, id }] : [],
      ),
    );
    const found = new Map<string, Map<string, AnyRow>>();
    for (const [table, ids] of wanted) {
      const { rows } = await this.client.query<unknown[]>({
        text: `SELECT ${this.imageFields(table)} FROM koinon.stamp r WHERE table_name = $1 AND row_id = ANY($2) AND image IS NOT NULL`,
        values: [table, ids],
        rowMode: 'array',
      });
      found.set(table, new Map(rows.map((raw) => this.decode(table, raw)).map((row) => [row.id, row])));
    }
    return found;
  }

  /** The SQL of a condition, and of being there at all. */
  fulfils(name: string, where: Condition, values: unknown[]): string {
    const table = this.table(name);
    const alive = table.softDelete ? `${aliveSql(table.softDelete, 'r')} AND ` : '';
    return `${alive}${conditionSql(this.reading(name), where, values)}`;
  }

  /** The SQL of whether the row of a stamp, which has the name `s`, fulfils the condition of its table; it does where there is none. */
  stampFulfils(wanted: Wanted, values: unknown[]): string {
    const cases = [...wanted].map(([name, where]) => {
      const { key, sql } = this.table(name);
      const isIts = `${keySql(key, 'r')} = s.row_id::${key.type}`;
      return `WHEN ${quoteText(name)} THEN EXISTS (SELECT FROM ${sql} r WHERE ${isIts} AND ${this.fulfils(name, where, values)})`;
    });
    return `CASE s.table_name ${cases.join(' ')} ELSE true END`;
  }

  /** How the columns of a row are read, under the name `r`. */
  reading(name: string): ConditionTable {
    const table = this.table(name);
    return readBy(table, (_name, { sql }) => `r.${sql}`, keySql(table.key, 'r'));
  }

  /** The SQL of a condition over what a deleted row held last; the row is a stamp under the name `r`. */
  imageFulfils(name: string, where: Condition, values: unknown[]): string {
    const table = this.table(name);
    const read = readBy(table, (column, { type }) => `(${imageSql(column, type)})`, `r.row_id::${table.key.type}`);
    return conditionSql(read, where, values);
  }

  /** A table by its name in the schema. */
  table(name: string): AppTable {
    return this.tables.get(name) as AppTable;
  }

  /** The expressions that are selected of a row, under the name `r`, to be decoded. @param names the columns; all of them without. */
  fields(table: string, names?: readonly string[]): string {
    return this.fieldsFrom(table, idSql(this.table(table).key, 'r'), (_name, { sql }) => `r.${sql}`, names);
  }

  /** The same of the image in a tombstone. */
  private imageFields(table: string): string {
    return this.fieldsFrom(table, 'r.row_id', (name, { type }) => imageSql(name, type));
  }

  private fieldsFrom(
    table: string,
    id: string,
    from: (name: string, column: ExistingColumn) => string,
    names: readonly string[] = this.table(table).table.names,
  ): string {
    const { columns, table: definition } = this.table(table);
    const fields = names.map((name) => {
      const standing = columns.get(name) as ExistingColumn;
      return readSql(definition.columns[name] as Column, { ...standing, sql: from(name, standing) });
    });
    return [id, ...fields].join(', ');
  }

  /** A row as it was selected. @param names the columns that were; all of them without. */
  decode(table: string, raw: readonly unknown[], names?: readonly string[]): AnyRow {
    const { columns, table: definition } = this.table(table);
    const id = raw[0] as string;
    const values: Record<string, unknown> = {};
    (names ?? definition.names).forEach((name, i) => {
      const column = definition.columns[name] as Column;
      const value = readValue(column, raw[i + 1], columns.get(name) as ExistingColumn);
      // Others may have given a table types that hold more than the schema's do; these three hold nothing else.
      const isHeld = column.type === 'text' || column.type === 'bytes' || column.type === 'boolean';
      values[name] = isHeld ? value : this.typed.read({ table, id, column: name }, column, value);
    });
    return frozenRow(id, values, names ?? definition.names);
  }

  /** A row's columns as JSON carries them. */
  wire(table: string, row: AnyRow): Record<string, JsonValue> {
    return columnsToWire(this.table(table).table, row);
  }
}

/** How the rows of a table are read for a condition. */
function readBy(
  { key, columns, table }: AppTable,
  sqlOf: (name: string, column: ExistingColumn) => string,
  idText: string,
): ConditionTable {
  return {
    id: { sql: idText, type: key.type },
    columns: new Map([...columns].map(([name, column]) => [name, { ...column, sql: sqlOf(name, column) }])),
    table,
  };
}

/** A column's value in the image of a deleted row, as the type it had in its table. */
function imageSql(name: string, type: string): string {
  const member = `r.image -> ${quoteText(name)}`;
  if (type.endsWith('[]'))
    return `(CASE WHEN jsonb_typeof(${member}) = 'array' THEN ARRAY(SELECT jsonb_array_elements_text(${member})) END)::${type}`;
  if (/^jsonb?$/.test(type)) return `nullif(${member}, 'null')::${type}`;
  return `(r.image ->> ${quoteText(name)})::${type}`;
}
