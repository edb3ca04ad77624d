import { shown } from '../errors/errors.ts';
import { type ColumnOfType, type Row, type Schema, type TableName, tableOf } from '../schema/schema.ts';
import type { Column, ColumnType } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalOfKey, decimalOfSums, decimalSizeOf } from '../values/decimal.ts';
import { fromSql } from '../values/sql.ts';
import { type Condition, invalid, parseWhere, queryColumn, type Where } from './condition.ts';
import { listOfNames } from './query.ts';

/** The measure that is computed over a column's values that are not null. */
export type Measuring = 'min' | 'max' | 'sum' | 'avg';

type Numeric<S extends Schema, T extends TableName<S>> = ColumnOfType<
  S,
  T,
  'integer' | 'real' | 'counter' | 'decimal' | 'decimal-counter' | 'big-integer'
>;

/** A measure: how many rows, or something over a column. */
export type Measure<S extends Schema, T extends TableName<S>> =
  | 'count'
  | readonly ['min' | 'max', Extract<keyof Row<S, T>, string>]
  | readonly ['sum' | 'avg', Numeric<S, T>];

/**
 * Rows counted and measured, all together or by group.
 *
 * @example
 * { from: 'visit', by: ['hive'], measures: { visits: 'count', worst: ['max', 'mites'] } }
 */
export interface Summary<
  S extends Schema,
  T extends TableName<S>,
  B extends Extract<keyof Row<S, T>, string> = Extract<keyof Row<S, T>, string>,
  M extends Readonly<Record<string, Measure<S, T>>> = Readonly<Record<string, Measure<S, T>>>,
> {
  readonly from: T;
  readonly where?: Where<Row<S, T>>;
  /** One line for each combination of values of these columns, in their order; without it one line for all rows. */
  readonly by?: readonly B[];
  readonly measures: M;
}

/**
 * A line of a summary: the group's columns and its measures; a measure over no values is null. A sum of exact numbers is exact, and of
 * their own type; an average is a double.
 */
export type SummaryRow<S extends Schema, T extends TableName<S>, B extends string, M> = Pick<
  Row<S, T>,
  Extract<B, keyof Row<S, T>>
> & {
  readonly [K in keyof M]: M[K] extends 'count'
    ? number
    : M[K] extends readonly ['min' | 'max', infer C extends keyof Row<S, T>]
      ? Row<S, T>[C] | null
      : M[K] extends readonly ['sum', infer C extends keyof Row<S, T>]
        ? NonNullable<Row<S, T>[C]> | null
        : number | null;
};

/** A summary that has been read and checked. */
export interface SummaryPlan {
  readonly tableName: string;
  readonly table: Table;
  readonly condition: Condition;
  readonly by: readonly string[];
  readonly measures: readonly {
    readonly name: string;
    readonly how: 'count' | Measuring;
    readonly column: string | undefined;
  }[];
}

const numeric = new Set<ColumnType>(['integer', 'real', 'counter', 'decimal', 'decimal-counter', 'big-integer']);

const parts = new Set(['from', 'where', 'by', 'measures']);

/** Reads a summary against a schema. @throws KoinonError naming the table and what cannot be read. */
export function planSummary(schema: Schema, summary: unknown): SummaryPlan {
  const given = summary as Record<string, unknown>;
  const tableName = String(given?.from);
  const table = tableOf(schema, tableName);
  for (const part of Object.keys(given))
    if (!parts.has(part)) throw invalid(tableName, `a summary has no part ${shown(part)}`);
  const by = listOfNames(tableName, 'by', given.by) ?? [];
  const unordered = (name: string) =>
    ['json', 'file', 'set', 'bytes'].includes(queryColumn(tableName, table, name).type);
  for (const name of by) if (unordered(name)) throw invalid(tableName, `rows cannot be grouped by ${name}`);
  const measures = Object.entries((given.measures ?? {}) as Record<string, unknown>).map(([name, measure]) => {
    if (by.includes(name))
      throw invalid(tableName, `the measure ${name} has the name of a group column; give it another`);
    if (measure === 'count') return { name, how: 'count' as const, column: undefined };
    const [how, column] = Array.isArray(measure) ? measure : [measure, undefined];
    if (!['min', 'max', 'sum', 'avg'].includes(how)) throw invalid(tableName, `there is no measure ${shown(measure)}`);
    const { type } = queryColumn(tableName, table, column);
    const fits = how === 'sum' || how === 'avg' ? numeric.has(type) : !unordered(column);
    if (!fits) throw invalid(tableName, `${column} is ${type}; ${how} does not apply to it`);
    return { name, how: how as Measuring, column: column as string };
  });
  if (measures.length === 0) throw invalid(tableName, 'a summary needs at least one measure');
  return { tableName, table, condition: parseWhere(tableName, table, given.where), by, measures };
}

const sizeOf = (table: Table, name: string) =>
  name === 'id' ? undefined : decimalSizeOf(table.columns[name] as Column);

/** A line of a summary with other values of its columns, and of the measures that have a column's type. */
export function convertedLine(
  { table, by, measures }: SummaryPlan,
  given: Readonly<Record<string, unknown>>,
  convert: (column: Column, value: unknown) => unknown,
): Readonly<Record<string, unknown>> {
  const line: Record<string, unknown> = {};
  const put = (name: string, column: string | undefined) => {
    const definition = column === undefined ? undefined : table.columns[column];
    line[name] = definition === undefined ? (given[name] ?? null) : convert(definition, given[name]);
  };
  for (const name of by) put(name, name);
  for (const { name, how, column } of measures) put(name, how === 'avg' ? undefined : column);
  return Object.freeze(line);
}

/** A line of a summary as SQLite gave it, with the columns' own types. */
export function decodeSummary({ table, by, measures }: SummaryPlan, raw: unknown): Readonly<Record<string, unknown>> {
  const line = { ...(raw as Record<string, unknown>) };
  const ownType = (name: string, column: string) => {
    const definition: Column | undefined = table.columns[column];
    if (definition) line[name] = fromSql(definition, line[name]);
  };
  for (const name of by) ownType(name, name);
  for (const { name, how, column } of measures) {
    const size = column === undefined || how === 'avg' ? undefined : sizeOf(table, column);
    // Computed over another text than that of the column: see the SELECT.
    if (size !== undefined && line[name] !== null)
      line[name] = (how === 'sum' ? decimalOfSums : decimalOfKey)(line[name] as string, size);
    if (column !== undefined && (how === 'min' || how === 'max' || size !== undefined)) ownType(name, column);
  }
  return Object.freeze(line);
}
