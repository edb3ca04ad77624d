import { KoinonError } from '@koinon/core';
import type { Sqlite3Static, WasmPointer } from '@sqlite.org/sqlite-wasm';
import { type BoundValue, logBytes, type SqlDriver, type SqlStatement } from './driver.ts';
import { Fence } from './fence.ts';

/** A database in the origin's private file system, and the way to let go of it without another write. */
export interface PrivateFile {
  readonly driver: SqlDriver;
  /** Tells whether another owner has taken the database over: nothing can be written here any more. */
  isLost(): boolean;
  /** Lets go of the files at once, without closing the database: for an owner that has lost it. */
  abandon(): void;
}

const settings = `PRAGMA locking_mode = exclusive; PRAGMA journal_mode = wal; PRAGMA synchronous = normal;
  PRAGMA secure_delete = on; PRAGMA temp_store = memory; PRAGMA cache_size = -16000; PRAGMA journal_size_limit = ${logBytes}`;

/** Files a database needs at once: itself, its log, and room for what VACUUM and the like make for a while. */
const filesNeeded = 6;

/**
 * Opens a database in the browser's private file system (OPFS), in a dedicated worker, by SQLite's WebAssembly build and
 * its pool of access handles. It has the file for itself: write-ahead log, exclusive lock, `synchronous = normal`.
 *
 * @param name what the database is called on this origin.
 * @param owner a UUID of this opening; whoever opens the database later takes it over from this one.
 * @param prebuilt gives the database that a new one starts from.
 * @throws KoinonError `storage-unavailable` where the browser has or gives no private files, `replica-busy` while another
 *   worker has them and the browser lets nobody take them over.
 */
export async function openPrivateFile(
  name: string,
  owner: string,
  prebuilt?: () => Promise<Uint8Array>,
): Promise<PrivateFile> {
  const folder = await privateFolder(name);
  const fence = await Fence.take(folder, owner).catch(rethrown);
  try {
    // A fresh SQLite each time: the memory of one that lost its files goes with it.
    const sqlite = await loadSqlite();
    const pool = await fence.guarding(() =>
      sqlite.installOpfsSAHPoolVfs({
        name: 'koinon',
        directory: `${folderOf(name)}/pool`,
        initialCapacity: filesNeeded,
        // Failures come out as SQLite's errors; the pool need not write them to the console as well.
        ...{ verbosity: 0 },
      }),
    );
    if (prebuilt && !pool.getFileNames().includes('/replica.db')) pool.importDb('/replica.db', await prebuilt());
    const database = new pool.OpfsSAHPoolDb('/replica.db');
    const copy = (write: (file: string) => void) => {
      const file = '/copy.db';
      // Left by a copy that was cut off.
      pool.unlink(file);
      try {
        write(file);
        // The pool reads the file into an array of its own, though its type does not say so.
        return pool.exportFile(file) as Uint8Array<ArrayBuffer>;
      } finally {
        pool.unlink(file);
      }
    };
    const driver = { ...driverOf(sqlite, database, 'file', fence, () => pool.pauseVfs()), copy };
    return { driver, isLost: () => fence.isTaken(), abandon: () => fence.abandon() };
  } catch (error) {
    fence.abandon();
    return rethrown(error);
  }
}

/** Opens an SQLite in this worker's memory. @param problem why it is not a file, where one was wanted. */
export async function openMemory(problem?: string): Promise<SqlDriver> {
  const sqlite = await loadSqlite();
  const driver = driverOf(sqlite, new sqlite.oo1.DB(':memory:'), 'memory', undefined, () => undefined);
  return problem === undefined ? driver : { ...driver, storageProblem: problem };
}

/** Removes a database from the origin. Nobody may have it open. */
export async function deletePrivateFile(name: string): Promise<void> {
  const root = await navigator.storage.getDirectory();
  await root.removeEntry(folderOf(name), { recursive: true }).catch((error: Error) => {
    if (error.name !== 'NotFoundError') throw error;
  });
}

/** Loaded only in the worker that runs a database: pages that import this module do without. */
async function loadSqlite(): Promise<Sqlite3Static> {
  return (await import('./wasm-build.ts')).startSqlite();
}

const prefix = 'koinon ';
const folderOf = (name: string) => `${prefix}${encodeURIComponent(name)}`;

/** The folders of this origin's databases, by their names. */
export async function privateFolders(): Promise<ReadonlyMap<string, FileSystemDirectoryHandle>> {
  const root = await navigator.storage.getDirectory();
  const folders = new Map<string, FileSystemDirectoryHandle>();
  for await (const [name, handle] of root.entries())
    if (handle.kind === 'directory' && name.startsWith(prefix))
      folders.set(decodeURIComponent(name.slice(prefix.length)), handle as FileSystemDirectoryHandle);
  return folders;
}

const unavailable = (why: string, cause?: unknown) =>
  new KoinonError('storage-unavailable', `The browser gives no private files to this page (${why}).`, { cause });

async function privateFolder(name: string): Promise<FileSystemDirectoryHandle> {
  if (typeof navigator.storage?.getDirectory !== 'function')
    throw unavailable('it knows none, or the page is not secure');
  if (!('createSyncAccessHandle' in FileSystemFileHandle.prototype))
    throw unavailable('only a dedicated worker gets them');
  try {
    const root = await navigator.storage.getDirectory();
    return await root.getDirectoryHandle(folderOf(name), { create: true });
  } catch (error) {
    throw unavailable((error as Error).message, error);
  }
}

/** The failure of the files, under our codes. */
function rethrown(error: unknown): never {
  const { name, message } = error as Error;
  // WebKit says so of a state that is invalid, where the standard says that nothing may be modified.
  if (name === 'NoModificationAllowedError' || name === 'InvalidStateError')
    throw new KoinonError('replica-busy', 'Another tab still has the database open; try again.', { cause: error });
  if (name === 'QuotaExceededError')
    throw new KoinonError('storage-full', `The browser gives this site no more room: ${message}`, { cause: error });
  // Some browsers show a page the folder of its files, but never open one.
  if (name === 'NotSupportedError' || name === 'SecurityError') throw unavailable(message, error);
  throw error;
}

type Connection = InstanceType<Sqlite3Static['oo1']['DB']>;

function driverOf(
  sqlite: Sqlite3Static,
  connection: Connection,
  storage: SqlDriver['storage'],
  fence: Fence | undefined,
  letGo: () => void,
): SqlDriver {
  const open = new Set<WasmStatement>();
  const translated = <T>(work: () => T): T => {
    try {
      return work();
    } catch (error) {
      throw failure(error, fence);
    }
  };
  translated(() => connection.exec(settings));
  return {
    storage,
    isExclusive: true,
    exec: (sql) => translated(() => void connection.exec(sql)),
    prepare: (sql) => {
      const statement = translated(() => new WasmStatement(sqlite, connection, sql, translated, open));
      open.add(statement);
      return statement;
    },
    close() {
      for (const statement of [...open]) statement.finalize();
      connection.close();
      letGo();
      fence?.abandon();
    },
  };
}

/** A full disk and a lost database reach SQLite as nothing but failed writes: the fence knows which it was. */
function failure(error: unknown, fence: Fence | undefined): unknown {
  if (fence?.isBroken)
    return new KoinonError('replica-moved', 'Another tab runs the replica now; what was under way here was not done.', {
      cause: error,
    });
  if (fence?.isFull)
    return new KoinonError(
      'storage-full',
      'The browser gives this site no more room; nothing was written. Free some space and try again.',
      { cause: error },
    );
  return error;
}

class WasmStatement implements SqlStatement {
  private readonly sqlite: Sqlite3Static;
  private readonly connection: Connection;
  private readonly statement: ReturnType<Connection['prepare']>;
  private readonly pointer: WasmPointer;
  private readonly translated: <T>(work: () => T) => T;
  private readonly open: Set<WasmStatement>;
  private readonly columnCount: number;
  private names: readonly string[] | undefined;
  private isReading = false;
  private isOver = false;

  constructor(
    sqlite: Sqlite3Static,
    connection: Connection,
    sql: string,
    translated: <T>(work: () => T) => T,
    open: Set<WasmStatement>,
  ) {
    this.sqlite = sqlite;
    this.connection = connection;
    this.statement = connection.prepare(sql);
    this.pointer = pointerOf(this.statement);
    this.columnCount = this.statement.columnCount;
    this.translated = translated;
    this.open = open;
  }

  run(...values: BoundValue[]): { readonly changes: number; readonly lastInsertRowid: number } {
    return this.translated(() => {
      const { capi } = this.sqlite;
      try {
        this.bind(values);
        while (this.statement.step());
        const connection = pointerOf(this.connection);
        return {
          changes: capi.sqlite3_changes(connection),
          lastInsertRowid: Number(capi.sqlite3_last_insert_rowid(connection)),
        };
      } finally {
        capi.sqlite3_reset(this.pointer);
      }
    });
  }

  get(...values: BoundValue[]): unknown {
    for (const row of this.iterate(...values)) return row;
    return undefined;
  }

  all(...values: BoundValue[]): unknown[] {
    return [...this.iterate(...values)];
  }

  *iterate(...values: BoundValue[]): Generator<unknown> {
    this.isReading = true;
    try {
      this.translated(() => this.bind(values));
      while (this.translated(() => this.statement.step())) yield this.row();
    } finally {
      this.sqlite.capi.sqlite3_reset(this.pointer);
      this.isReading = false;
      if (this.isOver) this.finalize();
    }
  }

  finalize(): void {
    this.isOver = true;
    if (this.isReading || !this.open.delete(this)) return;
    this.statement.finalize();
  }

  private bind(values: readonly BoundValue[]): void {
    const { capi } = this.sqlite;
    const statement = this.pointer;
    for (const [i, value] of values.entries()) {
      const code =
        typeof value === 'string'
          ? this.bindText(statement, i + 1, value)
          : typeof value === 'number'
            ? bindNumber(capi, statement, i + 1, value)
            : typeof value === 'bigint'
              ? capi.sqlite3_bind_int64(statement, i + 1, value)
              : value === null
                ? capi.sqlite3_bind_null(statement, i + 1)
                : capi.sqlite3_bind_blob(statement, i + 1, value, value.byteLength, capi.SQLITE_TRANSIENT);
      if (code) throw new Error(`value ${i + 1} cannot be bound: SQLite's code ${code}`);
    }
  }

  /** The library's own binding of strings fails on a name it does not define; it takes memory of ours, and frees it. */
  private bindText(statement: WasmPointer, index: number, value: string): number {
    const { capi, wasm } = this.sqlite;
    const [pointer, length] = wasm.allocCString(value, true);
    return capi.sqlite3_bind_text(statement, index, pointer, length, capi.SQLITE_WASM_DEALLOC);
  }

  private row(): Record<string, unknown> {
    const { capi } = this.sqlite;
    const statement = this.pointer;
    this.names ??= Array.from({ length: this.columnCount }, (_, i) => capi.sqlite3_column_name(statement, i));
    const row: Record<string, unknown> = {};
    for (let i = 0; i < this.columnCount; i++) {
      const type = capi.sqlite3_column_type(statement, i);
      row[this.names[i] as string] =
        type === capi.SQLITE_TEXT
          ? capi.sqlite3_column_text(statement, i)
          : type === capi.SQLITE_NULL
            ? null
            : type === capi.SQLITE_BLOB
              ? this.statement.getBlob(i)
              : // Integers beyond 2^53 are none of ours; all others a double holds exactly.
                capi.sqlite3_column_double(statement, i);
    }
    return row;
  }
}

/** The place of a connection or a statement in SQLite; one that is closed has none. */
function pointerOf({ pointer }: { readonly pointer?: WasmPointer | undefined }): WasmPointer {
  if (pointer === undefined) throw new Error('the connection or statement has been closed');
  return pointer;
}

function bindNumber(capi: Sqlite3Static['capi'], statement: WasmPointer, index: number, value: number): number {
  if (!Number.isInteger(value)) return capi.sqlite3_bind_double(statement, index, value);
  if (value === (value | 0)) return capi.sqlite3_bind_int(statement, index, value);
  return Number.isSafeInteger(value)
    ? capi.sqlite3_bind_int64(statement, index, BigInt(value))
    : capi.sqlite3_bind_double(statement, index, value);
}
