import type { Schema, Table } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import { keptTables, type MappedTable, type Mapping } from '../mapping.ts';
import { catchUpSql } from './copies.ts';
import type { Prepared } from './driver.ts';
import { aliveSql, type KeyColumn, keySql, type TrackedTable } from './triggers.ts';

// Tables that others made may go by other names, and fill in columns by themselves.

/** Tells whether a table goes by other names than in the schema. */
export function isMapped(mapping: Mapping, table: string): boolean {
  return Object.hasOwn(mapping, table);
}

/** Tables with a key of several columns have no column for a row's id: they are read and written by a view as well. */
export function hasView(mapping: Mapping, name: string, table: Pick<Table, 'key'>): boolean {
  return isMapped(mapping, name) || table.key.length > 0;
}

/** The way in which the database fills a column in by itself: it computes the column, or the column has a default (as SQL) and may not be empty. */
export type Filled = 'always' | { readonly default: string };

/** The columns of a relation that the database fills in, by their names there. */
function filledColumns(database: Prepared, relation: string): ReadonlyMap<string, Filled> {
  const columns = database.all<{ name: string; hidden: number; required: number; initial: string | null }>(
    'SELECT name, hidden, "notnull" AS required, dflt_value AS initial FROM pragma_table_xinfo(?)',
    relation,
  );
  return new Map(
    columns.flatMap(({ name, hidden, required, initial }): [string, Filled][] => {
      if (hidden !== 0) return [[name, 'always']];
      return required === 1 && initial !== null ? [[name, { default: `(${initial})` }]] : [];
    }),
  );
}

/**
 * The columns that the database fills in, of tables that others made and that go by the schema's names. What it fills in of
 * mapped ones is said by their views.
 */
export function columnsFilled(
  database: Prepared,
  schema: Schema,
  mapping: Mapping,
): ReadonlyMap<string, ReadonlyMap<string, Filled>> {
  return new Map(
    keptTables(schema).flatMap((name): [string, ReadonlyMap<string, Filled>][] => {
      const table = schema.tables[name] as Table;
      const filled = hasView(mapping, name, table) ? new Map<string, Filled>() : filledColumns(database, name);
      // For a column that is required here, none is never sent.
      const own = [...filled].filter(
        ([column, how]) =>
          Object.hasOwn(table.columns, column) && (how === 'always' || table.columns[column]?.optional),
      );
      return own.length === 0 ? [] : [[name, new Map(own)]];
    }),
  );
}

function columnNames(database: Prepared, relation: string): string[] {
  return database.all<{ name: string }>('SELECT name FROM pragma_table_xinfo(?)', relation).map(({ name }) => name);
}

const viewOf = (table: string) => `koinon_view_${table}`;

/** The quoted names by which tables are read and written under the schema's own names. */
export function relationOf({ tables }: Schema, mapping: Mapping): (table: string) => string {
  return (name) => quoteName(hasView(mapping, name, tables[name] as Table) ? viewOf(name) : name);
}

/** A table under the schema's names, with the ids of its rows: a view, and what becomes of what is written into that. */
export function makeView(database: Prepared, table: TrackedTable, mapped: MappedTable): void {
  const { name, relation, key, columns, mark } = table;
  const [V, T] = [viewOf(name), relation].map(quoteName) as [string, string];
  const there = (column: string) => quoteName(table.there[column] ?? column);
  // A view of the office is written itself; the copy of its rows is brought up to it.
  const W = mapped.view === undefined ? T : quoteName(mapped.view);
  const filled = filledColumns(database, relation);
  const isGiven = (column: string) =>
    filled.get(table.there[column] ?? column) !== 'always' &&
    !(mapped.view !== undefined && mapped.table.columns[column]?.assigned);
  const written = columns.filter(isGiven);
  const given = written.map((column) => {
    const how = filled.get(table.there[column] ?? column);
    const value = `NEW.${quoteName(column)}`;
    return how === undefined || how === 'always' ? value : `coalesce(${value}, ${how.default})`;
  });
  const fields = columns.map((column) => `${T}.${there(column)} AS ${quoteName(column)}`);
  const instead = (event: string, body: string) =>
    `CREATE TRIGGER ${quoteName(`${viewOf(name)}_${event}`)} INSTEAD OF ${event.toUpperCase()} ON ${V}\nBEGIN\n  ${body}\nEND`;
  const [first, ...more] = key as readonly [KeyColumn, ...KeyColumn[]];
  const isOwnColumn = more.length === 0;
  /** The columns of the key, with their names in the view. */
  const parts = key.map((each) => ({
    ...each,
    name: isOwnColumn ? 'id' : (columns.find((column) => (table.there[column] ?? column) === each.column) as string),
  }));
  const isRow = (row: string, of = '') =>
    parts
      .map(({ column, name, isText }) => {
        const value = `${row}.${quoteName(name)}`;
        return `${of}${quoteName(column)} = ${isText ? value : `CAST(${value} AS INTEGER)`}`;
      })
      .join(' AND ');
  // A number has one form there: under another the device would not know its own row again.
  const numeric = parts
    .filter(({ isText }) => !isText)
    .map(({ name }) => `NEW.${quoteName(name)}`)
    .map(
      (value) =>
        `SELECT RAISE(ABORT, 'cannot store a text that is no number as the key') WHERE CAST(CAST(${value} AS INTEGER) AS TEXT) IS NOT CAST(${value} AS TEXT);`,
    )
    .join('');
  const keyNames = new Set(isOwnColumn ? [] : parts.map(({ name }) => name));
  const changed = written.filter((column) => !keyNames.has(column));
  const marked = mark && quoteName(mark.column);
  const failed = key.map(({ column }) => `${relation}.${column}`.replaceAll("'", "''")).join(', ');
  const taken = `SELECT RAISE(ABORT, 'UNIQUE constraint failed: ${failed}') WHERE EXISTS (SELECT 1 FROM ${T} WHERE ${isRow('NEW')} AND ${aliveSql(table, T)});`;
  // A row that is marked as deleted stands where a new one of its id goes.
  const revived = `ON CONFLICT (${key.map(({ column }) => quoteName(column)).join(', ')}) DO UPDATE SET ${[...changed.map((column) => `${there(column)} = excluded.${there(column)}`), `${marked} = ${mark?.isTime ? 'NULL' : '0'}`].join(', ')}`;
  const follow = (row: string) =>
    mapped.view === undefined
      ? ''
      : catchUpSql(mapped, columnNames(database, relation), (at) => isRow(row, `${at}.`))
          .map((sql) => ` ${sql};`)
          .join('');
  const isShown =
    mapped.view === undefined
      ? ''
      : ` SELECT RAISE(ABORT, 'the view does not show the row that was written') WHERE NOT EXISTS (SELECT 1 FROM ${T} WHERE ${isRow('NEW')});`;
  const removed = mark
    ? `UPDATE ${T} SET ${marked} = ${mark.isTime ? "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')" : '1'} WHERE ${isRow('OLD')};`
    : `DELETE FROM ${W} WHERE ${isRow('OLD')};${follow('OLD')}`;
  const own = isOwnColumn ? [{ column: quoteName(first.column), value: 'NEW.id' }] : [];
  const into = [...own.map(({ column }) => column), ...written.map(there)].join(', ');
  const values = [...own.map(({ value }) => value), ...given].join(', ');
  const set = changed.map((column) => `${there(column)} = NEW.${quoteName(column)}`).join(', ');
  const indexed = isOwnColumn && first.isText ? [] : [keySql(table, T).replaceAll(`${T}.`, '')];
  const wanted = [
    ...indexed.map((sql) => `CREATE INDEX ${quoteName(`koinon_id_${name}`)} ON ${T} (${sql})`),
    `CREATE VIEW ${V} AS SELECT ${[`${keySql(table, T)} AS "id"`, ...fields].join(', ')} FROM ${T}${mark ? ` WHERE ${aliveSql(table, T)}` : ''}`,
    instead(
      'insert',
      `${numeric}${mark ? taken : ''}INSERT INTO ${W} (${into}) VALUES (${values})${mark ? ` ${revived}` : ''};${follow('NEW')}${isShown}`,
    ),
    ...(set === '' ? [] : [instead('update', `UPDATE ${W} SET ${set} WHERE ${isRow('OLD')};${follow('OLD')}`)]),
    instead('delete', removed),
  ];
  const known = new Set(database.all<{ sql: string }>('SELECT sql FROM sqlite_schema').map(({ sql }) => sql));
  if (wanted.every((sql) => known.has(sql))) return;
  database.connection.exec(`DROP VIEW IF EXISTS ${V}`);
  for (const sql of wanted) if (!known.has(sql) || !sql.startsWith('CREATE INDEX')) database.connection.exec(sql);
}
