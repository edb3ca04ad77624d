import type { AnyRow, Change, Patch, Row, RowComplaint, Schema, TableName } from '@koinon/core';
import type { User } from '../auth/authenticate.ts';
import type { Effects } from '../effects/effects.ts';
import type { RowWrite, RuleContext } from '../scope/row-write.ts';
import type { AnyHandler, Handlers } from './handlers.ts';

type Awaitable<T> = T | Promise<T>;

/** The server's rules for writes to one table. Each may be asynchronous, within a time limit. */
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
  /** The writer. */
  readonly user?: User | undefined;
  readonly tables: Readonly<Record<string, AnyTableRules | undefined>>;
  /** The functions that carry out actions, by name. */
  readonly actions: Readonly<Record<string, AnyHandler | undefined>>;
  /** The functions that do something outside of the database after a commit, by name. */
  readonly effects: Effects;
  /** Milliseconds a rule may take. */
  readonly timeLimit: number;
  /** Told of a rule that failed, for whoever runs the server. */
  readonly report: (error: unknown, change: Pick<Change, 'table' | 'id'>) => void;
}

/** Options about rules. */
export interface RuleOptions<S extends Schema> {
  /** The rules by which the server checks, fills in and derives when devices write. */
  readonly rules?: Rules<S>;
  /** The functions that carry out the actions of the schema. A call of one that has none waits on its device. */
  readonly actions?: Handlers<S>;
  /** The functions that carry out what actions ask for by `later`, outside of the database and after the commit. */
  readonly effects?: Effects;
  /** Milliseconds one rule, or one action, may take. Default 5,000. Others wait for it on SQLite, which has one writer. */
  readonly ruleTimeLimit?: number;
}

/** The rules of these options. */
export function ruleSet<S extends Schema>(
  { rules = {}, actions = {}, effects = {}, ruleTimeLimit = 5_000 }: RuleOptions<S>,
  report: RuleSet['report'],
): RuleSet {
  return {
    tables: rules as RuleSet['tables'],
    actions: actions as RuleSet['actions'],
    effects,
    timeLimit: ruleTimeLimit,
    report,
  };
}
