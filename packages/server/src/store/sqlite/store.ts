import { setTimeout } from 'node:timers/promises';
import type { Position, Problem, Schema } from '@koinon/core';
import { KoinonError } from '@koinon/core';
import { named } from '@koinon/core/internal';
import type { CursorKeys } from '../../cursor/keys.ts';
import { keptTables, type Mapping } from '../mapping.ts';
import { onlyRead, type StoreMode } from '../mode.ts';
import type { Fault, Store, StoreReader, StoreWriter, Wake } from '../store.ts';
import type { TrackingFault } from '../tracking.ts';
import { type InvalidStoredValue, TypedValues } from '../typed-values.ts';
import { faultOf, refusalOf } from './constraints.ts';
import { catchUpAll, standingTables } from './copies.ts';
import { loadSqlite, Prepared } from './driver.ts';
import { FileWatch } from './file-watch.ts';
import { type Identity, storedIdentity } from './identity.ts';
import { plainTables, prepareLayout, unenforcedColumns } from './layout.ts';
import { refuseForeign, refuseUnprepared } from './maintenance.ts';
import { readPosition, SqliteReader } from './reader.ts';
import type { TableReading } from './rows.ts';
import { Stamping } from './stamping.ts';
import { storedTimes } from './stored-times.ts';
import { followAgain, statesOf } from './tracking.ts';
import { columnsFilled, relationOf } from './views.ts';
import { widenTables } from './widen.ts';
import { SqliteWriter } from './writer.ts';

/** Told of each statement that a transaction runs on the app's tables, with its values. */
export type Trace = (sql: string, values: readonly unknown[]) => void;

/** Options of {@link sqliteStore}. */
export interface SqliteOptions {
  /** Default `prepare`; `serve` wants what {@link sqliteDdl} prints to be run first. */
  readonly mode?: StoreMode;
  readonly trace?: Trace;
  /** How tables that were there before stand in the database, by the schema's table names. */
  readonly mapping?: Mapping;
  /** Told, once each, of values in tables of others that are not of their column's type; replicas get none for them. */
  readonly invalidValue?: (found: InvalidStoredValue) => void;
}

/**
 * Keeps the app's tables in an SQLite file, with the feed and the receipts beside them. Other programs may read and
 * write the same file meanwhile.
 *
 * @param file a path; it is created if it is not there.
 * @throws KoinonError `storage-refused` when the file cannot be opened as an SQLite database.
 * @example
 * const store = await sqliteStore(cooperative, 'server.db', { invalidValue: ({ table, column }) => show(table, column) })
 */
export async function sqliteStore(
  schema: Schema,
  file: string,
  { mode = 'prepare', trace, mapping = {}, invalidValue }: SqliteOptions = {},
): Promise<Store> {
  if (file === ':memory:' || file === '')
    throw new KoinonError(
      'storage-refused',
      'A store needs a file: it is read and written over several connections, and each would get a memory of its own. Name a path.',
      { value: file },
    );
  const { DatabaseSync } = await loadSqlite();
  const open = () => {
    const connection = new DatabaseSync(file, { timeout: 5_000, readOnly: mode === 'read' });
    const lasting = 'PRAGMA journal_mode = wal; PRAGMA synchronous = full;';
    connection.exec(
      `${mode === 'read' ? '' : lasting} PRAGMA foreign_keys = on; PRAGMA recursive_triggers = off;
       PRAGMA journal_size_limit = ${logBytes}`,
    );
    return new Prepared(connection);
  };
  try {
    if (mode !== 'prepare') await refuseUnprepared(schema, file, mapping);
    const writing = open();
    refuseForeign(writing, file);
    if (mode === 'prepare') widenTables(writing, schema, mapping);
    const { identity, faults } =
      mode === 'read' ? { identity: storedIdentity(writing), faults: [] } : prepareLayout(writing, schema, mapping);
    const kept = {
      ...schema,
      tables: named(Object.fromEntries(keptTables(schema).map((name) => [name, schema.tables[name]]))),
    } as Schema;
    // From now on waiting for others is done between tries.
    writing.connection.exec('PRAGMA busy_timeout = 0');
    const tables: TableReading = {
      relation: relationOf(schema, mapping),
      unenforced: unenforcedColumns(writing, schema, mapping),
      typed: new TypedValues(invalidValue),
      times: storedTimes(schema, mapping),
    };
    const filled = columnsFilled(writing, schema, mapping);
    const stamping = new Stamping(writing, plainTables(writing, schema, mapping, filled));
    const writer = new SqliteWriter(writing, kept, { ...tables, filled }, mapping, stamping, trace);
    const store = new SqliteStore({
      schema: kept,
      identity,
      faults,
      connections: { writing, reading: open(), watching: open() },
      tables,
      writer,
      fileWatch: new FileWatch(file),
      mode,
      mapping,
    });
    stamping.onSchemaChange = () => store.onUntracked?.();
    return store;
  } catch (error) {
    if (error instanceof KoinonError) throw error;
    throw new KoinonError(
      'storage-refused',
      `${file} cannot be opened as the server's database: ${(error as Error).message}.`,
      { cause: error },
    );
  }
}

/** Bytes that the write-ahead log may keep after something large; a server runs for months. */
const logBytes = 64 * 1024 * 1024;

/** How long a write waits for another program to end its own, and from one try to the next, in milliseconds. */
const lockTimeouts = 5_000;
const tryEvery = 5;

/** SQLite's code for a database that another program is writing. */
const busyCode = 5;

/** Milliseconds between two looks at whether any program has written the file; one costs some microseconds. */
const lookEvery = 20;

/** The parts that a store works with, once its file is ready to be served. */
interface StoreParts {
  readonly schema: Schema;
  readonly identity: Identity;
  readonly faults: readonly TrackingFault[];
  readonly connections: Readonly<Record<'writing' | 'reading' | 'watching', Prepared>>;
  readonly tables: TableReading;
  readonly writer: SqliteWriter;
  readonly fileWatch: FileWatch;
  readonly mode: StoreMode;
  readonly mapping: Mapping;
}

class SqliteStore implements Store {
  readonly schema: Schema;
  readonly feed: string;
  readonly keys: CursorKeys;
  /** They take their turns: a few that wait keep it busy. */
  readonly width = 10;
  private isClosed = false;
  private readonly watchers = new Set<Wake>();
  private readonly fileWatch: FileWatch;
  private readonly mode: StoreMode;
  private readonly mapping: Mapping;
  private faults: readonly TrackingFault[];
  private lookedAt: number | undefined;
  readonly hasViews: boolean;
  readonly standby = undefined;
  /** The version of the file of which the copies of views are. */
  private viewsAt: number | undefined;
  onUntracked: (() => void) | undefined;
  private readonly writing: Prepared;
  private readonly reading: Prepared;
  private readonly reader: SqliteReader;
  private readonly writer: SqliteWriter;
  private turn: Promise<unknown> = Promise.resolve();
  private readTurn: Promise<unknown> = Promise.resolve();

  /** Outside of any transaction, so that it sees what is new. */
  private readonly watching: Prepared;

  constructor({ schema, identity, faults, connections, tables, writer, fileWatch, mode, mapping }: StoreParts) {
    const { writing, reading, watching } = connections;
    this.mapping = mapping;
    this.faults = faults;
    this.mode = mode;
    this.fileWatch = fileWatch;
    this.watching = watching;
    this.schema = schema;
    this.feed = identity.feed;
    this.keys = identity.keys;
    this.writing = writing;
    this.reading = reading;
    this.reader = new SqliteReader(reading, schema, tables);
    this.writer = writer;
    this.hasViews = standingTables(writing, schema, mapping).some(({ view }) => view !== undefined);
  }

  ordinal(position: Position): number {
    return readPosition(position).at;
  }

  positionAt(ordinal: number): Position {
    return String(ordinal);
  }

  read<T>(work: (reader: StoreReader) => Promise<T>): Promise<T> {
    const run = () => {
      this.fileWatch.refuseLost();
      this.reading.connection.exec('BEGIN');
      return inTransaction(this.reading, () => work(this.reader));
    };
    const turn = this.readTurn.then(run);
    this.readTurn = turn.catch(() => undefined);
    return turn;
  }

  write<T>(work: (writer: StoreWriter) => Promise<T>): Promise<T> {
    if (this.mode === 'read') return Promise.reject(onlyRead());
    // The mutex: while one request's work awaits (a validator, say) no other gets into its transaction.
    const run = async () => {
      this.fileWatch.refuseLost();
      await beginWriting(this.writing);
      return inTransaction(this.writing, async () => {
        this.writer.begin();
        const result = await work(this.writer);
        this.writer.end();
        return result;
      });
    };
    const turn = this.turn.then(run);
    this.turn = turn.catch(() => undefined);
    return turn;
  }

  async lookAfterTables(): Promise<readonly TrackingFault[]> {
    const before = this.faults;
    this.faults = [];
    const { schema, mapping } = this;
    const version = this.watching.get<{ schema_version: number }>('PRAGMA schema_version')?.schema_version;
    // Without a change of the schema nothing can have become of its tables and triggers.
    if (version === this.lookedAt) return before;
    // Others are kept from writing only where there is something to be mended.
    const states = statesOf(this.watching, schema, mapping);
    const found = states.flatMap((state) => (state.is === 'changed' ? [state.fault] : []));
    if (states.some(({ is }) => is === 'untracked'))
      await this.write(async () => {
        for (const state of statesOf(this.writing, schema, mapping))
          if (state.is === 'untracked') found.push(followAgain(this.writing, state.table));
      });
    this.lookedAt = found.length === 0 ? version : undefined;
    return [...before, ...found];
  }

  async followViews(): Promise<readonly TrackingFault[] | undefined> {
    if (!this.hasViews || this.mode === 'read') return [];
    const version = this.watching.get<{ data_version: number }>('PRAGMA data_version')?.data_version;
    if (version === this.viewsAt) return undefined;
    const faults = await this.write(async () => catchUpAll(this.writing, this.schema, this.mapping));
    this.viewsAt = version;
    return faults;
  }

  faultOf(error: unknown): Fault | undefined {
    return faultOf(error);
  }

  refusalOf(error: unknown): Problem | undefined {
    return refusalOf(error);
  }

  watch(wake: Wake): () => void {
    const version = () => {
      try {
        return this.watching.get<{ data_version: number }>('PRAGMA data_version')?.data_version;
      } catch {
        // The storage fails for a moment, say. Nobody has asked who could be told; the next look is soon.
        return undefined;
      }
    };
    let seen = version();
    const timer = setInterval(() => {
      const now = version();
      if (now === undefined || now === seen) return;
      seen = now;
      wake();
    }, lookEvery).unref();
    this.watchers.add(wake);
    return () => {
      this.watchers.delete(wake);
      clearInterval(timer);
    };
  }

  announce(): void {
    // Other processes look at the file by themselves.
    for (const wake of [...this.watchers]) wake();
  }

  async close(): Promise<void> {
    if (this.isClosed) return;
    this.isClosed = true;
    await Promise.all([this.turn, this.readTurn]);
    this.reading.connection.close();
    this.watching.connection.close();
    if (this.mode !== 'read') this.writing.connection.exec('PRAGMA wal_checkpoint(truncate)');
    this.writing.connection.close();
  }
}

/**
 * Begins to write as soon as no other program is writing. The waiting is done here: SQLite's own would hold up the whole
 * process, and every request in it.
 */
async function beginWriting({ connection }: Prepared): Promise<void> {
  const end = performance.now() + lockTimeouts;
  for (;;) {
    try {
      connection.exec('BEGIN IMMEDIATE');
      return;
    } catch (error) {
      const isBusy = (Number((error as { errcode?: number }).errcode) & 0xff) === busyCode;
      if (!isBusy || performance.now() > end) throw error;
    }
    await setTimeout(tryEvery);
  }
}

async function inTransaction<T>(database: Prepared, work: () => Promise<T>): Promise<T> {
  try {
    const result = await work();
    database.connection.exec('COMMIT');
    return result;
  } catch (error) {
    try {
      database.connection.exec('ROLLBACK');
    } catch {
      // A full disk, say, has made SQLite roll back by itself.
    }
    throw error;
  }
}
