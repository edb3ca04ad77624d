import { type Column, KoinonError, type Schema, type Table } from '@koinon/core';
import { quoteName, shown } from '@koinon/core/internal';

/** The ways in which a text or a number says a time in SQLite, which has no type for one; RFC 3339 where none is named. */
export type TimeFormat = 'space-separated' | 'seconds' | 'milliseconds' | 'julian day';

/** How a column of the schema stands in a database where it goes by another name, or has another form. */
export interface ColumnMapping {
  /** The column's name there. Default: as in the schema. */
  readonly name?: string;
  /** The time zone that times without one are of, by its name in the IANA database: `Europe/Berlin`. For columns of type `timestamp`. */
  readonly zone?: string;
  /**
   * The form in which an SQLite column holds its times: `2026-05-01 09:30:00`, or a number of seconds or milliseconds since 1970, or of
   * days (Julian day). A device's time is written in the same form; a number of seconds has no milliseconds.
   */
  readonly format?: TimeFormat;
  /** Says that it is known that the column's type there cannot hold or tell all that the schema's can. */
  readonly lossy?: boolean;
}

/** How a table of the schema stands in a database where it goes by other names. */
export interface TableMapping {
  /** The table's name there; on PostgreSQL with its SQL schema if that is not `public`: `stock.hives`. Default: as in the schema. */
  readonly name?: string;
  /** Columns there, by their names in the schema: the name where that is all that differs; `id` may be among them. */
  readonly columns?: Readonly<Record<string, string | ColumnMapping>>;
  /**
   * A column that marks a row as deleted instead of removing it: by a time, or by true. Its type says which; on SQLite one
   * that is declared as BOOLEAN or INTEGER holds 1 for that, any other an RFC 3339 time.
   */
  readonly softDelete?: string;
}

/** Mappings by the schema's table names. */
export type Mapping = Readonly<Record<string, TableMapping>>;

/** A table's names in the database. */
export interface MappedTable {
  /** Its name in the schema. */
  readonly name: string;
  readonly table: Table;
  readonly namespace: string;
  readonly relation: string;
  /** The view that the rows come from, where {@link relation} is Koinon's copy of them. */
  readonly view?: string;
  /** The quoted name with its SQL schema. */
  readonly sql: string;
  /** Names of the columns of its key there: one, or those that make a row's id together. */
  readonly keyNames: readonly string[];
  /** Names of columns there, by their names in the schema. */
  readonly columnNames: Readonly<Record<string, string>>;
  /** The forms of columns there, by their names in the schema, where the mapping says one. */
  readonly columnForms: Readonly<Record<string, ColumnMapping>>;
  readonly softDelete: string | undefined;
}

/** Tells whether the database gives the keys of any table. */
export function hasAssignedKeys({ tables }: Schema): boolean {
  return Object.values(tables).some(({ assignedKey }) => assignedKey);
}

/** The tables of a schema that the server keeps. */
export function keptTables(schema: Schema): string[] {
  return Object.entries(schema.tables).flatMap(([name, table]) => (table.home === 'device' ? [] : [name]));
}

/** The tables that the server keeps, by the names they have there. @throws KoinonError `schema-invalid`. */
export function mappedTables(schema: Schema, mapping: Mapping): MappedTable[] {
  for (const name of Object.keys(mapping))
    if (schema.tables[name] === undefined || schema.tables[name].home === 'device')
      throw refused(name, 'is mapped, but is not a table that the server keeps');
  return Object.entries(schema.tables).flatMap(([name, table]) => {
    if (table.home === 'device') return [];
    const { name: given = name, columns = {}, softDelete, ...rest } = mapping[name] ?? {};
    // A mistyped softDelete would have rows of others' tables really deleted.
    for (const word of Object.keys(rest))
      throw refused(name, `is mapped with ${word}, which a mapping has not; it has name, columns and softDelete`);
    const dot = mapping[name]?.name === undefined ? -1 : given.indexOf('.');
    const namespace = dot < 0 ? 'public' : given.slice(0, dot);
    const relation = given.slice(dot + 1);
    const columnForms: Record<string, ColumnMapping> = {};
    for (const [column, given] of Object.entries(columns)) {
      if (column !== 'id' && table.columns[column] === undefined)
        throw refused(name, `has no column ${column}, which the mapping names`);
      columnForms[column] =
        typeof given === 'string' ? { name: given } : checkedForm(name, column, table.columns[column], given);
    }
    for (const word of [relation, ...table.names])
      if (Buffer.byteLength(word) > 63)
        throw refused(name, `${word} is longer than the 63 bytes PostgreSQL gives a name; map it to a shorter one`);
    const columnNames = Object.fromEntries(table.names.map((column) => [column, columnForms[column]?.name ?? column]));
    const sql = `${quoteName(namespace)}.${quoteName(relation)}`;
    if (table.key.length > 0 && columnForms.id !== undefined)
      throw refused(name, `has the key ${table.key.join(', ')}, so the mapping names those columns and not id`);
    const keyNames =
      table.key.length > 0 ? table.key.map((column) => columnNames[column] as string) : [columnForms.id?.name ?? 'id'];
    return [
      {
        name,
        table,
        namespace,
        relation,
        sql,
        keyNames,
        columnNames,
        columnForms,
        softDelete,
      },
    ];
  });
}

const formats: ReadonlySet<string> = new Set(['space-separated', 'seconds', 'milliseconds', 'julian day']);

/** What a mapping says of a column. @throws KoinonError `schema-invalid` where it says what does not go with the column. */
function checkedForm(table: string, name: string, column: Column | undefined, form: ColumnMapping): ColumnMapping {
  const { name: there, zone, format, lossy, ...rest } = form;
  for (const word of Object.keys(rest))
    throw refused(
      table,
      `has the column ${name} mapped with ${word}, which a mapping has not; it has name, zone, format and lossy`,
    );
  if (zone !== undefined && (column?.type !== 'timestamp' || !isZone(zone)))
    throw refused(
      table,
      `has the column ${name} mapped with the zone ${shown(zone)}; a column of type timestamp has one, by its IANA name, such as Europe/Berlin`,
    );
  const isText = format === 'space-separated';
  if (
    format !== undefined &&
    (!formats.has(format) || !(column?.type === 'timestamp' || (isText && column?.type === 'local-date-time')))
  )
    throw refused(
      table,
      `has the column ${name} mapped with the format ${shown(format)}; columns of type timestamp have one of ${[...formats].join(', ')}, of type local-date-time space-separated`,
    );
  if (zone !== undefined && format !== undefined && !isText)
    throw refused(table, `has the column ${name} mapped with a zone; a number of ${format} has none`);
  return form;
}

function isZone(zone: unknown): boolean {
  try {
    return typeof zone === 'string' && new Intl.DateTimeFormat('en', { timeZone: zone }) !== undefined;
  } catch {
    return false;
  }
}

function refused(table: string, why: string): KoinonError {
  return new KoinonError('schema-invalid', `${table} ${why}.`, { table });
}
