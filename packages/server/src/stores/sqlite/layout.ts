import { randomBytes } from 'node:crypto';
import { createTable, quoteName, type Schema } from '@koinon/core';
import { v4 } from 'uuid';
import type { Prepared } from './driver.ts';
import { feedTriggers, koinonTables, stampUnstamped, type TrackedTable } from './triggers.ts';

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
    connection.exec(koinonTables);
    for (const name of keptTables(schema)) {
      const exists = database.get("SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?", name) !== undefined;
      if (!exists)
        for (const statement of createTable(name, schema.tables[name] as Schema['tables'][string], 'constraints'))
          connection.exec(statement);
    }
    for (const name of keptTables(schema)) track(database, trackedTable(database, name));
    const identity = {
      feed: metaOr(database, 'feed', () => v4()),
      secret: metaOr(database, 'secret', () => randomBytes(32).toString('base64url')),
    };
    connection.exec('COMMIT');
    return identity;
  } catch (error) {
    connection.exec('ROLLBACK');
    throw error;
  }
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
}

/** Reads from the database what a table really is: another program may have given it more columns or unique indexes. */
function trackedTable(database: Prepared, name: string): TrackedTable {
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
  };
}

function metaOr(database: Prepared, name: string, make: () => string): string {
  const known = database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', name);
  if (known) return known.value;
  const value = make();
  database.run('INSERT INTO koinon_meta VALUES (?, ?)', name, value);
  return value;
}
