import {
  type ColumnOfType,
  type Conflict,
  KoinonError,
  type NewRow,
  type Patch,
  type Problem,
  type Query,
  type Row,
  type Schema,
  type TableName,
} from '@koinon/core';
import { Database } from '../database/database.ts';
import { meta, prepareLayout } from '../database/layout.ts';
import { type Host, systemHost } from '../host/host.ts';
import { Outbox, type QueuedTransaction } from '../outbox/outbox.ts';
import { Bases } from '../overlay/base.ts';
import { Conflicts } from '../overlay/conflicts.ts';
import type { SqlDriver } from '../storage/driver.ts';
import { openNodeDriver } from '../storage/node.ts';
import { type Direction, type SyncReport, syncStep } from '../sync/step.ts';
import { httpTransport, type Transport } from '../sync/transport.ts';
import { Rows } from '../tables/rows.ts';
import { type WriteTarget, Writing } from '../tables/writing.ts';
import { Turns } from './turns.ts';

/** How a replica is opened. */
export interface ReplicaOptions<S extends Schema> {
  readonly schema: S;
  /** The SQLite file; it is created if it is not there. Default: in memory, which does not persist. */
  readonly file?: string;
  /** Where the server answers, such as `http://127.0.0.1:4280`, or a transport of your own. */
  readonly server?: string | Transport;
  /** An SQLite of your own instead of Node's; then `file` is not used. */
  readonly driver?: SqlDriver;
  /** Clock, ids and timers of your own. */
  readonly host?: Host;
  /** Milliseconds a transaction may do nothing before it is rolled back. Default 10,000. */
  readonly stallLimit?: number;
}

/** What can be read and written inside a transaction, and on the replica itself as transactions of one step. */
export interface Reading<S extends Schema> {
  /** The row of that id, or undefined. */
  get<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined>;
  /** The rows a query asks for. */
  rows<T extends TableName<S>, C extends Extract<keyof Row<S, T>, string> = Extract<keyof Row<S, T>, string>>(
    query: Query<S, T, C>,
  ): Promise<readonly Pick<Row<S, T>, C | Extract<'id', keyof Row<S, T>>>[]>;
  /** How many rows a query's condition has. */
  count<T extends TableName<S>>(query: Pick<Query<S, T>, 'from' | 'where'>): Promise<number>;
}

/** Writes. Each is checked against the schema before anything is written; the error names table, column, value and rule. */
export interface WritingFace<S extends Schema> {
  /** Adds a row; its id is a new UUIDv7 unless one is given. @throws KoinonError `duplicate-id` and others. */
  insert<T extends TableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>>;
  /** Changes some columns of a row. @throws KoinonError `no-such-row` and others. */
  update<T extends TableName<S>>(table: T, id: string, patch: Patch<S, T>): Promise<Row<S, T>>;
  /** Adds to a counter; a negative number takes away. What several devices add is summed. */
  add<T extends TableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'counter'>,
    amount?: number,
  ): Promise<Row<S, T>>;
  /** Puts members into a set. */
  include<T extends TableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'set'>,
    ...members: string[]
  ): Promise<Row<S, T>>;
  /** Takes members out of a set. */
  exclude<T extends TableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'set'>,
    ...members: string[]
  ): Promise<Row<S, T>>;
  /** Removes a row. @throws KoinonError `no-such-row`, or `row-referenced` while another row refers to it. */
  delete<T extends TableName<S>>(table: T, id: string): Promise<void>;
}

/** What a transaction's function gets: its reads see its own writes. */
export interface Transaction<S extends Schema> extends Reading<S>, WritingFace<S> {}

/** A rejected transaction, with the server's reasons. */
export interface Rejection {
  readonly transaction: string;
  readonly rows: readonly { readonly table: string; readonly id: string }[];
  readonly problems: readonly Problem[];
}

/** Where a replica stands. */
export interface ReplicaStatus {
  readonly replicaId: string;
  /** `memory` does not outlive the process. */
  readonly storage: 'file' | 'memory';
  /** Transactions the server has not confirmed. */
  readonly pending: number;
  /** Rows with a conflict. */
  readonly conflicted: number;
  /** Transactions the server refused. */
  readonly rejected: number;
  /** The feed's position this replica has reached; null before its first pull. */
  readonly position: number | null;
  /** When the last sync step ended well, RFC 3339. */
  readonly syncedAt: string | null;
}

/** The database on one device, for one user. Every write is durable before its promise resolves, network or not. */
export interface Replica<S extends Schema> extends Reading<S>, WritingFace<S> {
  /**
   * Runs several writes as one: all or none are kept, and they reach the server together. A throw rolls back.
   * Use only the transaction it hands you inside; others' work waits until it ends.
   *
   * @throws KoinonError `transaction-stalled` when it does nothing for `stallLimit` milliseconds.
   */
  transaction<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result>;
  /**
   * One sync step by hand. Nothing is lost when it fails; the next goes on where it stood.
   *
   * @throws KoinonError `server-unreachable` without a network, `not-linked` without a server, `sync-busy`, `cancelled`.
   */
  sync(options?: { readonly direction?: Direction; readonly signal?: AbortSignal }): Promise<SyncReport>;
  /** Columns on which this device and the server disagree; each waits for a decision and is not sent. */
  conflicts(): Promise<readonly Conflict[]>;
  /** Transactions the server refused, with its reasons. */
  rejections(): Promise<readonly Rejection[]>;
  /** Transactions the server has not confirmed, in order. */
  outbox(): Promise<readonly QueuedTransaction[]>;
  status(): Promise<ReplicaStatus>;
  /** Waits for open work, then closes the file. */
  close(): Promise<void>;
}

/**
 * Opens the replica in a file, or makes a new one there.
 *
 * @throws KoinonError `storage-foreign`, `storage-damaged`, `storage-refused` or `schema-changed`; the file is left as it was.
 * @example
 * const replica = await openReplica({ schema: cooperative, file: 'hives.db', server: 'http://127.0.0.1:4280' })
 */
export async function openReplica<S extends Schema>(options: ReplicaOptions<S>): Promise<Replica<S>> {
  const { schema, host = systemHost, server, stallLimit = 10_000 } = options;
  const driver = options.driver ?? (await openNodeDriver({ file: options.file ?? ':memory:' }));
  const database = new Database(driver);
  try {
    prepareLayout(database, schema, () => host.newId());
  } catch (error) {
    database.close();
    throw error;
  }
  const transport = typeof server === 'string' ? httpTransport(server) : server;
  return new LocalReplica<S>(schema, database, host, transport, stallLimit);
}

class LocalReplica<S extends Schema> implements Replica<S> {
  private readonly turns = new Turns();
  private readonly target: WriteTarget;
  private readonly conflictList: Conflicts;
  private readonly transport: Transport | undefined;
  private readonly stallLimit: number;
  private closed = false;
  private syncing = false;

  constructor(schema: S, database: Database, host: Host, transport: Transport | undefined, stallLimit: number) {
    const rows = new Rows(database, schema);
    this.target = {
      schema,
      database,
      rows,
      bases: new Bases(database, rows),
      outbox: new Outbox(database, schema),
      host,
    };
    this.conflictList = new Conflicts(database, schema);
    this.transport = transport;
    this.stallLimit = stallLimit;
  }

  get<T extends TableName<S>>(table: T, id: string) {
    return this.turn(() => (this.target.rows.get(table, id) ?? undefined) as Row<S, T> | undefined);
  }

  rows<T extends TableName<S>, C extends Extract<keyof Row<S, T>, string>>(query: Query<S, T, C>) {
    return this.turn(() => this.target.rows.select(query) as never);
  }

  count<T extends TableName<S>>(query: Pick<Query<S, T>, 'from' | 'where'>) {
    return this.turn(() => this.target.rows.count(query));
  }

  insert<T extends TableName<S>>(table: T, row: NewRow<S, T>) {
    return this.write((writing) => writing.insert(table, row) as unknown as Row<S, T>);
  }

  update<T extends TableName<S>>(table: T, id: string, patch: Patch<S, T>) {
    return this.write((writing) => writing.update(table, id, patch) as unknown as Row<S, T>);
  }

  add<T extends TableName<S>>(table: T, id: string, column: string, amount = 1) {
    return this.write((writing) => writing.operate(table, id, column, { add: amount }) as unknown as Row<S, T>);
  }

  include<T extends TableName<S>>(table: T, id: string, column: string, ...members: string[]) {
    return this.write(
      (writing) => writing.operate(table, id, column, { include: members, exclude: [] }) as unknown as Row<S, T>,
    );
  }

  exclude<T extends TableName<S>>(table: T, id: string, column: string, ...members: string[]) {
    return this.write(
      (writing) => writing.operate(table, id, column, { include: [], exclude: members }) as unknown as Row<S, T>,
    );
  }

  delete<T extends TableName<S>>(table: T, id: string) {
    return this.write((writing) => writing.delete(table, id));
  }

  transaction<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result> {
    return this.turn(async () => {
      const { database } = this.target;
      database.begin();
      const open = new OpenTransaction<S>(this.target, this.stallLimit);
      try {
        const result = await open.run(work);
        database.commit();
        return result;
      } catch (error) {
        database.rollback();
        throw error;
      }
    });
  }

  async sync({
    direction = 'both',
    signal,
  }: {
    direction?: Direction;
    signal?: AbortSignal;
  } = {}): Promise<SyncReport> {
    if (this.transport === undefined)
      throw new KoinonError('not-linked', 'This replica has no server; open it with `server` to sync.');
    if (this.syncing) throw new KoinonError('sync-busy', 'A sync of this replica is under way; wait for it to end.');
    this.syncing = true;
    try {
      const parts = { ...this.target, conflicts: this.conflictList, transport: this.transport };
      return await syncStep({ ...parts, turn: (work) => this.turn(work) }, direction, signal);
    } finally {
      this.syncing = false;
    }
  }

  conflicts() {
    return this.turn(() => this.conflictList.list());
  }

  rejections() {
    return this.turn(() =>
      [...this.target.outbox.transactions('rejected')].map(({ id, changes, problems }) => ({
        transaction: id,
        rows: changes.map((change) => ({ table: change.table, id: change.id })),
        problems,
      })),
    );
  }

  outbox() {
    return this.turn(() => [...this.target.outbox.transactions('pending', 'attempted', 'rejected')]);
  }

  status() {
    return this.turn((): ReplicaStatus => {
      const { database, outbox } = this.target;
      const position = meta(database, 'position');
      return {
        replicaId: meta(database, 'replica') as string,
        storage: database.driver.storage,
        pending: outbox.count('pending', 'attempted'),
        conflicted: this.conflictList.count(),
        rejected: outbox.count('rejected'),
        position: position === undefined ? null : Number(position),
        syncedAt: meta(database, 'synced at') ?? null,
      };
    });
  }

  async close(): Promise<void> {
    if (this.closed) return;
    await this.turn(() => {
      this.closed = true;
      this.target.database.close();
    });
  }

  private turn<T>(work: () => T | Promise<T>): Promise<T> {
    return this.turns.take(() => {
      if (this.closed) throw new KoinonError('replica-closed', 'This replica is closed; open it again.');
      return work();
    });
  }

  private write<T>(work: (writing: Writing) => T): Promise<T> {
    return this.turn(() =>
      this.target.database.transact(() => {
        const writing = new Writing(this.target);
        const result = work(writing);
        writing.finish();
        return result;
      }),
    );
  }
}

/** A transaction while its function runs: over when the function ends, or when it does nothing for too long. */
class OpenTransaction<S extends Schema> implements Transaction<S> {
  private readonly target: WriteTarget;
  private readonly writing: Writing;
  private readonly stallLimit: number;
  private over = false;
  private cancelTimer: () => void = () => undefined;
  private stalled: (error: KoinonError) => void = () => undefined;

  constructor(target: WriteTarget, stallLimit: number) {
    this.target = target;
    this.writing = new Writing(target);
    this.stallLimit = stallLimit;
  }

  async run<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result> {
    const stall = new Promise<never>((_, reject) => {
      this.stalled = reject;
    });
    try {
      this.watch();
      const result = await Promise.race([work(this), stall]);
      this.writing.finish();
      return result;
    } finally {
      this.over = true;
      this.cancelTimer();
    }
  }

  get<T extends TableName<S>>(table: T, id: string) {
    return this.step(() => (this.target.rows.get(table, id) ?? undefined) as Row<S, T> | undefined);
  }

  rows<T extends TableName<S>, C extends Extract<keyof Row<S, T>, string>>(query: Query<S, T, C>) {
    return this.step(() => this.target.rows.select(query) as never);
  }

  count<T extends TableName<S>>(query: Pick<Query<S, T>, 'from' | 'where'>) {
    return this.step(() => this.target.rows.count(query));
  }

  insert<T extends TableName<S>>(table: T, row: NewRow<S, T>) {
    return this.step(() => this.writing.insert(table, row) as unknown as Row<S, T>);
  }

  update<T extends TableName<S>>(table: T, id: string, patch: Patch<S, T>) {
    return this.step(() => this.writing.update(table, id, patch) as unknown as Row<S, T>);
  }

  add<T extends TableName<S>>(table: T, id: string, column: string, amount = 1) {
    return this.step(() => this.writing.operate(table, id, column, { add: amount }) as unknown as Row<S, T>);
  }

  include<T extends TableName<S>>(table: T, id: string, column: string, ...members: string[]) {
    return this.step(
      () => this.writing.operate(table, id, column, { include: members, exclude: [] }) as unknown as Row<S, T>,
    );
  }

  exclude<T extends TableName<S>>(table: T, id: string, column: string, ...members: string[]) {
    return this.step(
      () => this.writing.operate(table, id, column, { include: [], exclude: members }) as unknown as Row<S, T>,
    );
  }

  delete<T extends TableName<S>>(table: T, id: string) {
    return this.step(() => this.writing.delete(table, id));
  }

  private async step<T>(work: () => T): Promise<T> {
    if (this.over)
      throw new KoinonError('transaction-over', 'This transaction has ended; await every call inside its function.');
    this.watch();
    return this.target.database.guarded(work);
  }

  private watch(): void {
    this.cancelTimer();
    this.cancelTimer = this.target.host.after(this.stallLimit, () => {
      this.stalled(
        new KoinonError(
          'transaction-stalled',
          `A transaction did nothing for ${this.stallLimit} ms and was rolled back. Inside it use only the transaction it hands you: a call on the replica itself waits for the transaction to end.`,
        ),
      );
    });
  }
}
