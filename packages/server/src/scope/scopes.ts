import type { Row, RowComplaint, Schema, TableName, Where } from '@koinon/core';
import type { User } from '../auth/authenticate.ts';
import type { RowWrite, RuleContext } from '../rules/rules.ts';

type Awaitable<T> = T | Promise<T>;

/** The database as a scope sees it: in the snapshot in which it is evaluated. */
export interface ScopeContext<S extends Schema> {
  /**
   * The rows of a table that fulfil a condition. The table is one that the scope depends on: when such rows change, the
   * scope is evaluated again, before anything else is sent. That is told best of columns that are filterable.
   */
  rows<T extends TableName<S>>(table: T, where: Where<Row<S, T>>): Promise<readonly Row<S, T>[]>;
}

/** Who gets what of one table, and who may write it. `user` is undefined where the server knows no users. */
export interface TableScope<S extends Schema, T extends TableName<S>> {
  /**
   * The rows that a user's replicas may hold: a condition over `id` and columns that are filterable, or in a word `all` or
   * `none`. Default `all`. It must come from nothing but the user and what `context` reads.
   */
  readonly read?: (user: User | undefined, context: ScopeContext<S>) => Awaitable<Where<Row<S, T>> | 'all' | 'none'>;
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

/** Who gets what, by table; a table that is not named is everybody's. */
export type Scopes<S extends Schema> = { readonly [T in TableName<S>]?: TableScope<S, T> };

/** Scopes whose tables' types are not known. */
export type AnyScopes = Readonly<
  Record<
    string,
    | {
        readonly read?: (user: User | undefined, context: ScopeContext<Schema>) => unknown;
        readonly withhold?: readonly string[] | ((user: User | undefined) => readonly string[]);
        readonly write?: (write: never, context: never) => unknown;
      }
    | undefined
  >
>;
