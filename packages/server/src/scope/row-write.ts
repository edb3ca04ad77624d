import type { NewRow, Row, Schema, TableName } from '@koinon/core';
import type { User } from '../auth/authenticate.ts';

/** The effect of a transaction on one row, in all. Rows are as they stand in the database. */
export interface RowWrite<R> {
  readonly kind: 'insert' | 'update' | 'delete';
  readonly id: string;
  /** The row before the transaction; null for an insert. */
  readonly before: R | null;
  /** The row with what the transaction does; null for a delete. */
  readonly after: R | null;
  /** The columns in which the two differ; all of them for an insert or delete. */
  readonly changed: readonly string[];
}

/** The database as a rule sees it: inside the transaction it is asked about, until it has answered. */
export interface RuleContext<S extends Schema> {
  /** The writer; undefined for a service of the server's own, or where the server knows no users. */
  readonly user: User | undefined;
  /** The row as it is within this transaction; undefined where there is none. */
  get<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined>;
  /** Rows of a query in the store's own SQL: parameters are `?` on SQLite, `$1` on PostgreSQL. */
  query<R = Readonly<Record<string, unknown>>>(sql: string, ...values: readonly unknown[]): Promise<readonly R[]>;
  /** Writes that belong to the server, not to the device: every replica gets them, the sender included. */
  insert<T extends TableName<S>>(table: T, row: Omit<NewRow<S, T>, 'id'> & { readonly id: string }): Promise<void>;
  /** Changes columns of a row on behalf of the server. */
  update<T extends TableName<S>>(table: T, id: string, patch: Partial<Omit<Row<S, T>, 'id'>>): Promise<void>;
  /** Deletes a row on behalf of the server. */
  delete<T extends TableName<S>>(table: T, id: string): Promise<void>;
  /**
   * The next number of a sequence of this name, from 1 on: without gaps, and never twice, whatever the processes on the database.
   * A transaction that takes one lets the others wait until it has ended.
   *
   * @example
   * before: async ({ kind }, { sequence }) => (kind === 'insert' ? { number: await sequence('invoice') } : undefined)
   */
  sequence(name: string): Promise<number>;
  /** Aborted when the rule has taken too long. */
  readonly signal: AbortSignal;
}
