import { KoinonError, shown } from '../errors/errors.ts';
import { type Schema, tableOf } from '../schema/schema.ts';
import type { Column, JsonValue } from '../table/column.ts';
import type { AnyRow, Table } from '../table/table.ts';
import { noneOf, wireGuard } from '../values/of-type.ts';
import { deepFreeze, frozenRow } from '../values/sql.ts';
import { fromWire, toWire } from '../values/wire.ts';
import type { Plan } from './query.ts';
import { convertedLine, type SummaryPlan } from './summary.ts';

// Queries and their results as JSON carries them. Only bytes and bigints look different there.

type Convert = (column: Column, value: unknown) => unknown;

const toJson: Convert = (column, value) => toWire(column, value);
const fromJson: Convert = (column, value) => fromWire(column, value as JsonValue);

/** A query or summary as JSON carries it. What cannot be read is left as it is, for the server to refuse. */
export const queryToWire = (schema: Schema, query: unknown): unknown => convertQuery(schema, query, toJson);

/** A query or summary that JSON carried; it is yet to be read. */
export const queryFromWire = (schema: Schema, query: unknown): unknown => convertQuery(schema, query, fromJson);

type Members = Readonly<Record<string, unknown>>;

const isObject = (value: unknown): value is Members =>
  typeof value === 'object' && value !== null && !Array.isArray(value) && !(value instanceof Uint8Array);

function convertQuery(schema: Schema, query: unknown, convert: Convert): unknown {
  if (!isObject(query) || typeof query.from !== 'string') return query;
  const table = tableOf(schema, query.from);
  const { where, after, join } = query;
  return {
    ...query,
    ...(isObject(where) && { where: convertWhere(table, where, convert) }),
    ...(isObject(after) && { after: mapped(after, (value, name) => converted(table, name, value, convert)) }),
    ...(isObject(join) && { join: mapped(join, (each) => convertQuery(schema, each, convert)) }),
  };
}

const mapped = (members: Members, change: (value: unknown, name: string) => unknown): Members =>
  Object.fromEntries(Object.entries(members).map(([name, value]) => [name, change(value, name)]));

function convertWhere(table: Table, where: unknown, convert: Convert): unknown {
  if (!isObject(where)) return where;
  return mapped(where, (given, name) => {
    if (name === 'not') return convertWhere(table, given, convert);
    if ((name === 'and' || name === 'or') && Array.isArray(given))
      return given.map((part) => convertWhere(table, part, convert));
    const each = (value: unknown) => converted(table, name, value, convert);
    if (!isObject(given)) return each(given);
    return mapped(given, (operand) => (Array.isArray(operand) ? operand.map(each) : each(operand)));
  });
}

function converted(table: Table, name: string, value: unknown, convert: Convert): unknown {
  const column = Object.hasOwn(table.columns, name) ? table.columns[name] : undefined;
  const isOther = column?.type === 'bytes' || column?.type === 'big-integer';
  return column === undefined || !isOther || value === null || value === undefined ? value : convert(column, value);
}

/** A row of a result as JSON carries it: its columns, and what was joined in. */
export interface WireResultRow {
  readonly [name: string]: JsonValue | WireResultRow | readonly WireResultRow[] | null;
}

/** A row of a result that JSON carried, frozen like every row. A value that is not of its column's type is none. @throws KoinonError `server-answer`. */
export function resultRowFromWire(schema: Schema, plan: Plan, given: unknown): AnyRow {
  const row = rowOf(plan.tableName, given);
  const whole = valuesFromWire(plan.table, plan.columns, row);
  for (const join of plan.joins) {
    const joined = row[join.name];
    if (join.kind === 'many') {
      if (!Array.isArray(joined)) throw noRow(`${plan.tableName} ${join.name}`, joined);
      whole[join.name] = Object.freeze(joined.map((each) => resultRowFromWire(schema, join.plan, each)));
    } else if (join.kind === 'one') {
      const { target } = join;
      const table = tableOf(schema, target);
      const one = joined === null || joined === undefined ? null : rowOf(target, joined);
      whole[join.name] = one && frozenRow(one.id, valuesFromWire(table, table.names, one), table.names);
    }
  }
  return frozenRow(row.id, whole, [...plan.columns, ...plan.joins.map(({ name }) => name)]);
}

function rowOf(table: string, given: unknown): Members & { readonly id: string } {
  if (isObject(given) && typeof given.id === 'string') return given as Members & { readonly id: string };
  throw noRow(table, given);
}

const noRow = (what: string, given: unknown) =>
  new KoinonError(
    'server-answer',
    `The answer to a query has no row of ${what} where one is expected, but ${shown(given)}.`,
  );

function valuesFromWire(table: Table, names: readonly string[], row: Members): Record<string, unknown> {
  const values: Record<string, unknown> = {};
  for (const name of names) values[name] = valueFromWire(table.columns[name] as Column, row[name]);
  return values;
}

const guards = new WeakMap<Column, (value: JsonValue | undefined) => boolean>();

function valueFromWire(column: Column, value: unknown): unknown {
  const fits = guards.get(column) ?? wireGuard(column);
  guards.set(column, fits);
  // A column that is withheld does not come.
  if (value === undefined) return null;
  const given = value as JsonValue;
  return deepFreeze(fits(given) ? fromWire(column, given) : noneOf(column));
}

/** A line of a summary that JSON carried. @throws KoinonError `server-answer`. */
export function summaryRowFromWire(plan: SummaryPlan, given: unknown): Members {
  if (!isObject(given)) throw noRow(`the summary of ${plan.tableName}`, given);
  return convertedLine(plan, given, (column, value) => {
    // A sum of whole numbers may be larger than one of them.
    if (column.type === 'big-integer') return typeof value === 'string' && /^-?\d+$/.test(value) ? BigInt(value) : null;
    return value === null || value === undefined ? null : fromWire(column, value as JsonValue);
  });
}

/** A line of a summary as JSON carries it. */
export const summaryRowToWire = (plan: SummaryPlan, line: Members): Members => convertedLine(plan, line, toWire);
