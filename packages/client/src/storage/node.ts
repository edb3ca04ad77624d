import { KoinonError } from '@koinon/core';
import type { SqlDriver, SqlStatement } from './driver.ts';

/** The part of Node's SQLite module that is used; `@photostructure/sqlite` is its drop-in where Node has none. */
interface SqliteModule {
  readonly DatabaseSync: new (
    path: string,
    options?: { readonly readOnly?: boolean; readonly timeout?: number },
  ) => {
    exec(sql: string): void;
    prepare(sql: string): SqlStatement;
    close(): void;
  };
}

let loading: Promise<SqliteModule> | undefined;

/** SQLite as this Node has it: built in from Node 22.13 on, else the drop-in with prebuilt binaries. */
function loadSqlite(): Promise<SqliteModule> {
  // The name is put together so that bundlers and older Nodes do not try to resolve it beforehand.
  const builtIn = ['node', 'sqlite'].join(':');
  loading ??= (import(builtIn) as Promise<SqliteModule>).catch(
    () => import('@photostructure/sqlite') as unknown as Promise<SqliteModule>,
  );
  return loading;
}

/** How a file is opened. */
export interface NodeDriverOptions {
  /** A path, or `:memory:`. */
  readonly file: string;
  /** Milliseconds to wait for another process that is writing. */
  readonly busyTimeout?: number;
}

/**
 * Opens a real SQLite file in Node, in write-ahead mode: a commit survives the process at once, and a reader never
 * waits for a writer.
 *
 * @throws KoinonError `storage-refused` when the file cannot be opened, `storage-foreign` when it is no SQLite file.
 */
export async function openNodeDriver({ file, busyTimeout = 5_000 }: NodeDriverOptions): Promise<SqlDriver> {
  const { DatabaseSync } = await loadSqlite();
  try {
    const database = new DatabaseSync(file, { timeout: busyTimeout });
    try {
      database.exec(
        'PRAGMA journal_mode = wal; PRAGMA synchronous = normal; PRAGMA secure_delete = on; PRAGMA temp_store = memory',
      );
    } catch (error) {
      database.close();
      throw error;
    }
    return {
      exec: (sql) => database.exec(sql),
      prepare: (sql) => database.prepare(sql),
      close() {
        // Statements that are still prepared keep SQLite from folding its log into the file by itself; a closed replica
        // is one file, which a person may copy.
        database.exec('PRAGMA wal_checkpoint(truncate)');
        database.close();
      },
      storage: file === ':memory:' ? 'memory' : 'file',
    };
  } catch (error) {
    throw storageError(error, file);
  }
}

/** SQLite's primary result codes that mean something to an app. */
const meanings = {
  5: ['replica-busy', 'Another process is writing to the database; try again.'],
  6: ['replica-busy', 'The database is locked by this process; try again.'],
  8: ['storage-refused', 'The database cannot be written: the file or its folder is read-only.'],
  10: ['storage-refused', 'The storage failed to read or write.'],
  11: ['storage-damaged', 'The database file is damaged. Restore it from a copy, or start over from the server.'],
  13: ['storage-full', 'The disk is full; nothing was written. Free some space and try again.'],
  14: ['storage-refused', 'The database file cannot be opened. Check that its folder exists and can be written.'],
  26: ['storage-foreign', 'The file is not an SQLite database.'],
} as const;

/** SQLite's own words for these codes: some failures come without the number. */
const words: readonly (readonly [string, keyof typeof meanings])[] = [
  ['database is locked', 5],
  ['readonly database', 8],
  ['disk I/O error', 10],
  ['disk image is malformed', 11],
  ['disk is full', 13],
  ['unable to open database file', 14],
  ['is not a database', 26],
];

/** An error of the storage under its own code; any other error as it is. */
export function storageError(error: unknown, file?: string): unknown {
  if (error instanceof KoinonError || !(error instanceof Error)) return error;
  const given = error as { errcode?: unknown; sqliteCode?: unknown };
  const code =
    Number(given.errcode ?? given.sqliteCode ?? 0) & 0xff || words.find(([said]) => error.message.includes(said))?.[1];
  const meaning = meanings[code as keyof typeof meanings];
  if (!meaning) return error;
  return new KoinonError(meaning[0], `${file ? `${file}: ` : ''}${meaning[1]} (${error.message})`, { cause: error });
}
