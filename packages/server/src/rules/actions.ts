import {
  type ActionCall,
  type ActionResult,
  type JsonValue,
  type Problem,
  type Schema,
  type UploadedTransaction,
  withDefaults,
} from '@koinon/core';
import {
  actionLabel,
  actionProblems,
  columnsFromWire,
  columnsToWire,
  noSuchReference,
  serverProblemOf,
} from '@koinon/core/internal';
import type { NewEffect } from '../store/store.ts';
import type { ActionRefusal } from './handlers.ts';
import { type Ruling, Run } from './write.ts';

/** The result of an action that was carried out. */
export interface RunAction {
  readonly result: ActionResult;
  readonly effects: readonly NewEffect[];
}

/** The reasons for which a handler refuses. */
class Refusal extends Error {
  readonly problems: readonly Problem[];

  constructor(problems: readonly Problem[]) {
    super('refused');
    this.problems = problems;
  }
}

/** Tells whether the server can run all actions of a transaction. One that it does not know yet, or has no handler for, waits. */
export function knowsActions(ruling: Pick<Ruling, 'schema' | 'rules'>, actions: readonly ActionCall[]): boolean {
  const { schema, rules } = ruling;
  return actions.every(({ name }) => Object.hasOwn(schema.actions, name) && rules.actions[name] !== undefined);
}

/** Everything wrong with the inputs of actions, by the schema alone. */
export function inputProblems({ actions: known }: Schema, actions: readonly ActionCall[]): Problem[] {
  return actions.flatMap(({ name, input }) => {
    const action = known[name];
    return action === undefined ? [] : actionProblems(name, action, 'input', columnsFromWire(action.input, input));
  });
}

/**
 * Runs the handler of an action inside the open database transaction. A failure in it is a problem of the transaction: `action-failed`
 * where it throws, takes too long or returns what the schema does not say.
 *
 * @param counted how many effects of the transaction come before it.
 */
export async function runAction(
  ruling: Ruling,
  { id, origins: [origin = id] = [], editedAt }: UploadedTransaction,
  call: ActionCall,
  counted: number,
): Promise<RunAction | readonly Problem[]> {
  const { schema, rules, guard, writer } = ruling;
  const action = schema.actions[call.name];
  const handler = rules.actions[call.name];
  if (action === undefined || handler === undefined) throw new Error(`no handler runs the action ${call.name}`);
  const unseen = await unseenRows(ruling, call);
  if (unseen.length > 0) return unseen;
  const run = new Run(schema, writer, rules);
  const effects: NewEffect[] = [];
  const failed = (error: unknown): readonly Problem[] => {
    rules.report(error, { table: call.name, id: call.id });
    const { table: _, ...problem } = serverProblemOf(schema, 'action-failed', {}, 'action-failed', {
      name: actionLabel(schema, call.name),
    });
    return [{ ...problem, action: call.name }];
  };
  const input = columnsFromWire(action.input, call.input);
  const all = { ...Object.fromEntries(action.input.names.map((name) => [name, null])), ...input };
  const outcome = await run.within((context): unknown =>
    handler(
      Object.freeze(all) as never,
      // Spread, its signal would be made.
      Object.assign(context, {
        id: call.id,
        origin,
        invokedAt: editedAt,
        sees: async (table: string, row: string) => {
          const found = await context.get(table, row);
          if (found === undefined || guard === undefined) return found !== undefined;
          return (await guard.view()).has(table, row, found as never);
        },
        refuse: (reasons: string | readonly ActionRefusal[]): never => {
          const listed: readonly ActionRefusal[] = typeof reasons === 'string' ? [{ message: reasons }] : reasons;
          throw new Refusal(
            listed.map(({ message, input: column }) => ({
              ...{ code: 'action-refused' as const, message, action: call.name },
              ...(column === undefined ? {} : { column }),
            })),
          );
        },
        later: (name: string, payload: JsonValue) => {
          if (!Object.hasOwn(rules.effects, name))
            throw new Error(`there is no effect ${name} among the option effects`);
          effects.push({
            key: `${origin}/${counted + effects.length + 1}`,
            name,
            payload: JSON.stringify(payload ?? null),
          });
        },
      }),
    ),
  );
  if ('problem' in outcome) return [outcome.problem];
  if ('error' in outcome) {
    const { error } = outcome;
    return error instanceof Refusal && error.problems.length > 0 ? error.problems : failed(error);
  }
  const returned = outcome.value ?? {};
  if (typeof returned !== 'object' || Array.isArray(returned))
    return failed(new Error(`the action ${call.name} returned ${typeof returned}, not an object`));
  const values = withDefaults(action.result, returned as Readonly<Record<string, unknown>>);
  const [wrong] = actionProblems(call.name, action, 'result', values);
  if (wrong) return failed(new Error(`the action ${call.name} returned a wrong result: ${wrong.message}`));
  return { result: { id: call.id, result: columnsToWire(action.result, values) }, effects };
}

/** The rows that an input refers to and that the user does not have: they are answered like rows that are not there. */
async function unseenRows({ schema, writer, guard }: Ruling, { name, input }: ActionCall): Promise<Problem[]> {
  const action = schema.actions[name];
  const problems: Problem[] = [];
  for (const [column, { target }] of action?.input.entries ?? []) {
    const id = input[column];
    if (target === undefined || typeof id !== 'string') continue;
    const view = await guard?.view();
    const row = (await writer.rows(target, [id])).get(id);
    if (row !== undefined && view?.has(target, id, row) !== false) continue;
    const labels = { ...schema, tables: { ...schema.tables, [name]: action?.input } } as Schema;
    const {
      table: _,
      id: __,
      ...problem
    } = noSuchReference(labels, { table: name, id: name }, column, { table: target, id }, 'on-the-server');
    problems.push({ ...problem, action: name });
  }
  return problems;
}
