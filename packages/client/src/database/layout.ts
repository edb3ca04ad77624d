import {
  columnDdl,
  createIndexes,
  createTable,
  KoinonError,
  quoteName,
  type Schema,
  type Table,
  toSql,
} from '@koinon/core';
import type { Database } from './database.ts';
import { Migration, type Migrations, type StoredColumn, shapeOf } from './migration.ts';

/** Marks a file as a replica: the letters KOIN in SQLite's header. */
export const applicationId = 0x4b4f494e;

const koinonTables = `
CREATE TABLE koinon_meta (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT
) WITHOUT ROWID;
-- The outbox: changes in order. The first of each transaction has its id and no sequence; the others have the first's
-- place as theirs. \`back\`: the feed has brought it back, while the transaction as a whole still waits for that.
CREATE TABLE koinon_change (
  place INTEGER PRIMARY KEY,
  sequence INTEGER,
  id TEXT,
  edited_at INTEGER,
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  kind TEXT NOT NULL,
  columns TEXT,
  operations TEXT,
  back INTEGER NOT NULL DEFAULT 0
);
-- Where columns is null the change is an insert whose row has not been changed since: the row itself tells them.
-- Transactions that have been sent, and what is known of them: pending again, attempted, confirmed or rejected.
CREATE TABLE koinon_sent (
  sequence INTEGER PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  edited_at INTEGER NOT NULL,
  state TEXT NOT NULL,
  problems TEXT
);
-- A row as the server last gave it, while the row has changes that the feed does not cover.
CREATE TABLE koinon_base (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  columns TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID;
-- Columns on which local and remote disagree; column_name '' stands for the whole row.
CREATE TABLE koinon_conflict (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  column_name TEXT NOT NULL,
  base TEXT NOT NULL,
  local TEXT NOT NULL,
  remote TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id, column_name)
) WITHOUT ROWID;
-- While a new snapshot replaces what an unknown cursor stood for: the rows it has named so far.
CREATE TABLE koinon_seen (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID;
CREATE TABLE koinon_setting (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT NOT NULL
) WITHOUT ROWID;
-- Calls of other threads and tabs that took effect, with their outcome: one that is repeated is not done twice.
CREATE TABLE koinon_call (
  place INTEGER PRIMARY KEY,
  id TEXT NOT NULL,
  outcome TEXT
);
-- The last runs of the sync.
CREATE TABLE koinon_run (
  place INTEGER PRIMARY KEY,
  run TEXT NOT NULL
);
-- The exact bytes last sent up, until their outcome is known.
CREATE TABLE koinon_attempt (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  body TEXT NOT NULL
);
`;

/**
 * Makes an empty file a replica of this schema, or brings the file of an earlier schema up to it. Returns whether it is
 * new. All in one transaction: what cannot be brought up is left as it was.
 */
export function prepareLayout(database: Database, schema: Schema, migrations: Migrations): boolean {
  const pragma = (name: string) =>
    Object.values(database.guarded(() => database.once(`PRAGMA ${name}`))[0] as object)[0] as number;
  const isReplica = pragma('application_id') === applicationId;
  const description = describeSchema(schema);
  if (isReplica && meta(database, 'schema') === description) return false;
  database.transact(() => {
    if (pragma('application_id') === applicationId) {
      bringUp(database, schema, migrations);
    } else {
      if (database.once('SELECT 1 FROM sqlite_schema LIMIT 1').length > 0)
        throw new KoinonError(
          'storage-foreign',
          'The file is an SQLite database, but not a Koinon replica; choose another file.',
        );
      database.driver.exec(`PRAGMA application_id = ${applicationId}; ${koinonTables}`);
      for (const [name, table] of Object.entries(schema.tables))
        for (const statement of createTable(name, table, 'storage types')) database.driver.exec(statement);
    }
    setMeta(database, 'schema', description);
  });
  return !isReplica;
}

/** What a file remembers of the schema it was made with. */
interface StoredSchema {
  readonly version: number;
  readonly tables: Readonly<Record<string, Readonly<Record<string, StoredColumn>>>>;
}

function describeSchema(schema: Schema): string {
  const tables = Object.fromEntries([...shapeOf(schema)].map(([name, columns]) => [name, Object.fromEntries(columns)]));
  const indexes = Object.entries(schema.tables).flatMap(([name, table]) => createIndexes(name, table, 'storage types'));
  return JSON.stringify({ version: schema.version, tables, indexes });
}

/** Runs the migrations a file lacks, then makes the additions of the new schema, and checks that the two now agree. */
function bringUp(database: Database, schema: Schema, migrations: Migrations): void {
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
    } catch (error) {
      throw new KoinonError(
        'migration-failed',
        `The migration to schema version ${version} failed: ${(error as Error).message}. The file is as it was.`,
        { cause: error },
      );
    }
  }
  for (const [name, table] of Object.entries(schema.tables)) {
    const columns = shape.get(name);
    gained ||= columns === undefined || Object.keys(table.columns).some((column) => !columns.has(column));
    if (columns === undefined)
      for (const statement of createTable(name, table, 'storage types')) database.driver.exec(statement);
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
      `${left.join(', ')} ${left.length > 1 ? 'are' : 'is'} no longer in the schema`,
      stored.version,
    );
  replaceIndexes(database, schema);
  // What the server holds of new tables and columns is older than the cursor: it has to be fetched apart from it.
  if (gained && meta(database, 'cursor') !== undefined) setMeta(database, 'backfill', '');
}

function addColumns(database: Database, name: string, table: Table, columns: ReadonlyMap<string, StoredColumn>): void {
  for (const [column, definition] of Object.entries(table.columns)) {
    const stored = columns.get(column);
    if (stored === undefined) {
      const { default: initial, optional } = definition;
      if (initial === undefined && !optional)
        throw needsMigration(`${name}.${column} is new and required, and has no default for the rows that are there`);
      database.driver.exec(
        `ALTER TABLE ${quoteName(name)} ADD COLUMN ${columnDdl(column, definition, 'storage types')}`,
      );
      if (initial === undefined) continue;
      const value = typeof initial === 'function' ? (initial as () => unknown)() : initial;
      database.statement(`UPDATE ${quoteName(name)} SET ${quoteName(column)} = ?`).run(toSql(definition, value));
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
    for (const statement of createIndexes(name, table, 'storage types')) database.driver.exec(statement);
}

function needsMigration(what: string, from?: number): KoinonError {
  return new KoinonError(
    'schema-changed',
    `The schema has changed in a way that needs a migration${from === undefined ? '' : ` from version ${from}`}: ${what}. Raise the schema's version and pass the migration to openReplica; the file is as it was.`,
  );
}

/** Names under which `koinon_meta` keeps a value. */
type MetaName =
  | 'replica'
  | 'schema'
  | 'seed'
  | 'sync lease'
  | 'sweep'
  | 'backfill'
  | 'cursor'
  | 'position'
  | 'server position'
  | 'complete'
  | 'to come'
  | 'clock offset'
  | 'synced at';

/** A value Koinon keeps about this replica. */
export function meta(database: Database, name: MetaName): string | undefined {
  const row = database.statement('SELECT value FROM koinon_meta WHERE name = ?').get(name) as
    | { value: string }
    | undefined;
  return row?.value;
}

/** Sets a value Koinon keeps about this replica. */
export function setMeta(database: Database, name: MetaName, value: string): void {
  database
    .statement('INSERT INTO koinon_meta VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value')
    .run(name, value);
}

/** Forgets a value Koinon kept about this replica. */
export function dropMeta(database: Database, name: MetaName): void {
  database.statement('DELETE FROM koinon_meta WHERE name = ?').run(name);
}
