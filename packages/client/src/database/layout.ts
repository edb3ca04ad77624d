import { createTable, KoinonError, type Schema } from '@koinon/core';
import type { Database } from './database.ts';

/** Marks a file as a replica: the letters KOIN in SQLite's header. */
const applicationId = 0x4b4f494e;

const koinonTables = `
CREATE TABLE koinon_meta (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT
) WITHOUT ROWID;
-- The outbox: transactions in order, pending, attempted, confirmed (until the feed covers them) or rejected.
CREATE TABLE koinon_transaction (
  sequence INTEGER PRIMARY KEY,
  id TEXT NOT NULL,
  state TEXT NOT NULL,
  edited_at TEXT NOT NULL,
  problems TEXT
);
CREATE UNIQUE INDEX koinon_transaction_by_id ON koinon_transaction (id);
CREATE INDEX koinon_transaction_by_state ON koinon_transaction (state, sequence);
CREATE TABLE koinon_change (
  sequence INTEGER NOT NULL,
  ordinal INTEGER NOT NULL,
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  kind TEXT NOT NULL,
  columns TEXT NOT NULL,
  operations TEXT NOT NULL,
  PRIMARY KEY (sequence, ordinal)
) WITHOUT ROWID;
CREATE INDEX koinon_change_by_row ON koinon_change (row_id, table_name);
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
-- The exact bytes last sent up, until their outcome is known.
CREATE TABLE koinon_attempt (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  body TEXT NOT NULL
);
`;

/** Makes an empty file a replica of this schema, or checks that the file is one. */
export function prepareLayout(database: Database, schema: Schema, newId: () => string): void {
  const pragma = (name: string) =>
    Object.values(database.driver.prepare(`PRAGMA ${name}`).get() as object)[0] as number;
  const description = describeSchema(schema);
  database.transact(() => {
    if (pragma('application_id') === applicationId) {
      const known = meta(database, 'schema');
      if (known !== description)
        throw new KoinonError(
          'schema-changed',
          'This replica was made with another schema; open it with the one it was made with.',
        );
      return;
    }
    const { count } = database.driver.prepare('SELECT count(*) AS count FROM sqlite_schema').get() as { count: number };
    if (count > 0)
      throw new KoinonError(
        'storage-foreign',
        'The file is an SQLite database, but not a Koinon replica; choose another file.',
      );
    database.driver.exec(`PRAGMA application_id = ${applicationId}; ${koinonTables}`);
    for (const [name, table] of Object.entries(schema.tables))
      for (const statement of createTable(name, table, 'storage types')) database.driver.exec(statement);
    setMeta(database, 'replica', newId());
    setMeta(database, 'schema', description);
  });
}

/** What of a schema decides the shape of the file. */
function describeSchema(schema: Schema): string {
  return JSON.stringify({
    version: schema.version,
    tables: Object.entries(schema.tables).map(([name, table]) => createTable(name, table, 'storage types')),
  });
}

/** Names under which `koinon_meta` keeps a value. */
type MetaName = 'replica' | 'schema' | 'cursor' | 'position' | 'clock offset' | 'synced at';

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
