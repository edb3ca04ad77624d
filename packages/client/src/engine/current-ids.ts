import { type Action, type Schema, type Table, tableOf } from '@koinon/core';
import type { Decision } from '../overlay/decision.ts';
import type { KnownKeys } from '../rows/known-keys.ts';
import type { CurrentIds } from './current.ts';
import type { StepName, Write } from './steps.ts';

// Calls that name a row by the id under which it was made, after the database has given it a key: a page that was open, a draft, a
// reference in a form. They mean the row that is there now.

type Values = Readonly<Record<string, unknown>>;

/** What is asked for ids. */
interface Knowing {
  readonly schema: Schema;
  readonly keys: KnownKeys;
}

/** Names rows by the ids that they have now. */
export const currentIdsOf = (at: Knowing): CurrentIds => ({
  call: (name, given) => currentCall(at, name, given),
  query: (query) => currentQuery(at, query),
  condition: (table, where) => conditionOf(at, table, where),
});

/** The arguments of a call, with the ids that its rows have now. */
function currentCall(at: Knowing, name: StepName | Decision, given: readonly unknown[]): readonly unknown[] {
  const [table, second, ...rest] = given as readonly [string, ...unknown[]];
  const id = () => at.keys.idOf(table, second as string);
  switch (name) {
    case 'get':
    case 'rowState':
    case 'operate':
    case 'delete':
    case 'unresolve':
      return [table, id(), ...rest];
    case 'update':
      return [table, id(), columnsOf(at, table, rest[0])];
    case 'insert':
    case 'upsert':
      return [table, rowOf(at, table, second)];
    case 'insertAll':
    case 'upsertAll':
      return [table, (second as readonly unknown[]).map((row) => rowOf(at, table, row))];
    case 'updateWhere':
      return [table, conditionOf(at, table, second), columnsOf(at, table, rest[0])];
    case 'deleteWhere':
      return [table, conditionOf(at, table, second)];
    case 'rows':
    case 'count':
    case 'summary':
      return [currentQuery(at, given[0])];
    case 'resolve':
    case 'revert':
      return [keysOf(at, given[0]), ...given.slice(1)];
    case 'invoke':
    case 'beginPrediction':
      return [table, inputOf(at, table, second)];
    case 'amend':
      return [table, inputOf(at, (given[0] as { readonly name?: unknown }).name, second)];
    case 'batch':
      return [
        (given[0] as readonly Write[]).map((write) => ({ ...write, given: currentCall(at, write.name, write.given) })),
      ];
    default:
      return given;
  }
}

/** A query, with the ids that the rows it names have now. */
function currentQuery(at: Knowing, query: unknown): unknown {
  if (!isObject(query)) return query;
  const where = (part: Values, table: unknown) =>
    isObject(part.where) ? { ...part, where: conditionOf(at, String(table), part.where) } : part;
  const whole = where(query, query.from);
  if (!isObject(query.join)) return whole;
  const joins = Object.entries(query.join).map(([name, join]) => [
    name,
    isObject(join) ? where(join, join.from) : join,
  ]);
  return { ...whole, join: Object.fromEntries(joins) };
}

/** A condition likewise. */
function conditionOf(at: Knowing, table: string, where: unknown): unknown {
  if (!isObject(where) || !Object.hasOwn(at.schema.tables, table)) return where;
  return Object.fromEntries(
    Object.entries(where).map(([name, given]) => {
      if (name === 'not') return [name, conditionOf(at, table, given)];
      if ((name === 'and' || name === 'or') && Array.isArray(given))
        return [name, given.map((part) => conditionOf(at, table, part))];
      const target = targetOf(at, table, name);
      return [name, target === undefined ? given : operandOf(at, target, given)];
    }),
  );
}

function operandOf(at: Knowing, target: string, given: unknown): unknown {
  if (typeof given === 'string') return at.keys.idOf(target, given);
  if (Array.isArray(given)) return given.map((each) => operandOf(at, target, each));
  if (!isObject(given)) return given;
  return Object.fromEntries(Object.entries(given).map(([sign, value]) => [sign, operandOf(at, target, value)]));
}

/** The table whose rows a column names: its own by the id, another one by a reference. */
function targetOf({ schema }: Knowing, table: string, column: string): string | undefined {
  if (column === 'id') return table;
  const { columns } = schema.tables[table] as Table;
  return Object.hasOwn(columns, column) ? columns[column]?.target : undefined;
}

function rowOf(at: Knowing, table: string, row: unknown): unknown {
  if (!isObject(row)) return row;
  const columns = columnsOf(at, table, row) as Values;
  return typeof row.id === 'string' ? { ...columns, id: at.keys.idOf(table, row.id) } : columns;
}

function columnsOf(at: Knowing, table: string, columns: unknown): unknown {
  return isObject(columns) ? currentReferences(at, tableOf(at.schema, table), columns) : columns;
}

function currentReferences(at: Knowing, { entries }: Pick<Table, 'entries'>, columns: Values): Values {
  const changed = entries.flatMap(([name, { target }]) => {
    const value = target === undefined ? undefined : columns[name];
    return target !== undefined && typeof value === 'string' ? [[name, at.keys.idOf(target, value)]] : [];
  });
  return changed.length === 0 ? columns : { ...columns, ...Object.fromEntries(changed) };
}

function inputOf(at: Knowing, name: unknown, input: unknown): unknown {
  const { actions } = at.schema;
  if (typeof name !== 'string' || !Object.hasOwn(actions, name) || !isObject(input)) return input;
  return currentReferences(at, (actions[name] as Action).input, input);
}

const keysOf = (at: Knowing, rows: unknown) =>
  (rows as readonly { readonly table: string; readonly id: string }[]).map((row) => ({
    ...row,
    id: at.keys.idOf(row.table, row.id),
  }));

function isObject(given: unknown): given is Values {
  return typeof given === 'object' && given !== null && Object.getPrototypeOf(given) === Object.prototype;
}
