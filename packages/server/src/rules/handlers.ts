import type { ActionName, GivenResult, JsonValue, Schema, TableName, TakenInput } from '@koinon/core';
import type { RuleContext } from '../scope/row-write.ts';

type Awaitable<T> = T | Promise<T>;

/** The database as the handler of an action sees it, inside the transaction that the action is a part of. */
export interface ActionContext<S extends Schema> extends RuleContext<S> {
  /** The id of the call, by which the device knows it. */
  readonly id: string;
  /** The UUID of what the person did: the same, whatever is repeated. */
  readonly origin: string;
  /** When the person did it: RFC 3339. */
  readonly invokedAt: string;
  /** Tells whether the user's scope has a row: that of another must be answered like one that is not there. */
  sees<T extends TableName<S>>(table: T, id: string): Promise<boolean>;
  /**
   * Ends the handler: the transaction is refused for these reasons, and nothing of it is kept.
   *
   * @example
   * if (site.isFull) refuse([{ input: 'to', message: 'There is no room at this site.' }])
   */
  refuse(reasons: string | readonly ActionRefusal[]): never;
  /**
   * Has something done outside of the database after the transaction is committed: a mail, a payment. It is kept with the rows, and carried out at
   * least once by the function of that name in the option `effects`.
   */
  later(name: string, payload: JsonValue): void;
}

/** A reason for which a handler refuses. */
export interface ActionRefusal {
  readonly message: string;
  /** The value of the input that is at fault, where it is one. */
  readonly input?: string;
}

/** The result that a handler returns; nothing, where the action has none. */
type Returned<S extends Schema, N extends ActionName<S>> = keyof GivenResult<S, N> extends never
  ? unknown
  : Awaitable<GivenResult<S, N>>;

/** The functions that carry out the actions of a schema, by name. */
export type Handlers<S extends Schema> = {
  readonly [N in ActionName<S>]?: (input: TakenInput<S, N>, context: ActionContext<S>) => Returned<S, N>;
};

/** A handler whose types are not known. */
export type AnyHandler = (input: never, context: ActionContext<Schema>) => unknown;
