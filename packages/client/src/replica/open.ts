import type { Row, Schema, TableName, Where } from '@koinon/core';
import type { Migrations } from '../database/migration.ts';
import type { SqlDriver } from '../driver/driver.ts';
import type { Host } from '../host/host.ts';
import type { SyncOptions } from '../sync/state.ts';
import type { TokenSource, Transport } from '../sync/transport.ts';
import { Draft } from './draft.ts';
import { openLocal } from './open-local.ts';
import type { Replica } from './replica.ts';
import type { Transaction } from './transaction.ts';

/** How a replica is opened. */
export interface ReplicaOptions<S extends Schema> {
  readonly schema: S;
  /** The SQLite file; it is created if it is not there. Default: in memory, which does not persist. */
  readonly file?: string;
  /** A database file that ships with the app, made by `copyTo`: what a new replica starts from. */
  readonly prebuilt?: string;
  /** Fills a new replica, once, in one transaction: if the process is killed meanwhile, it runs at the next opening. */
  readonly seed?: (transaction: Transaction<S>) => Promise<void>;
  /** How a file of an earlier schema version is brought up, by the version each leads to. New tables, columns and indexes need none. */
  readonly migrations?: Migrations;
  /** The address of the server, such as `http://127.0.0.1:4280`, or a transport of your own. */
  readonly server?: string | Transport;
  /** The token that says who asks, for a `server` that is an address; see the options of `httpTransport`. */
  readonly token?: TokenSource;
  /**
   * The part that is asked for of what the user may have: some tables, some columns of a table, some rows by columns that are filterable. Changed
   * from one opening to the next, only the difference is fetched, or leaves.
   */
  readonly only?: {
    readonly tables?: readonly TableName<S>[];
    /** Columns by table; of the tables that are not named all. A column that is not asked for is null here. */
    readonly columns?: { readonly [T in TableName<S>]?: readonly Extract<keyof Row<S, T>, string>[] };
    readonly where?: { readonly [T in TableName<S>]?: Where<Row<S, T>> };
  };
  /** When syncs begin by themselves, and how; `automatic` takes every default. Without it: only by hand. */
  readonly sync?: SyncOptions | 'automatic';
  /** An SQLite of your own instead of Node's; then `file` is not used. */
  readonly driver?: SqlDriver;
  /** Clock, ids and timers of your own. */
  readonly host?: Host;
  /**
   * The failure that a write survives once its promise has resolved: the `process` is killed (the default), or a `power-loss` as well,
   * for which each write waits until the disk has it.
   */
  readonly durability?: 'process' | 'power-loss';
  /** Milliseconds a transaction may do nothing before it is rolled back. Default 10,000. */
  readonly stallLimit?: number;
}

/**
 * Opens the replica in a file, or makes a new one there.
 *
 * @throws KoinonError `storage-foreign`, `storage-damaged`, `storage-refused`, `schema-newer`, `schema-changed` or
 *   `migration-failed`; the file is left as it was.
 * @example
 * const replica = await openReplica({ schema: cooperative, file: 'hives.db', server: 'http://127.0.0.1:4280' })
 */
export function openReplica<S extends Schema>(options: ReplicaOptions<S>): Promise<Replica<S>> {
  return openLocal(options, (schema, replica, newId) => new Draft<S>(schema, replica, newId));
}
