import { KoinonError, type Problem, shown } from '../errors/errors.ts';
import {
  type ColumnOfType,
  columnOf,
  type Row,
  type Schema,
  type TableName,
  type TargetOf,
  tableOf,
} from '../schema/schema.ts';
import type { AnyRow, Table } from '../table/table.ts';
import {
  type Condition,
  decimalMark,
  everything,
  invalid,
  parseWhere,
  queryColumn,
  type Sign,
  type Where,
} from './condition.ts';

/** A sort key: a column, or a column and its direction. Null comes before every value when ascending. */
export type SortKey<R> = Extract<keyof R, string> | readonly [Extract<keyof R, string>, 'asc' | 'desc'];

/** Reads a reference in: the row it points at, nested. */
export interface JoinOne<S extends Schema, T extends TableName<S>> {
  /** The reference column of this table. */
  readonly by: ColumnOfType<S, T, 'reference'>;
}

/** Reads in the rows of another table that refer to each row, as an array. */
export type JoinMany<S extends Schema> = {
  readonly [X in TableName<S>]: {
    readonly from: X;
    /** The reference column of that table. */
    readonly by: ColumnOfType<S, X, 'reference'>;
    readonly where?: Where<Row<S, X>>;
    readonly order?: readonly SortKey<Row<S, X>>[] | SortKey<Row<S, X>>;
  };
}[TableName<S>];

/** The state of a row between a device and its server, as a query with `join: { name: 'status' }` reads it in. */
export interface RowStatus<R = AnyRow> {
  /**
   * `synced`: as the server has it. `pending`: changed here and not confirmed. `conflicted`: a person is to decide.
   * `rejected`: the server refused what was done.
   */
  readonly status: 'synced' | 'pending' | 'conflicted' | 'rejected';
  /** Tells whether the server has never had the row. */
  readonly isNew: boolean;
  /** The columns that differ from the base; all of them for a new row. */
  readonly changed: readonly string[];
  /** The row as the server last gave it; null for a new one and, since the row itself is that, for one that is synced. */
  readonly base: R | null;
  /** The server's reasons, by column where they have one. */
  readonly problems: readonly Problem[];
  /** The row of an undecided conflict or a refusal that keeps this one's change from being sent. */
  readonly blockedBy: { readonly table: string; readonly id: string } | null;
  /**
   * Which of the two has to be updated before the change can be sent: the server does not know its columns, being older than
   * this app, or newer. Null where it knows them.
   */
  readonly waitsForSchema: 'app' | 'server' | null;
}

/** The joins that a query reads in besides its own rows, by the name each gets; `status` is the state of each row. */
export type Joins<S extends Schema, T extends TableName<S>> = Readonly<
  Record<string, JoinOne<S, T> | JoinMany<S> | 'status'>
>;

/** A row of a query's result: the chosen columns, and what was joined in. */
export type ResultRow<S extends Schema, T extends TableName<S>, C extends string, J> = Pick<
  Row<S, T>,
  Extract<C | 'id', keyof Row<S, T>>
> & {
  readonly [K in keyof J]: J[K] extends 'status'
    ? RowStatus<Row<S, T>>
    : J[K] extends { readonly from: infer X extends TableName<S> }
      ? readonly Row<S, X>[]
      : J[K] extends { readonly by: infer B }
        ? Row<S, TargetOf<S, T, B>> | null
        : never;
};

/** A query: a plain object. Rows that are equal by `order` come in the order of their ids. */
export interface Query<
  S extends Schema,
  T extends TableName<S>,
  C extends Extract<keyof Row<S, T>, string> = Extract<keyof Row<S, T>, string>,
  J extends Joins<S, T> = Joins<S, T>,
> {
  readonly from: T;
  readonly where?: Where<Row<S, T>>;
  readonly order?: readonly SortKey<Row<S, T>>[] | SortKey<Row<S, T>>;
  /** At most this many rows. */
  readonly limit?: number;
  /** Leave out this many rows first. For paging through much data `after` is faster and steadier. */
  readonly offset?: number;
  /** Only rows behind this one in the order: the last row of the page before. It must hold the columns of `order`. */
  readonly after?: Partial<Row<S, T>> & { readonly id: string };
  /** Only these columns, and always `id`. */
  readonly columns?: readonly C[];
  /** The joins to read in, by the name each gets: one query per name, however many rows there are. */
  readonly join?: J;
}

/** One sort key of a plan. */
export interface Order {
  readonly column: string;
  readonly descending: boolean;
  /** Tells whether the values are numbers in text. */
  readonly isDecimal?: true;
}

/** A query that has been read and checked: what SQL, predicate and comparator are compiled from. */
export interface Plan {
  readonly tableName: string;
  readonly table: Table;
  readonly condition: Condition;
  readonly order: readonly Order[];
  readonly limit: number | undefined;
  readonly offset: number;
  /** The columns asked for besides `id`. */
  readonly columns: readonly string[];
  readonly joins: readonly Join[];
}

/** Something a plan reads in: the row a column of its own points at, or the rows of another plan whose column points here. */
export type Join =
  | { readonly name: string; readonly kind: 'status' }
  | { readonly name: string; readonly kind: 'one'; readonly column: string; readonly target: string }
  | { readonly name: string; readonly kind: 'many'; readonly column: string; readonly plan: Plan };

const queryParts = new Set(['from', 'where', 'order', 'limit', 'offset', 'after', 'columns', 'join']);

/** Reads a query against a schema. @throws KoinonError naming the table and what cannot be read. */
export function planQuery(schema: Schema, query: unknown): Plan {
  const given = query as Record<string, unknown>;
  const tableName = String(given?.from);
  const table = tableOf(schema, tableName);
  for (const part of Object.keys(given))
    if (!queryParts.has(part))
      throw invalid(tableName, `it has no part ${shown(part)}; there are ${[...queryParts].join(', ')}`);
  const order = parseOrder(tableName, table, given.order);
  const condition = parseWhere(tableName, table, given.where);
  const columns = listOfNames(tableName, 'columns', given.columns) ?? Object.keys(table.columns);
  for (const name of columns) queryColumn(tableName, table, name);
  for (const part of ['join', 'after'] as const)
    if (given[part] !== undefined && !isObject(given[part]))
      throw invalid(tableName, `${part} takes an object, not ${shown(given[part])}`);
  return {
    tableName,
    table,
    condition: given.after === undefined ? condition : both(condition, behind(tableName, order, given.after)),
    order,
    limit: wholeNumber(tableName, 'limit', given.limit),
    offset: wholeNumber(tableName, 'offset', given.offset) ?? 0,
    columns: columns.filter((name) => name !== 'id'),
    joins: Object.entries((given.join as Record<string, unknown> | undefined) ?? {}).map(([name, join]) =>
      parseJoin(schema, tableName, columns, name, join),
    ),
  };
}

const isObject = (given: unknown): given is Readonly<Record<string, unknown>> =>
  typeof given === 'object' && given !== null && !Array.isArray(given);

/** A list of columns, where there is one. */
export function listOfNames(tableName: string, part: string, given: unknown): readonly string[] | undefined {
  if (given === undefined || (Array.isArray(given) && given.every((name) => typeof name === 'string'))) return given;
  throw invalid(tableName, `${part} takes a list of columns, not ${shown(given)}`);
}

function parseJoin(schema: Schema, tableName: string, columns: readonly string[], name: string, given: unknown): Join {
  const join = given as {
    readonly from?: string;
    readonly by?: string;
    readonly where?: unknown;
    readonly order?: unknown;
  };
  if (name === 'id' || columns.includes(name))
    throw invalid(tableName, `join ${name} has the name of a column; give it another`);
  if (given === 'status') return { name, kind: 'status' };
  if (!isObject(given)) throw invalid(tableName, `join ${name} takes 'status' or an object, not ${shown(given)}`);
  const extra = Object.keys(join).find((part) => !['from', 'by', 'where', 'order'].includes(part));
  if (extra !== undefined)
    throw invalid(tableName, `join ${name} has no part ${shown(extra)}; there are from, by, where, order`);
  const from = join.from ?? tableName;
  const column = columnOf(tableOf(schema, from), from, String(join.by));
  if (column.type === 'reference' && column.target === undefined)
    throw new KoinonError(
      'table-on-server',
      `The join ${name} goes by ${from}.${join.by}, which refers to a table that the server holds: its rows are not on this device. Ask the server for both, with onServer of the replica.`,
      { table: from, column: String(join.by) },
    );
  const target = join.from === undefined ? column.target : tableName;
  if (column.target === undefined || column.target !== target)
    throw invalid(
      tableName,
      `join ${name} goes by ${from}.${join.by}, which is no reference${join.from === undefined ? '' : ` to ${tableName}`}`,
    );
  if (join.from === undefined) return { name, kind: 'one', column: String(join.by), target: column.target };
  const { where, order } = join;
  return { name, kind: 'many', column: String(join.by), plan: planQuery(schema, { from, where, order }) };
}

function parseOrder(tableName: string, table: Table, given: unknown): Order[] {
  const keys = given === undefined ? [] : Array.isArray(given) && !isPair(given) ? given : [given];
  const order = keys.map((key): Order => {
    const [column, direction] = Array.isArray(key) ? key : [key, 'asc'];
    if (typeof column !== 'string' || (direction !== 'asc' && direction !== 'desc'))
      throw invalid(tableName, `order takes columns or [column, 'asc' | 'desc'], not ${shown(key)}`);
    const definition = queryColumn(tableName, table, column);
    const { type } = definition;
    if (type === 'json' || type === 'file' || type === 'set')
      throw invalid(tableName, `${column} is ${type}, which has no order`);
    return { column, descending: direction === 'desc', ...decimalMark(definition) };
  });
  // The id makes the order whole: without it equal rows could change places between two runs.
  return order.some((key) => key.column === 'id') ? order : [...order, { column: 'id', descending: false }];
}

const isPair = (given: readonly unknown[]) => given.length === 2 && (given[1] === 'asc' || given[1] === 'desc');

function wholeNumber(tableName: string, part: string, given: unknown): number | undefined {
  if (given === undefined) return undefined;
  if (!Number.isSafeInteger(given) || (given as number) < 0)
    throw invalid(tableName, `${part} is a whole number from 0, not ${shown(given)}`);
  return given as number;
}

/** The rows that come after this one in the order: by the first key, or equal in it and by the second, and so on. */
function behind(tableName: string, order: readonly Order[], after: unknown): Condition {
  const row = after as Record<string, unknown>;
  const ways = order.map((key, i): Condition => {
    const equal = order.slice(0, i).map((before): Condition => comparing(before, '=', row[before.column]));
    return { kind: 'and', conditions: [...equal, beyond(key, row[key.column])] };
  });
  const lacking = order.find((key) => row?.[key.column] === undefined);
  if (lacking)
    throw invalid(tableName, `after takes the last row of the page before; this one has no ${lacking.column}`);
  return { kind: 'or', conditions: ways };
}

const comparing = ({ column, isDecimal }: Order, sign: Sign, value: unknown): Condition => ({
  ...{ kind: 'compare', column, sign, value },
  ...(isDecimal ? { isDecimal } : {}),
});

function beyond(key: Order, value: unknown): Condition {
  const { descending } = key;
  const isNull = comparing(key, '=', null);
  if (value === null) return descending ? { kind: 'or', conditions: [] } : { kind: 'not', condition: isNull };
  const further = comparing(key, descending ? '<' : '>', value);
  return descending ? { kind: 'or', conditions: [further, isNull] } : further;
}

/** Two conditions as one. */
export function both(a: Condition, b: Condition): Condition {
  return a === everything ? b : { kind: 'and', conditions: [a, b] };
}
