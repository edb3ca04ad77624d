import { existsSync, mkdtempSync, readFileSync, rmSync, statSync } from 'node:fs';
import { access, copyFile, readdir, rename, rm, stat } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { KoinonError } from '@koinon/core';
import { logBytes, type SqlDriver, type SqlStatement } from './driver.ts';
import { storageError } from './errors.ts';

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
  /** Only to read: nothing is made or changed, whatever is there. */
  readonly readOnly?: boolean;
  /** Milliseconds to wait for another process that is writing. */
  readonly busyTimeout?: number;
}

/**
 * Opens a real SQLite file in Node, in write-ahead mode: a commit survives the process at once, and a reader never
 * waits for a writer.
 *
 * @throws KoinonError `storage-refused` when the file cannot be opened, `storage-foreign` when it is no SQLite file.
 * @example
 * const driver = await openNodeDriver({ file: 'phone.db' })
 * const replica = await openReplica({ schema: cooperative, driver })
 */
export async function openNodeDriver({
  file,
  readOnly = false,
  busyTimeout = 5_000,
}: NodeDriverOptions): Promise<SqlDriver> {
  const { DatabaseSync } = await loadSqlite();
  if (readOnly && file !== ':memory:' && !existsSync(file))
    throw new KoinonError('storage-refused', `There is no file ${file}.`, { value: file });
  try {
    const database = new DatabaseSync(file, { timeout: busyTimeout, readOnly });
    try {
      // The first look at the file: one that is none of SQLite's is found out here.
      if (readOnly) database.exec('SELECT 1 FROM sqlite_schema LIMIT 1');
      else
        database.exec(
          `PRAGMA journal_mode = wal; PRAGMA synchronous = normal; PRAGMA secure_delete = on; PRAGMA temp_store = memory;
           PRAGMA journal_size_limit = ${logBytes}`,
        );
    } catch (error) {
      database.close();
      throw error;
    }
    // A relative path means another file once the process has gone to another folder.
    const path = resolve(file);
    const opened = file === ':memory:' ? undefined : idOf(path);
    return {
      ...(opened === undefined ? {} : { fileId: opened, isLost: () => idOf(path) !== opened }),
      copy(write) {
        // A folder of its own, which nobody else may look into.
        const folder = mkdtempSync(join(tmpdir(), 'koinon-copy-'));
        try {
          write(join(folder, 'copy.db'));
          return new Uint8Array(readFileSync(join(folder, 'copy.db')));
        } finally {
          rmSync(folder, { recursive: true, force: true });
        }
      },
      exec: (sql) => database.exec(sql),
      prepare: (sql) => database.prepare(sql),
      close() {
        // Statements that are still prepared keep SQLite from folding its log into the file by itself; a closed replica
        // is one file, which a person may copy.
        try {
          if (!readOnly) database.exec('PRAGMA wal_checkpoint(truncate)');
        } catch {
          // On a full disk, say: the log stays beside the file, and is folded in when it is opened again.
        }
        database.close();
      },
      storage: file === ':memory:' ? 'memory' : 'file',
    };
  } catch (error) {
    throw storageError(error, file);
  }
}

/** Which file a path leads to; undefined where there is none. */
function idOf(file: string): string | undefined {
  try {
    return presentId(file);
  } catch {
    // A folder that may not be looked into tells nothing of its files.
    return 'unknown';
  }
}

function presentId(file: string): string | undefined {
  const found = statSync(file, { bigint: true, throwIfNoEntry: false });
  return found && `${found.dev} ${found.ino}`;
}

/** The files that belong to a database besides its own. */
const besides = ['', '-wal', '-shm'];

/** The files in a folder that may be databases; none where there is no such folder. */
export async function filesOf(folder: string): Promise<readonly string[]> {
  const entries = await readdir(folder, { withFileTypes: true }).catch(() => []);
  return entries
    .filter((entry) => entry.isFile() && !/-(wal|shm)$/.test(entry.name))
    .map(({ name }) => join(folder, name));
}

/** The size of a database, in bytes; 0 where there is none. */
export async function sizeOfFile(file: string): Promise<number> {
  const sizes = await Promise.all(
    besides.map((end) =>
      stat(`${file}${end}`).then(
        ({ size }) => size,
        () => 0,
      ),
    ),
  );
  return sizes.reduce((sum, size) => sum + size, 0);
}

/** Removes a database. */
export async function removeFile(file: string): Promise<void> {
  for (const end of besides) await rm(`${file}${end}`, { force: true });
}

/** Copies a prebuilt database to where there is none yet: whole, or, when that is cut off, not at all. */
export async function copyPrebuilt(prebuilt: string, file: string): Promise<void> {
  const isThere = await access(file).then(
    () => true,
    () => false,
  );
  if (isThere) return;
  const partial = `${file}.partial`;
  try {
    await copyFile(prebuilt, partial);
    await rename(partial, file);
  } catch (error) {
    throw new KoinonError(
      'storage-refused',
      `The prebuilt database ${prebuilt} cannot be copied to ${file}: ${(error as Error).message}. No replica was made.`,
      { value: prebuilt, cause: error },
    );
  }
}
