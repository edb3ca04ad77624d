import { KoinonError, type Schema } from '@koinon/core';
import { createTable, replicaApplicationId } from '@koinon/core/internal';
import { actionTables } from './action-tables.ts';
import { assignedKeyTable } from './assigned-key-table.ts';
import type { Database } from './database.ts';
import { isReplicaFile, layoutVersion, setMeta } from './layout.ts';

/** Koinon's own tables in a replica. Comments here say what they hold. */
const koinonTables = [
  `CREATE TABLE koinon_meta (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT
) WITHOUT ROWID`,
  // The outbox: transactions in order, each followed by its changes. A row of kind 'transaction' has the identity: `origin`
  // never changes; `id` names the content, and is null while that is the origin; several transactions with one id are one unit
  // of a request. `state` is null until it is first attempted. Its changes have its place as `sequence`; `columns` is null
  // for an insert whose row has not been changed since; `is_acknowledged`: the feed has brought it back, while its transaction as a
  // whole still waits for that; `before`: the values that it was typed over, of a change in conflict, or that it changed,
  // of one that is back; `server_values`: columns to which the server gave other values than were sent. A row of kind 'action' stands among
  // them: its name, the id of the call and its input are `table_name`, `row_id` and `columns`.
  `CREATE TABLE koinon_outbox (
  place INTEGER PRIMARY KEY,
  kind TEXT NOT NULL,
  sequence INTEGER,
  state TEXT,
  id TEXT,
  origin TEXT,
  edited_at INTEGER,
  table_name TEXT,
  row_id TEXT,
  columns TEXT,
  operations TEXT,
  is_acknowledged INTEGER NOT NULL DEFAULT 0,
  before TEXT,
  server_values TEXT,
  problems TEXT
)`,
  // A transaction that was never attempted is not in it, so that a local write touches no page of it.
  'CREATE INDEX koinon_outbox_sent ON koinon_outbox (id, state) WHERE state IS NOT NULL',
  // Asked for with each local write.
  "CREATE INDEX koinon_outbox_rejected ON koinon_outbox (place) WHERE state = 'rejected'",
  // Transactions that were confirmed and brought back, kept for some days.
  `CREATE TABLE koinon_history (
  place INTEGER PRIMARY KEY,
  kept_at INTEGER NOT NULL,
  kind TEXT NOT NULL,
  sequence INTEGER,
  id TEXT,
  origin TEXT,
  edited_at INTEGER,
  table_name TEXT,
  row_id TEXT,
  columns TEXT,
  operations TEXT,
  before TEXT
)`,
  assignedKeyTable,
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
  // Decisions of a person that can still be taken back: the row's changes and conflicts as they were before.
  `CREATE TABLE koinon_resolved (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  changes TEXT NOT NULL,
  conflicts TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID`,
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
  database.driver.exec(`PRAGMA application_id = ${replicaApplicationId}; ${koinonTables}`);
  if (Object.keys(schema.actions).length > 0) database.driver.exec(actionTables);
  setMeta(database, 'layout version', String(layoutVersion));
  for (const [name, table] of Object.entries(schema.tables))
    for (const statement of createTable(name, table)) database.driver.exec(statement);
}
