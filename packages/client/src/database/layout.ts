import { createIndexes, createTable, KoinonError, type Schema } from '@koinon/core';
import type { Database } from './database.ts';
import type { Migrations } from './migration.ts';
import { shapeOf } from './shape.ts';

/** Marks a file as a replica: the letters KOIN in SQLite's header. */
export const applicationId = 0x4b4f494e;

/** Confirmed and brought back, kept for some days. The first change of each transaction has its id. */
export const keptTable = `CREATE TABLE koinon_kept (
  place INTEGER PRIMARY KEY,
  kept_at INTEGER NOT NULL,
  id TEXT,
  edited_at INTEGER,
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  kind TEXT NOT NULL,
  columns TEXT,
  operations TEXT,
  before TEXT
)`;

/** Decisions of a person that can still be taken back: what stood there before. */
export const resolvedTable = `CREATE TABLE koinon_resolved (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  change TEXT NOT NULL,
  conflicts TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID`;

/** Koinon's own tables in a replica. What they hold stands in comments here, which no page has to load. */
const koinonTables = [
  `CREATE TABLE koinon_meta (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT
) WITHOUT ROWID`,
  // The outbox: changes in order. The first of each transaction has its id and no sequence; the others have the first's
  // place as theirs. `back`: the feed has brought it back, while the transaction as a whole still waits for that.
  `CREATE TABLE koinon_change (
  place INTEGER PRIMARY KEY,
  sequence INTEGER,
  id TEXT,
  edited_at INTEGER,
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  kind TEXT NOT NULL,
  columns TEXT,
  operations TEXT,
  back INTEGER NOT NULL DEFAULT 0,
  before TEXT
)`,
  // `before`: of one that is back, what it changed. Where columns is null the change is an insert whose row has not been
  // changed since: the row itself tells them.
  // Transactions that have been sent, and what is known of them: pending again, attempted, confirmed or rejected.
  `CREATE TABLE koinon_sent (
  sequence INTEGER PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  edited_at INTEGER NOT NULL,
  state TEXT NOT NULL,
  problems TEXT,
  server_values TEXT
)`,
  keptTable,
  // A row as the server last gave it, while the row has changes that the feed does not cover.
  `CREATE TABLE koinon_base (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  columns TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID`,
  // Columns on which local and remote disagree; column_name '' stands for the whole row.
  `CREATE TABLE koinon_conflict (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  column_name TEXT NOT NULL,
  base TEXT NOT NULL,
  local TEXT NOT NULL,
  remote TEXT NOT NULL,
  local_at INTEGER,
  remote_at INTEGER,
  remote_by TEXT,
  reason TEXT,
  PRIMARY KEY (table_name, row_id, column_name)
) WITHOUT ROWID`,
  resolvedTable,
  // While a new snapshot replaces what an unknown cursor stood for: the rows it has named so far.
  `CREATE TABLE koinon_seen (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID`,
  `CREATE TABLE koinon_setting (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT NOT NULL
) WITHOUT ROWID`,
  // Calls of other threads and tabs that took effect, with their outcome: one that is repeated is not done twice.
  `CREATE TABLE koinon_call (
  place INTEGER PRIMARY KEY,
  id TEXT NOT NULL,
  outcome TEXT
)`,
  // The last runs of the sync.
  `CREATE TABLE koinon_run (
  place INTEGER PRIMARY KEY,
  run TEXT NOT NULL
)`,
  // The exact bytes last sent up, until their outcome is known.
  `CREATE TABLE koinon_attempt (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  body TEXT NOT NULL
)`,
].join(';');

/** Brings the file of an earlier schema up to this one. */
export type BringUp = (database: Database, schema: Schema, migrations: Migrations) => void;

/** Whether a file is a replica of another version of this schema, which has to be brought up. */
export function isOlder(database: Database, schema: Schema): boolean {
  return isReplicaFile(database) && meta(database, 'schema') !== describeSchema(schema);
}

/** Whether Koinon's own tables in a file are those of an earlier version of it. */
export function isOldFile(database: Database): boolean {
  return isReplicaFile(database) && !hasColumn(database, 'koinon_conflict', 'remote_by');
}

/** Whether a table of a file has a column. */
export function hasColumn(database: Database, table: string, column: string): boolean {
  const found = () => database.once('SELECT 1 FROM pragma_table_info(?) WHERE name = ?', table, column);
  return database.guarded(found).length > 0;
}

/** Whether a file has no table of that name. */
export function lacks(database: Database, table: string): boolean {
  return database.guarded(() => database.once('SELECT 1 FROM sqlite_schema WHERE name = ?', table)).length === 0;
}

function isReplicaFile(database: Database): boolean {
  const [row] = database.guarded(() => database.once('PRAGMA application_id')) as [{ application_id: number }];
  return row.application_id === applicationId;
}

/**
 * Makes an empty file a replica of this schema, or brings the file of an earlier schema up to it. Returns whether it is
 * new. All in one transaction: what cannot be brought up is left as it was.
 */
export function prepareLayout(
  database: Database,
  schema: Schema,
  migrations: Migrations,
  bringUp: BringUp | undefined,
): boolean {
  const isReplica = isReplicaFile(database);
  const description = describeSchema(schema);
  if (isReplica && meta(database, 'schema') === description) return false;
  database.transact(() => {
    if (isReplicaFile(database)) {
      bringUp?.(database, schema, migrations);
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

function describeSchema(schema: Schema): string {
  const tables = Object.fromEntries([...shapeOf(schema)].map(([name, columns]) => [name, Object.fromEntries(columns)]));
  const indexes = Object.entries(schema.tables).flatMap(([name, table]) => createIndexes(name, table, 'storage types'));
  return JSON.stringify({ version: schema.version, tables, indexes });
}

/** Names under which `koinon_meta` keeps a value. */
export type MetaName =
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
  | 'parts'
  | 'to come'
  | 'user'
  | 'name'
  | 'unlinked'
  | 'unlinking'
  | 'clock offset'
  | 'synced at'
  | 'synced tables'
  | 'asked columns';

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

/** Milliseconds to add to this device's clock to have the server's, as far as it is known. */
export function clockOffset(database: Database): number {
  database.clockOffset ??= Number(meta(database, 'clock offset') ?? 0);
  return database.clockOffset;
}

/** Notes how far this device's clock is off. */
export function setClockOffset(database: Database, offset: number): void {
  setMeta(database, 'clock offset', String(offset));
  database.clockOffset = offset;
}
