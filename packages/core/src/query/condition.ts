import { KoinonError, shown } from '../errors/errors.ts';
import { ruleText } from '../schema/message.ts';
import { columnOf } from '../schema/schema.ts';
import type { Column } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { checkId, checkValue, inOneForm } from '../values/check.ts';

/** Comparisons, as a query writes them. SQL's signs and words; the values have the column's own type. */
export type Comparison<Value> = {
  readonly '='?: Value | null;
  readonly '!='?: Value | null;
  readonly '<'?: NonNullable<Value>;
  readonly '<='?: NonNullable<Value>;
  readonly '>'?: NonNullable<Value>;
  readonly '>='?: NonNullable<Value>;
  readonly in?: readonly (Value | null)[];
  readonly between?: readonly [NonNullable<Value>, NonNullable<Value>];
} & (unknown extends Value
  ? Beginning & Content
  : [NonNullable<Value>] extends [string]
    ? Beginning & Content
    : [NonNullable<Value>] extends [readonly string[]]
      ? Content
      : unknown);

interface Beginning {
  /** The text begins with this, case and all. */
  readonly prefix?: string;
}

interface Content {
  /** The text has this in it, or the set has this member. */
  readonly contains?: string;
}

/**
 * Which rows a query means. Columns side by side must all hold; a bare value means `=`. A comparison with null is
 * false (only `=`, `!=` and `in` know null), and `not` turns exactly the rows around that the condition has.
 *
 * @example
 * { site: siteId, mites: { '>': 3 }, or: [{ notes: null }, { notes: { contains: 'queen' } }] }
 */
export type Where<R> = {
  readonly [K in keyof R]?: R[K] | Comparison<R[K]>;
} & {
  readonly and?: readonly Where<R>[];
  readonly or?: readonly Where<R>[];
  readonly not?: Where<R>;
};

/** The signs that compare one value. */
export type Sign = '=' | '!=' | '<' | '<=' | '>' | '>=';

/** A condition as a tree: what SQL and predicates are compiled from. */
export type Condition =
  | {
      readonly kind: 'compare';
      readonly column: string;
      readonly sign: Sign;
      readonly value: unknown;
      /** Tells whether the values are numbers in text. */
      readonly isDecimal?: true;
    }
  | { readonly kind: 'in'; readonly column: string; readonly values: readonly unknown[] }
  | { readonly kind: 'prefix' | 'contains' | 'member'; readonly column: string; readonly text: string }
  | { readonly kind: 'and' | 'or'; readonly conditions: readonly Condition[] }
  | { readonly kind: 'not'; readonly condition: Condition };

const signs = new Set<string>(['=', '!=', '<', '<=', '>', '>=']);
const words = new Set<string>([...signs, 'in', 'between', 'prefix', 'contains']);
/**
 * How large a condition may be, all its parts together: depth of `and`, `or` and `not`, comparisons, listed values and conditions. Real numbers
 * and bytes in a list count as comparisons, since SQLite binds each of them by itself.
 */
const sizeLimits = { depth: 64, comparisons: 1_000, listed: 30_000 };

/** The counts of a condition while it is read. */
interface Size {
  comparisons: number;
  listed: number;
}

/** Everything: the condition of a query without `where`. */
export const everything: Condition = { kind: 'and', conditions: [] };

/** Reads a `where` into a tree. @throws KoinonError `unknown-column`, `query-invalid`, or a value's own error. */
export function parseWhere(tableName: string, table: Table, where: unknown): Condition {
  return parsePart(tableName, table, where, { comparisons: 0, listed: 0 }, 0);
}

function parsePart(tableName: string, table: Table, where: unknown, size: Size, depth: number): Condition {
  if (where === undefined) return everything;
  if (depth > sizeLimits.depth)
    throw invalid(tableName, `it is more than ${sizeLimits.depth} levels of and, or and not deep`);
  if (!isPlainObject(where)) throw invalid(tableName, `where is an object of columns, not ${shown(where)}`);
  const conditions: Condition[] = [];
  for (const [name, given] of Object.entries(where)) {
    if (given === undefined) throw comparedWithUndefined(tableName, name);
    if (name === 'and' || name === 'or') {
      if (!Array.isArray(given)) throw invalid(tableName, `${name} takes a list of conditions, not ${shown(given)}`);
      count(tableName, size, 0, given.length);
      conditions.push({
        kind: name,
        conditions: given.map((part) => parsePart(tableName, table, part, size, depth + 1)),
      });
    } else if (name === 'not') {
      count(tableName, size, 1);
      conditions.push({ kind: 'not', condition: parsePart(tableName, table, given, size, depth + 1) });
    } else {
      conditions.push(...parseColumn(tableName, table, name, given, size));
    }
  }
  return conditions.length === 1 ? (conditions[0] as Condition) : { kind: 'and', conditions };
}

const idColumn: Column = {
  type: 'text',
  optional: false,
  default: undefined,
  unique: true,
  index: true,
  assigned: false,
  filterable: false,
  merge: undefined,
};

/** The column a query names; `id` among them. */
export function queryColumn(tableName: string, table: Table, name: string): Column {
  return name === 'id' ? idColumn : columnOf(table, tableName, name);
}

/** Counts comparisons, and values of lists. */
function count(tableName: string, size: Size, comparisons: number, listed = 0): void {
  size.comparisons += comparisons;
  size.listed += listed;
  if (size.comparisons > sizeLimits.comparisons)
    throw invalid(tableName, `it has more than ${sizeLimits.comparisons} comparisons; list values with in`);
  if (size.listed > sizeLimits.listed) throw invalid(tableName, `it lists more than ${sizeLimits.listed} values`);
}

function parseColumn(tableName: string, table: Table, name: string, given: unknown, size: Size): Condition[] {
  const column = queryColumn(tableName, table, name);
  count(tableName, size, isPlainObject(given) ? Object.keys(given).length : 1);
  if (!isPlainObject(given)) return [compare(tableName, name, column, '=', given)];
  const entries = Object.entries(given);
  if (entries.length === 0)
    throw invalid(tableName, `${name} is compared with nothing; give one of ${[...words].join(' ')}`);
  for (const [word, operand] of entries) if (operand === undefined) throw comparedWithUndefined(tableName, name, word);
  return entries.map(([word, operand]) => {
    if (signs.has(word)) return compare(tableName, name, column, word as Sign, operand);
    if (word === 'in') {
      if (!Array.isArray(operand)) throw invalid(tableName, `${name} in takes a list, not ${shown(operand)}`);
      count(tableName, size, isListedAsJson(column) ? 0 : operand.length, operand.length);
      for (const value of operand) checkOperand(tableName, name, column, value);
      return { kind: 'in', column: name, values: operand.map((value) => inOneForm(column, value)) };
    }
    if (word === 'between') {
      if (!Array.isArray(operand) || operand.length !== 2)
        throw invalid(tableName, `${name} between takes two values, low and high`);
      const [low, high] = operand;
      return {
        kind: 'and',
        conditions: [compare(tableName, name, column, '>=', low), compare(tableName, name, column, '<=', high)],
      };
    }
    if (word === 'prefix' || word === 'contains') return textTest(tableName, name, column, word, operand);
    throw invalid(tableName, `${name} has no comparison ${shown(word)}; there are ${[...words].join(' ')}`);
  });
}

/** Tells whether values of a column can be bound as one JSON list: bytes have no JSON form, and SQLite may round a real number read from JSON. */
export const isListedAsJson = ({ type }: Column): boolean => type !== 'real' && type !== 'bytes';

/** A condition left out by mistake would mean every row. */
function comparedWithUndefined(tableName: string, name: string, word = '='): KoinonError {
  return invalid(
    tableName,
    `${name} ${word} has the value undefined; leave ${name} out where it is not to be compared, or give null for no value`,
  );
}

function textTest(
  tableName: string,
  name: string,
  column: Column,
  word: 'prefix' | 'contains',
  operand: unknown,
): Condition {
  if (typeof operand !== 'string') throw invalid(tableName, `${name} ${word} takes a text, not ${shown(operand)}`);
  if (operand.includes('\0') || !operand.isWellFormed())
    throw invalid(tableName, `${name} ${word} takes a text of whole Unicode characters without NUL`);
  if (column.type === 'set' && word === 'contains') return { kind: 'member', column: name, text: operand };
  if (!['text', 'one-of', 'reference', 'timestamp', 'date', 'time', 'local-date-time'].includes(column.type))
    throw invalid(tableName, `${name} is ${column.type}; ${word} is for text`);
  return { kind: word, column: name, text: operand };
}

function compare(tableName: string, name: string, column: Column, sign: Sign, value: unknown): Condition {
  if (value === null && sign !== '=' && sign !== '!=')
    throw invalid(tableName, `${name} ${sign} null has no answer; test null with = or !=`);
  checkOperand(tableName, name, column, value);
  return { kind: 'compare', column: name, sign, value: inOneForm(column, value), ...decimalMark(column) };
}

/** Marks what compares a column of numbers in text. */
export const decimalMark = ({ type }: Column): { readonly isDecimal?: true } =>
  type === 'decimal' || type === 'decimal-counter' ? { isDecimal: true } : {};

function checkOperand(tableName: string, name: string, column: Column, value: unknown): void {
  if (value === null) return;
  if (column.type === 'json' || column.type === 'file' || column.type === 'set')
    throw invalid(
      tableName,
      `${name} is ${column.type}; it can be compared with null only${column.type === 'set' ? ', or by contains' : ''}`,
    );
  // Range and list rules are for what is kept, not for what is looked for: only the type must fit.
  const { minimum: _a, maximum: _b, minimumLength: _c, maximumLength: _d, ...bare } = column;
  const wrong = name === 'id' ? checkId(value) : checkValue(bare, value);
  if (wrong)
    throw new KoinonError(
      wrong.code,
      `A query compares ${tableName}.${name} with ${shown(value)}: ${ruleText(wrong)}.`,
      {
        table: tableName,
        column: name,
        value,
        rule: ruleText(wrong),
      },
    );
}

/** A query error of a table. */
export function invalid(tableName: string, what: string): KoinonError {
  return new KoinonError('query-invalid', `A query of ${tableName} cannot be read: ${what}.`, { table: tableName });
}

function isPlainObject(value: unknown): value is Record<string, unknown> {
  if (value === null || typeof value !== 'object' || Array.isArray(value)) return false;
  const prototype = Object.getPrototypeOf(value);
  return prototype === Object.prototype || prototype === null;
}

/** A column that a condition names and that is not among these. */
export function unfilterable(filterable: readonly string[], condition: Condition): string | undefined {
  switch (condition.kind) {
    case 'and':
    case 'or':
      return condition.conditions.map((part) => unfilterable(filterable, part)).find((name) => name !== undefined);
    case 'not':
      return unfilterable(filterable, condition.condition);
    default:
      return condition.column === 'id' || filterable.includes(condition.column) ? undefined : condition.column;
  }
}
