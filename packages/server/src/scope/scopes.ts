import type { ColumnOfType, Row, RowComplaint, Schema, SyncedTableName, TableName, Where } from '@koinon/core';
import type { User } from '../auth/authenticate.ts';
import type { RowWrite, RuleContext } from './row-write.ts';

type Awaitable<T> = T | Promise<T>;

/** The database as a scope sees it: in the snapshot in which it is evaluated. */
export interface ScopeContext<S extends Schema> {
  /**
   * The rows of a table that fulfil a condition. The table is one that the scope depends on: when such rows change, the
   * scope is evaluated again, before anything else is sent. That is told best of columns that are filterable.
   */
  rows<T extends TableName<S>>(table: T, where: Where<Row<S, T>>): Promise<readonly Row<S, T>[]>;
}

/** Which columns nobody gets, or not this user, and who may write a table. `user` is undefined where the server knows no users. */
export interface TableAccess<S extends Schema, T extends TableName<S>> {
  /** Columns that are never sent: to anybody, or to this user. On his devices they are null. */
  readonly withhold?:
    | readonly Extract<keyof Row<S, T>, string>[]
    | ((user: User | undefined) => readonly Extract<keyof Row<S, T>, string>[]);
  /**
   * Looks at what a device would do to a row, before and after, and says why it may not; nothing where it may. Without it
   * a user may write what he may read: the row must be in his scope before and after.
   */
  readonly write?: (
    write: RowWrite<Row<S, T>>,
    context: RuleContext<S>,
  ) => Awaitable<readonly RowComplaint[] | undefined>;
}

/** The rows that a user's replicas may hold, by a condition of their own. */
export interface ReadScope<S extends Schema, T extends TableName<S>> extends TableAccess<S, T> {
  /**
   * A condition over `id` and columns that are filterable, or in a word `all` or `none`. It must come from nothing but the user
   * and what `context` reads.
   */
  readonly read:
    | 'all'
    | 'none'
    | ((user: User | undefined, context: ScopeContext<S>) => Awaitable<Where<Row<S, T>> | 'all' | 'none'>);
  readonly with?: never;
}

/** The rows that refer to a row which the user's replicas may hold. */
export interface ParentScope<S extends Schema, T extends TableName<S>> extends TableAccess<S, T> {
  /** The reference column, which is filterable: a row is in the scope while the row that it refers to is. */
  readonly with: string extends T ? string : ColumnOfType<S, T, 'reference'>;
  readonly read?: never;
}

/** The rights to one table, to read and to write. In a word: `all` is for everybody, to read and to write; `none` for nobody. */
export type TableScope<S extends Schema, T extends TableName<S>> = ReadScope<S, T> | ParentScope<S, T> | 'all' | 'none';

/**
 * The rights of users, by table. Every table that the server keeps is named: one that was forgotten would be everybody's.
 *
 * @example
 * const scopes: Scopes<typeof cooperative> = {
 *   member: { read: 'all', write: () => [{ message: 'The office keeps the list of members.' }] },
 *   site: { read: (user) => ({ keeper: user?.id ?? '' }) },
 *   hive: { with: 'site' },
 * }
 */
export type Scopes<S extends Schema> = { readonly [T in SyncedTableName<S>]: TableScope<S, T> };

/** The scope of a table whose type is not known. */
export interface AnyTableScope {
  readonly read?: 'all' | 'none' | ((user: User | undefined, context: ScopeContext<Schema>) => unknown);
  readonly with?: string;
  readonly withhold?: readonly string[] | ((user: User | undefined) => readonly string[]);
  readonly write?: (write: never, context: never) => unknown;
}
