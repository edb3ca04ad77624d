import { KoinonError, type Schema, type Table } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';

/** How a table of the schema stands in a database where it goes by other names. */
export interface TableMapping {
  /** The table's name there; on PostgreSQL with its SQL schema if that is not `public`: `stock.hives`. Default: as in the schema. */
  readonly name?: string;
  /** Names of columns there, by their names in the schema, where they differ; `id` may be among them. */
  readonly columns?: Readonly<Record<string, string>>;
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
  /** The quoted name with its SQL schema. */
  readonly sql: string;
  readonly idName: string;
  /** Names of columns there, by their names in the schema. */
  readonly columnNames: Readonly<Record<string, string>>;
  readonly softDelete: string | undefined;
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
    for (const column of Object.keys(columns))
      if (column !== 'id' && table.columns[column] === undefined)
        throw refused(name, `has no column ${column}, which the mapping names`);
    for (const word of [relation, ...table.names])
      if (Buffer.byteLength(word) > 63)
        throw refused(name, `${word} is longer than the 63 bytes PostgreSQL gives a name; map it to a shorter one`);
    const columnNames = Object.fromEntries(table.names.map((column) => [column, columns[column] ?? column]));
    const sql = `${quoteName(namespace)}.${quoteName(relation)}`;
    return [{ name, table, namespace, relation, sql, idName: columns.id ?? 'id', columnNames, softDelete }];
  });
}

function refused(table: string, why: string): KoinonError {
  return new KoinonError('schema-invalid', `${table} ${why}.`, { table });
}
