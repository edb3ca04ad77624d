import { createTable, KoinonError, type Schema } from '@koinon/core';
import type { Database } from './database.ts';
import { applicationId, isReplicaFile } from './layout.ts';

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

/** Koinon's own tables in a replica. What they hold stands in comments here. */
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
  before TEXT,
  server_values TEXT
)`,
  // `before`: of one that is back, what it changed. `server_values`: columns to which the server gave other values than were
  // sent. Where columns is null the change is an insert whose row has not been changed since: the row itself tells them.
  // Transactions that have been sent, and what is known of them: pending again, attempted, confirmed or rejected.
  `CREATE TABLE koinon_sent (
  sequence INTEGER PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  edited_at INTEGER NOT NULL,
  state TEXT NOT NULL,
  problems TEXT
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

/** Makes an empty file a replica. Runs inside a transaction. */
export function create(database: Database, schema: Schema): void {
  // Another process may have been first.
  if (isReplicaFile(database)) return;
  if (database.once('SELECT 1 FROM sqlite_schema LIMIT 1').length > 0)
    throw new KoinonError(
      'storage-foreign',
      'The file is an SQLite database, but not a Koinon replica; choose another file.',
    );
  database.driver.exec(`PRAGMA application_id = ${applicationId}; ${koinonTables}`);
  for (const [name, table] of Object.entries(schema.tables))
    for (const statement of createTable(name, table, 'storage types')) database.driver.exec(statement);
}
