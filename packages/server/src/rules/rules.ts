import type { AnyRow, Change, NewRow, Patch, Row, RowComplaint, Schema, TableName } from '@koinon/core';

import type { User } from '../auth/authenticate.ts';

/** What a transaction does to one row, in all. Rows are as they stand in the database. */
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
  /** Who writes; undefined for a service of the server's own, or where the server knows no users. */
  readonly user: User | undefined;
  get<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined>;
  /** Rows of a query in the store's own SQL: parameters are `?` on SQLite, `$1` on PostgreSQL. */
  query<R = Readonly<Record<string, unknown>>>(sql: string, ...values: readonly unknown[]): Promise<readonly R[]>;
  /** Writes that belong to the server, not to the device: every replica gets them, the sender included. */
  insert<T extends TableName<S>>(table: T, row: NewRow<S, T> & { readonly id: string }): Promise<void>;
  update<T extends TableName<S>>(table: T, id: string, patch: Partial<Omit<Row<S, T>, 'id'>>): Promise<void>;
  delete<T extends TableName<S>>(table: T, id: string): Promise<void>;
  /**
   * The next number of a sequence of this name, from 1 on: without gaps, and never twice, whatever the processes on the database.
   * Whoever takes one lets the others wait until his transaction has ended.
   *
   * @example
   * before: async ({ kind }, { sequence }) => (kind === 'insert' ? { number: await sequence('invoice') } : undefined)
   */
  sequence(name: string): Promise<number>;
  /** Aborted when the rule has taken too long. */
  readonly signal: AbortSignal;
}

type Awaitable<T> = T | Promise<T>;

/** What the server does about writes to one table. Each may be asynchronous, within a time limit. */
export interface TableRules<S extends Schema, T extends TableName<S>> {
  /**
   * Before the row is written: fills in, corrects or derives columns. What it returns comes back to the device. It is asked row by
   * row, and sees what the transaction has written before.
   */
  readonly before?: (
    write: RowWrite<Row<S, T>>,
    context: RuleContext<S>,
  ) => Awaitable<Partial<Omit<Row<S, T>, 'id'>> | Patch<S, T> | undefined>;
  /** Looks at the written row and says what is wrong with it: then nothing of its transaction is kept. */
  readonly validate?: (
    write: RowWrite<Row<S, T>>,
    context: RuleContext<S>,
  ) => Awaitable<readonly RowComplaint[] | undefined>;
  /** After the row was written, in the same transaction: writes what follows from it elsewhere. */
  readonly after?: (write: RowWrite<Row<S, T>>, context: RuleContext<S>) => Awaitable<void>;
}

/** The server's rules, by table. */
export type Rules<S extends Schema> = { readonly [T in TableName<S>]?: TableRules<S, T> };

/** Rules of a table whose types are not known. */
export interface AnyTableRules {
  readonly before?: (write: RowWrite<AnyRow>, context: RuleContext<Schema>) => unknown;
  readonly validate?: (write: RowWrite<AnyRow>, context: RuleContext<Schema>) => unknown;
  readonly after?: (write: RowWrite<AnyRow>, context: RuleContext<Schema>) => unknown;
}

/** Rules with the way they are run. */
export interface RuleSet {
  /** Who writes. */
  readonly user?: User | undefined;
  readonly tables: Readonly<Record<string, AnyTableRules | undefined>>;
  /** Milliseconds a rule may take. */
  readonly timeLimit: number;
  /** Told of a rule that failed, for whoever runs the server. */
  readonly report: (error: unknown, change: Pick<Change, 'table' | 'id'>) => void;
}

/** Options about rules. */
export interface RuleOptions<S extends Schema> {
  /** What the server checks, fills in and derives when devices write. */
  readonly rules?: Rules<S>;
  /** Milliseconds one rule may take. Default 5,000. Others wait for it on SQLite, which has one writer. */
  readonly ruleTimeLimit?: number;
}

/** The rules of these options. */
export function ruleSet<S extends Schema>(
  { rules = {}, ruleTimeLimit = 5_000 }: RuleOptions<S>,
  report: RuleSet['report'],
): RuleSet {
  return { tables: rules as RuleSet['tables'], timeLimit: ruleTimeLimit, report };
}
