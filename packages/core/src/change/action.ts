import { errorFromProblems, KoinonError, type Problem, shown } from '../errors/errors.ts';
import type { RowKey } from '../schema/row-key.ts';
import type { Schema } from '../schema/schema.ts';
import type { Action } from '../table/action.ts';
import { normalize } from '../values/check.ts';
import { columnsFromWire, columnsToWire, type WireColumns } from '../values/wire.ts';
import { type Referring, referencesOf } from './change.ts';
import { withDefaults } from './defaults.ts';
import { changeProblems } from './validate.ts';

/** The action of that name. @throws KoinonError `unknown-action`. */
export function actionOf({ actions }: Pick<Schema, 'actions'>, name: string): Action {
  const found = Object.hasOwn(actions, name) ? actions[name] : undefined;
  if (found) return found;
  const known = Object.keys(actions);
  const list = known.length === 0 ? 'no actions' : known.join(', ');
  throw new KoinonError('unknown-action', `There is no action ${shown(name)}; the schema has ${list}.`, {
    value: name,
  });
}

/** An action as messages name it to a person: by its label; by its name where it has none. */
export function actionLabel({ actions }: Pick<Schema, 'actions'>, name: string): string {
  return (Object.hasOwn(actions, name) ? actions[name]?.label : undefined) ?? name;
}

/** Everything wrong with the values that are an action's input, or its result. */
export function actionProblems(
  name: string,
  action: Action,
  which: 'input' | 'result',
  values: Readonly<Record<string, unknown>>,
): Problem[] {
  const change = { kind: 'insert', table: name, id: name, columns: values } as const;
  return changeProblems(action[which], change, 'server').map(({ table: _, id: __, ...problem }) => ({
    ...problem,
    action: name,
  }));
}

/** The input of an action as it is kept and sent. @throws KoinonError what is wrong with it. */
export function inputToWire(name: string, action: Action, given: Readonly<Record<string, unknown>>): WireColumns {
  const { input } = action;
  const values = withDefaults(input, given);
  const [first, ...rest] = actionProblems(name, action, 'input', values);
  if (first) throw errorFromProblems([first, ...rest]);
  for (const [column, definition] of input.entries) values[column] = normalize(definition, values[column]);
  return columnsToWire(input, values);
}

/** The rows that the input of an action refers to. */
export function rowsOfInput({ input }: Action, wire: WireColumns): RowKey[] {
  return referencesOf(input, { kind: 'insert', columns: columnsFromWire(input, wire) });
}

/** The rows that a transaction touches, and those that its actions refer to: for whatever depends on it. */
export function touchedBy<C extends Referring & RowKey>(transaction: {
  readonly changes: readonly C[];
  readonly actions?: readonly { readonly refersTo: readonly RowKey[] }[];
}): readonly (C | (Referring & RowKey))[] {
  const { changes, actions = [] } = transaction;
  if (actions.length === 0) return changes;
  return [
    ...changes,
    ...actions.flatMap(({ refersTo }) => refersTo.map((key) => ({ ...key, kind: 'update' as const }))),
  ];
}
