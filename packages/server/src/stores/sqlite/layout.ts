import { randomBytes } from 'node:crypto';
import {
  columnDdl,
  createIndexes,
  createTable,
  quoteName,
  quoteText,
  type Schema,
  type SqlValue,
  type Table,
  toSql,
} from '@koinon/core';
import { v4 } from 'uuid';
import type { Prepared } from './driver.ts';
import { feedTriggers, koinonTables, restampAll, stampUnstamped, type TrackedTable } from './triggers.ts';

/** What a store keeps about itself. */
export interface Identity {
  readonly feed: string;
  readonly secret: string;
}

/** The tables of a schema that the server keeps. */
export function keptTables(schema: Schema): string[] {
  return Object.entries(schema.tables).flatMap(([name, table]) => (table.home === 'device' ? [] : [name]));
}

/** Makes the app's tables that are not there yet, Koinon's own tables and the triggers. One transaction, or none of it. */
export function prepareLayout(database: Prepared, schema: Schema): Identity {
  const { connection } = database;
  connection.exec('BEGIN IMMEDIATE');
  try {
    makeLayout(database, schema);
    const identity = {
      feed: metaOr(database, 'feed', () => v4()),
      secret: metaOr(database, 'secret', () => randomBytes(32).toString('base64url')),
    };
    database.run('INSERT INTO koinon_epoch (id, position) SELECT ?, position FROM koinon_feed', v4().slice(0, 8));
    connection.exec('COMMIT');
    return identity;
  } catch (error) {
    connection.exec('ROLLBACK');
    throw error;
  }
}

/** Makes what the database lacks, inside a transaction of the caller's. */
export function makeLayout(database: Prepared, schema: Schema): void {
  const { connection } = database;
  if (database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_filterable'") === undefined) {
    connection.exec(koinonTables);
    for (const [table, column, definition] of laterColumns)
      if (database.get('SELECT 1 FROM pragma_table_info(?) WHERE name = ?', table, column) === undefined)
        connection.exec(`ALTER TABLE ${table} ADD COLUMN ${column} ${definition}`);
  }
  for (const name of keptTables(schema)) makeTable(database, name, schema.tables[name] as Table);
  for (const name of keptTables(schema)) track(database, trackedTable(database, name, schema.tables[name] as Table));
}

/** Columns that Koinon's own tables have gained. */
const laterColumns = [
  ['koinon_stamp', 'past', "TEXT NOT NULL DEFAULT '{}'"],
  ['koinon_receipt', 'user_id', 'TEXT'],
  ['koinon_receipt', 'replica', 'TEXT'],
] as const;

/** Takes Koinon's tables and triggers out of a database. */
export function release(database: Prepared): void {
  const found = database.all<{ type: string; name: string }>(
    "SELECT type, name FROM sqlite_schema WHERE type IN ('trigger', 'table') AND name LIKE 'koinon\\_%' ESCAPE '\\' ORDER BY type DESC",
  );
  for (const { type, name } of found) database.connection.exec(`DROP ${type.toUpperCase()} ${quoteName(name)}`);
}

/** Makes every row, and every one that is gone, look newly written. */
export function restamp(database: Prepared, schema: Schema): void {
  for (const name of keptTables(schema)) {
    database.connection.exec('UPDATE koinon_feed SET position = position + 1');
    for (const sql of restampAll(trackedTable(database, name, schema.tables[name] as Table)))
      database.connection.exec(sql);
    // What filterable columns held meanwhile nobody knows: whoever gets only some of the rows starts over.
    database.run(
      'UPDATE koinon_filterable SET position = (SELECT position FROM koinon_feed) WHERE table_name = ?',
      name,
    );
  }
}

/** Makes a table that is not there yet, and adds the columns that one which is there lacks. */
function makeTable(database: Prepared, name: string, table: Table): void {
  const present = database
    .all<{ name: string }>('SELECT name FROM pragma_table_info(?)', name)
    .map((column) => column.name);
  if (present.length === 0) {
    for (const statement of createTable(name, table, 'constraints')) database.connection.exec(statement);
    return;
  }
  for (const [column, definition] of table.entries) {
    if (present.includes(column)) continue;
    const { default: initial, optional } = definition;
    if (!optional && (initial === undefined || typeof initial === 'function'))
      throw new Error(
        `${name}.${column} is new and required; give it a default value for the rows that are there, or add it by your own SQL`,
      );
    const literal =
      initial === undefined || typeof initial === 'function'
        ? ''
        : ` DEFAULT ${quoteValue(toSql(definition, initial))}`;
    database.connection.exec(
      `ALTER TABLE ${quoteName(name)} ADD COLUMN ${columnDdl(column, definition, 'constraints')}${literal}`,
    );
  }
  const indexes = new Set(
    database.all<{ name: string }>('SELECT name FROM pragma_index_list(?)', name).map((index) => quoteName(index.name)),
  );
  for (const statement of createIndexes(name, table, 'constraints'))
    if (![...indexes].some((index) => statement.includes(`EXISTS ${index} ON`))) database.connection.exec(statement);
}

function quoteValue(value: SqlValue): string {
  if (value === null) return 'NULL';
  if (value instanceof Uint8Array) return `X'${Buffer.from(value).toString('hex')}'`;
  return typeof value === 'number' ? String(value) : quoteText(value);
}

/** Puts the triggers on a table, unless they stand there already as they should. */
function track(database: Prepared, table: TrackedTable): void {
  const wanted = feedTriggers(table);
  const present = database.all<{ name: string; sql: string }>(
    "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? AND name LIKE 'koinon\\_%' ESCAPE '\\'",
    table.name,
  );
  const stands = new Set(present.map(({ sql }) => sql));
  if (present.length === wanted.length && wanted.every((sql) => stands.has(sql))) return;
  for (const { name } of present) database.connection.exec(`DROP TRIGGER ${quoteName(name)}`);
  for (const sql of wanted) database.connection.exec(sql);
  database.connection.exec('UPDATE koinon_feed SET position = position + 1');
  database.connection.exec(stampUnstamped(table));
  rememberFilterable(database, table);
}

/** Notes from when on the earlier values of filterable columns are remembered: from now, where one is new. */
function rememberFilterable(database: Prepared, { name, filterable }: TrackedTable): void {
  const noted = database.get<{ columns: string }>('SELECT columns FROM koinon_filterable WHERE table_name = ?', name);
  const known = new Set(noted === undefined ? [] : (JSON.parse(noted.columns) as string[]));
  if (filterable.every((column) => known.has(column))) return;
  database.run(
    'INSERT INTO koinon_filterable SELECT ?, ?, position FROM koinon_feed WHERE true ON CONFLICT DO UPDATE SET columns = excluded.columns, position = excluded.position',
    name,
    JSON.stringify(filterable),
  );
}

/** Reads from the database what a table really is: another program may have given it more columns or unique indexes. */
function trackedTable(database: Prepared, name: string, { filterable }: Table): TrackedTable {
  const columns = database
    .all<{ name: string }>('SELECT name FROM pragma_table_info(?)', name)
    .map((column) => column.name);
  const indexes = database.all<{ name: string }>('SELECT name FROM pragma_index_list(?) WHERE "unique" = 1', name);
  const groups = indexes.map((index) =>
    database.all<{ name: string | null }>('SELECT name FROM pragma_index_info(?)', index.name),
  );
  const unique = groups.flatMap((group) =>
    group.every((column) => column.name !== null) ? [group.map((column) => column.name as string)] : [],
  );
  return {
    name,
    columns: columns.filter((column) => column !== 'id'),
    unique: unique.filter((group) => !(group.length === 1 && group[0] === 'id')),
    filterable,
  };
}

function metaOr(database: Prepared, name: string, make: () => string): string {
  const known = database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', name);
  if (known) return known.value;
  const value = make();
  database.run('INSERT INTO koinon_meta VALUES (?, ?)', name, value);
  return value;
}
