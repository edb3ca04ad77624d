import type { Column } from './column.ts';
import { type Columns, type Table, table } from './table.ts';

/** The input and the result of an action, as values by name. */
export interface ActionOptions<Input extends Columns = Columns, Result extends Columns = Columns> {
  /** The values that the app gives. */
  readonly input: Input;
  /** The values that the server's handler returns. Default: none. */
  readonly result?: Result;
  /** How messages name the action to a person: `Move a hive`. */
  readonly label?: string;
}

/** An operation that the server runs once: made by {@link action}. */
export interface Action<Input extends Columns = Columns, Result extends Columns = Columns> {
  /** The values that the app gives. */
  readonly input: Table<Input, 'everywhere', false, false>;
  /** The values that the server's handler returns. */
  readonly result: Table<Result, 'everywhere', false, false>;
  readonly label: string | undefined;
}

/** Actions by name. */
export type Actions = Readonly<Record<string, Action>>;

/**
 * Describes an operation that only the server can carry out: to place an order, say. An app asks for it by `replica.invoke`, with or without a network;
 * it goes up in order with the edits that were made before it, and the server runs it once.
 *
 * @example
 * const moveHive = action({ input: { hive: reference('hive'), to: reference('site') }, result: { number: integer() } })
 */
export function action<const Input extends Columns, const Result extends Columns = Record<never, Column>>({
  input,
  result = {} as Result,
  label,
}: ActionOptions<Input, Result>): Action<Input, Result> {
  return Object.freeze({ input: table(input), result: table(result), label });
}
