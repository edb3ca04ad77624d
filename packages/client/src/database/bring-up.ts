import { KoinonError, type Schema, type Table } from '@koinon/core';
import { columnDdl, createIndexes, createTable, quoteName, toSql, toWire } from '@koinon/core/internal';
import { actionTables } from './action-tables.ts';
import { fetchBeside } from './asked-columns.ts';
import { assignedKeyTable } from './assigned-key-table.ts';
import type { Database } from './database.ts';
import { rewriteImages } from './images.ts';
import { meta } from './layout.ts';
import { Migration, type Migrations } from './migration.ts';
import type { StoredColumn } from './shape.ts';

/** The schema that a file was made with, as it remembers it. */
interface StoredSchema {
  readonly version: number;
  readonly tables: Readonly<Record<string, Readonly<Record<string, StoredColumn>>>>;
  /** The keys of several columns, by table. */
  readonly keys?: Readonly<Record<string, readonly string[]>>;
}

/** Runs the migrations a file lacks, then makes the additions of the new schema, and checks that the two now agree. */
export function bringUp(database: Database, schema: Schema, migrations: Migrations): void {
  let gained = false;
  const stored = JSON.parse(meta(database, 'schema') as string) as StoredSchema;
  if (stored.version > schema.version)
    throw new KoinonError(
      'schema-newer',
      `This replica was written by a newer app: its schema version is ${stored.version}, this app's is ${schema.version}. Update the app; the data is untouched.`,
    );
  const shape = new Map(
    Object.entries(stored.tables).map(([name, columns]) => [name, new Map(Object.entries(columns))]),
  );
  const migration = new Migration(database, shape);
  for (let version = stored.version + 1; version <= schema.version; version++) {
    try {
      migrations[version]?.(migration);
      // Decisions, and values that the server filled in, speak of columns as they were.
      if (migrations[version]) {
        database.once('DELETE FROM koinon_resolved');
        database.once('UPDATE koinon_outbox SET server_values = NULL WHERE server_values IS NOT NULL');
      }
    } catch (error) {
      throw new KoinonError(
        'migration-failed',
        `The migration to schema version ${version} failed: ${(error as Error).message}. The file is as it was.`,
        { cause: error },
      );
    }
  }
  // A file may be older than tables whose keys the database gives, and than actions.
  database.driver.exec(assignedKeyTable);
  if (Object.keys(schema.actions).length > 0) database.driver.exec(actionTables);
  for (const [name, table] of Object.entries(schema.tables)) {
    const columns = shape.get(name);
    if (columns !== undefined && Object.hasOwn(stored.tables, name)) refuseOtherKey(name, table, stored.keys?.[name]);
    gained ||= columns === undefined || Object.keys(table.columns).some((column) => !columns.has(column));
    if (columns === undefined) for (const statement of createTable(name, table)) database.driver.exec(statement);
    else addColumns(database, name, table, columns);
  }
  const left = [...shape].flatMap(([name, columns]) =>
    schema.tables[name]
      ? [...columns.keys()]
          .filter((column) => !schema.tables[name]?.columns[column])
          .map((column) => `${name}.${column}`)
      : [name],
  );
  if (left.length > 0)
    throw needsMigration(
      `${left.join(', ')} ${left.length > 1 ? 'are' : 'is'} no longer ${left.some((name) => schema.leftToServer?.includes(name)) ? 'held by devices' : 'in the schema'}`,
      stored.version,
    );
  replaceIndexes(database, schema);
  // The server's rows of new tables and columns are older than the cursor: they have to be fetched apart from it.
  if (gained && meta(database, 'cursor') !== undefined) fetchBeside(database);
}

/** The ids of rows are made of their keys: they are what the server knows rows by. @throws KoinonError `schema-changed`. */
function refuseOtherKey(name: string, { key }: Table, before: readonly string[] = []): void {
  if (key.join() === before.join()) return;
  const told = (columns: readonly string[]) => (columns.length === 0 ? 'id' : columns.join(', '));
  throw new KoinonError(
    'schema-changed',
    `The key of ${name} was ${told(before)} and is ${told(key)} now. A table keeps its key: give the table with the other key another name. The file is as it was.`,
    { table: name },
  );
}

function addColumns(database: Database, name: string, table: Table, columns: ReadonlyMap<string, StoredColumn>): void {
  for (const [column, definition] of Object.entries(table.columns)) {
    const stored = columns.get(column);
    if (stored === undefined) {
      const { default: initial, optional } = definition;
      if (initial === undefined && !optional)
        throw needsMigration(`${name}.${column} is new and required, and has no default for the rows that are there`);
      database.driver.exec(`ALTER TABLE ${quoteName(name)} ADD COLUMN ${columnDdl(column, definition)}`);
      if (initial === undefined) continue;
      const value = typeof initial === 'function' ? (initial as () => unknown)() : initial;
      database.statement(`UPDATE ${quoteName(name)} SET ${quoteName(column)} = ?`).run(toSql(definition, value));
      // The images under and in unsent changes are filled in alike: the column has not been changed here.
      const filled = toWire(definition, value);
      rewriteImages(database, name, (image, isWhole) =>
        isWhole && !Object.hasOwn(image, column) ? { ...image, [column]: filled } : image,
      );
    } else if (stored.type !== definition.type) {
      throw needsMigration(`${name}.${column} was ${stored.type} and is ${definition.type} now`);
    } else if (stored.optional && !definition.optional) {
      const empty = database
        .statement(`SELECT 1 FROM ${quoteName(name)} WHERE ${quoteName(column)} IS NULL LIMIT 1`)
        .get();
      if (empty !== undefined)
        throw needsMigration(`${name}.${column} was optional and is required now, and rows hold null`);
    }
  }
}

/** Indexes hold no data: they are made anew from the schema. */
function replaceIndexes(database: Database, schema: Schema): void {
  const present = database.once(
    "SELECT name FROM sqlite_schema WHERE type = 'index' AND sql IS NOT NULL AND tbl_name NOT LIKE 'koinon\\_%' ESCAPE '\\'",
  ) as { name: string }[];
  for (const { name } of present) database.driver.exec(`DROP INDEX ${quoteName(name)}`);
  for (const [name, table] of Object.entries(schema.tables))
    for (const statement of createIndexes(name, table)) database.driver.exec(statement);
}

function needsMigration(what: string, from?: number): KoinonError {
  return new KoinonError(
    'schema-changed',
    `The schema has changed in a way that needs a migration${from === undefined ? '' : ` from version ${from}`}: ${what}. Raise the schema's version and pass the migration to openReplica; the file is as it was.`,
  );
}
