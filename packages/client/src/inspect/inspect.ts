import { type FileValue, KoinonError, type Sql } from '@koinon/core';
import { quoteName, replicaApplicationId } from '@koinon/core/internal';
import { openNodeDriver } from '#node-driver';
import { Database } from '../database/database.ts';
import { holdingList, type StoredHolding, singleRow } from '../database/holding-list.ts';
import { meta, refuseNewerLayout } from '../database/layout.ts';
import { readOnly, runReading } from '../database/read-only.ts';
import type { StoredTables } from '../database/stored-rows.ts';
import {
  type StoredInvocation,
  type StoredTransaction,
  storedInvocations,
  storedTransactions,
} from '../outbox/stored.ts';
import { lastRuns, type SyncRun } from '../sync/journal.ts';

/** A column, or a whole row, on which this device and the server disagree; values as they travel. */
export interface InspectedConflict {
  readonly table: string;
  readonly id: string;
  /** Null where it is about the whole row. */
  readonly column: string | null;
  readonly base: unknown;
  readonly local: unknown;
  readonly remote: unknown;
  /** When each side was edited, RFC 3339, and by whom on the server; null where that is not known. */
  readonly localEditedAt: string | null;
  readonly remoteEditedAt: string | null;
  readonly remoteEditedBy: string | null;
  /** Why a merge function gave no answer, where one was asked. */
  readonly reason: string | null;
}

/** A file that a row of a replica holds. */
export interface InspectedFile {
  readonly table: string;
  readonly row: string;
  readonly column: string;
  readonly file: FileValue;
}

/** A table of a replica that a service of others fills. */
export interface InspectedSource {
  readonly table: string;
  /** When the service last said that the rows are right, RFC 3339. */
  readonly checkedAt: string;
}

/** A look into a replica file, without its schema and without changing anything. */
export interface Inspection {
  readonly replicaId: string;
  readonly schemaVersion: number;
  readonly position: number | null;
  readonly syncedAt: string | null;
  /** Rows by table. */
  tables(): Readonly<Record<string, number>>;
  /** The transactions that the server has not confirmed, oldest first. */
  outbox(): readonly StoredTransaction[];
  /** The calls of actions, and what became of them. */
  invocations(): StoredInvocation[];
  /** The columns that wait for a person to decide. */
  conflicts(): readonly InspectedConflict[];
  /** The files that rows hold, by table and row. */
  files(): readonly InspectedFile[];
  /** The rows that the app asks for by name, besides those that it always asks for. */
  holdings(): readonly StoredHolding[];
  /** The tables that services of others fill. */
  sources(): readonly InspectedSource[];
  /** The last runs of the sync, newest first. */
  journal(limit: number): readonly SyncRun[];
  /** Runs SQL that reads. @throws KoinonError `query-writes`, `query-invalid`. */
  select(query: Sql): readonly Readonly<Record<string, unknown>>[];
  /** Closes the file. */
  close(): void;
}

/**
 * Looks into a replica file. An app may have it open meanwhile.
 *
 * @throws KoinonError `storage-foreign` for a file that is no replica, `storage-refused` when it cannot be opened,
 *   `layout-newer`.
 * @example
 * const replica = await inspectReplica('phone.db')
 * for (const { id, state } of replica.outbox()) show(id, state)
 * replica.close()
 */
export async function inspectReplica(file: string): Promise<Inspection> {
  const database = new Database(await openNodeDriver({ file, readOnly: true }));
  const [{ application_id: found }] = database.guarded(() => database.once('PRAGMA application_id')) as [
    { application_id: number },
  ];
  if (found !== replicaApplicationId) {
    database.close();
    throw new KoinonError('storage-foreign', `${file} is an SQLite database, but not a Koinon replica.`, {
      value: file,
    });
  }
  const said = <T>(work: () => T): T => {
    try {
      return database.guarded(work);
    } catch (error) {
      database.close();
      throw error;
    }
  };
  said(() => refuseNewerLayout(database));
  const { version, tables } = said(
    () => JSON.parse(meta(database, 'schema') as string) as { version: number; tables: StoredTables },
  );
  const position = said(() => meta(database, 'position'));
  return {
    replicaId: meta(database, 'replica') ?? '',
    schemaVersion: version,
    position: position === undefined ? null : Number(position),
    syncedAt: meta(database, 'synced at') ?? null,
    tables: () =>
      database.guarded(() =>
        Object.fromEntries(
          Object.keys(tables).map((table) => {
            const [row] = database.once(`SELECT count(*) AS n FROM ${quoteName(table)}`) as [{ n: number }];
            return [table, row.n];
          }),
        ),
      ),
    outbox: () => database.guarded(() => storedTransactions(database)),
    invocations: () => database.guarded(() => storedInvocations(database)),
    conflicts: () =>
      database.guarded(() => {
        const rows = database.once(
          'SELECT * FROM koinon_conflict ORDER BY table_name, row_id, column_name',
        ) as Stored[];
        return rows.map((row) => ({
          table: row.table_name,
          id: row.row_id,
          column: row.column_name || null,
          base: JSON.parse(row.base),
          local: JSON.parse(row.local),
          remote: JSON.parse(row.remote),
          localEditedAt: timeOf(row.local_at),
          remoteEditedAt: timeOf(row.remote_at),
          remoteEditedBy: row.remote_by,
          reason: row.reason,
        }));
      }),
    files: () =>
      database.guarded(() =>
        Object.entries(tables).flatMap(([table, columns]) =>
          Object.entries(columns).flatMap(([column, { type }]) =>
            type === 'file' ? filesIn(database, table, column) : [],
          ),
        ),
      ),
    holdings: () => database.guarded(() => holdingList(database).filter((each) => singleRow(each) === undefined)),
    sources: () => database.guarded(() => sourcesIn(database)),
    journal: (limit) => database.guarded(() => lastRuns(database, limit)),
    select: (query) => runReading(database, readOnly(database, query)),
    close: () => database.close(),
  };
}

interface Stored extends Record<'table_name' | 'row_id' | 'column_name' | 'base' | 'local' | 'remote', string> {
  readonly local_at: number | null;
  readonly remote_at: number | null;
  readonly remote_by: string | null;
  readonly reason: string | null;
}

/** The note that each source leaves with its rows. */
function sourcesIn(database: Database): InspectedSource[] {
  const notes = database.once("SELECT name, value FROM koinon_meta WHERE name LIKE 'source %' ORDER BY name");
  return (notes as { name: string; value: string }[]).map(({ name, value }) => ({
    table: name.slice('source '.length),
    checkedAt: new Date((JSON.parse(value) as { checkedAt: number }).checkedAt).toISOString(),
  }));
}

function filesIn(database: Database, table: string, column: string): InspectedFile[] {
  const name = quoteName(column);
  const rows = database.once(
    `SELECT id, ${name} AS file FROM ${quoteName(table)} WHERE ${name} IS NOT NULL ORDER BY id`,
  );
  return (rows as { id: string; file: string }[]).map(({ id, file }) => ({
    ...{ table, row: id, column },
    file: JSON.parse(file) as FileValue,
  }));
}

const timeOf = (at: number | null) => (at === null ? null : new Date(at).toISOString());
