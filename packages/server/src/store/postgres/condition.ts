import { type Column, type Condition, KoinonError } from '@koinon/core';
import { asInstants, type ExistingColumn, parameter } from './columns.ts';

/** How the columns of a row are read, `id` among them. */
export interface ConditionTable {
  readonly id: ExistingColumn;
  readonly columns: ReadonlyMap<string, ExistingColumn>;
  readonly table: { readonly columns: Readonly<Record<string, Column>> };
}

/**
 * A condition as an SQL expression; its values are added to `values` in the order of their numbers. It
 * answers as the same condition does on a device: a comparison with null is false, and `not` turns exactly that around.
 */
export function conditionSql(table: ConditionTable, condition: Condition, values: unknown[]): string {
  switch (condition.kind) {
    case 'and':
    case 'or': {
      const parts = condition.conditions.map((part) => conditionSql(table, part, values));
      if (parts.length === 0) return condition.kind === 'and' ? 'true' : 'false';
      return `(${parts.join(condition.kind === 'and' ? ' AND ' : ' OR ')})`;
    }
    case 'not':
      return `((${conditionSql(table, condition.condition, values)}) IS NOT TRUE)`;
    case 'compare': {
      const { column, sign } = condition;
      if (condition.value === null) return `(${standing(table, column).sql} IS ${sign === '!=' ? 'NOT ' : ''}NULL)`;
      const { sql, type } = comparable(table, column);
      if (sign !== '=' && sign !== '!=' && isText(table, column)) {
        values.push(condition.value);
        // In the order of its own locale or type, the database would mean other rows than everybody else does.
        return `(${sql}::text COLLATE "C" ${sign} $${values.length}::text COLLATE "C")`;
      }
      const value = bound(table, column, type, condition.value);
      // A value that the database's own type cannot have is none of any row.
      if (value === undefined) return sign === '!=' ? 'true' : 'false';
      values.push(value);
      const given = `$${values.length}::${comparedType(table, column, type)}`;
      return sign === '!=' ? `(${sql} IS DISTINCT FROM ${given})` : `(${sql} ${sign} ${given})`;
    }
    case 'in': {
      const { sql, type } = comparable(table, condition.column);
      const some = condition.values.filter((value) => value !== null);
      values.push(
        some.flatMap((given) => {
          const value = bound(table, condition.column, type, given);
          return value === undefined ? [] : [value];
        }),
      );
      const listed = `${sql} = ANY($${values.length}::${comparedType(table, condition.column, type)}[])`;
      return some.length === condition.values.length ? `(${listed})` : `(${listed} OR ${sql} IS NULL)`;
    }
    case 'prefix':
    case 'contains': {
      const sql = textSql(table, condition.column);
      values.push(condition.text);
      const given = `$${values.length}::text`;
      return condition.kind === 'prefix' ? `(starts_with(${sql}, ${given}))` : `(strpos(${sql}, ${given}) > 0)`;
    }
    case 'member': {
      const { sql, type } = standing(table, condition.column);
      if (type !== 'jsonb' && !type.endsWith('[]')) throw incomparable(condition.column, type);
      values.push(condition.text);
      return `(jsonb_exists(to_jsonb(${sql}), $${values.length}::text))`;
    }
  }
}

/** An expression whose order is that of a column's values everywhere; `id` among them. */
export function orderedSql(table: ConditionTable, name: string): string {
  const { sql, type } = comparable(table, name);
  if (isText(table, name)) return `${sql}::text COLLATE "C"`;
  const column = table.table.columns[name];
  if (column?.type === 'boolean' && type !== 'boolean') return `(${sql} <> 0)`;
  if (column?.type === 'date' && type !== 'date') return `${sql}::date`;
  return sql;
}

/** A column as the text that everybody else has for its values. */
function textSql(table: ConditionTable, name: string): string {
  const { sql } = comparable(table, name);
  const type = name === 'id' ? 'text' : table.table.columns[name]?.type;
  if (type === 'timestamp') return `to_char(${sql} AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"')`;
  return type === 'local-date-time' ? `replace(${sql}::text, ' ', 'T')` : `${sql}::text`;
}

const wholeTypes = ['smallint', 'integer', 'bigint', 'numeric'];

/** The types in the database whose values are compared as those of a column's type are; any, for types that are not named here. */
const comparableTypes: Partial<Record<Column['type'], readonly string[]>> = {
  counter: wholeTypes,
  'big-integer': wholeTypes,
  decimal: wholeTypes,
  'decimal-counter': wholeTypes,
  real: [...wholeTypes, 'real', 'double precision'],
  timestamp: ['timestamp with time zone'],
  time: ['time without time zone'],
  'local-date-time': ['timestamp without time zone'],
  bytes: ['bytea'],
};

/** A column by whose values rows are told apart or ordered. @throws KoinonError `query-invalid`. */
function comparable(table: ConditionTable, name: string): ExistingColumn {
  const found = standing(table, name);
  const types = name === 'id' ? undefined : comparableTypes[table.table.columns[name]?.type as Column['type']];
  if (types === undefined || types.includes(found.type)) return found;
  throw incomparable(name, found.type);
}

const incomparable = (name: string, type: string) =>
  new KoinonError(
    'query-invalid',
    `Rows cannot be asked for or ordered by ${name} on the server: its database keeps the column as ${type}.`,
    { column: name },
  );

/** The type that a value is compared as: one that holds every value of the schema's type. */
function comparedType({ table }: ConditionTable, name: string, type: string): string {
  const column = table.columns[name]?.type;
  if (column === 'decimal' || column === 'decimal-counter') return 'numeric';
  if (column === 'real') return type === 'real' || type === 'double precision' ? 'double precision' : 'numeric';
  const isWhole = column === 'integer' || column === 'counter' || column === 'big-integer';
  return isWhole && (type === 'smallint' || type === 'integer') ? 'bigint' : type;
}

/** Tells whether a column holds texts to everybody but perhaps the database. */
function isText({ table }: ConditionTable, name: string): boolean {
  return name === 'id' || ['text', 'reference', 'one-of'].includes(table.columns[name]?.type ?? '');
}

function standing({ id, columns }: ConditionTable, name: string): ExistingColumn {
  return name === 'id' ? id : asInstants(columns.get(name) as ExistingColumn);
}

/** The greatest numbers of PostgreSQL's types; of the longest one as far as 18 digits go. */
const mostOf: Readonly<Record<string, number>> = { smallint: 2 ** 15 - 1, integer: 2 ** 31 - 1, bigint: 10 ** 18 };

const uuidForm = /^[0-9a-f]{8}(-?[0-9a-f]{4}){3}-?[0-9a-f]{12}$/i;

/** A value as the column's type in the database takes it; undefined where it cannot. */
function bound({ table }: ConditionTable, name: string, type: string, value: unknown): unknown {
  if (typeof value === 'boolean') return type === 'boolean' ? value : Number(value);
  const column = table.columns[name];
  if (typeof value !== 'string') return column === undefined ? value : parameter(column, value);
  if (column !== undefined && ['date', 'timestamp', 'local-date-time', 'time'].includes(column.type))
    return parameter(column, value);
  if (type === 'uuid') return uuidForm.test(value) ? value : undefined;
  const most = mostOf[type];
  if (most !== undefined) return /^-?\d{1,18}$/.test(value) && Math.abs(Number(value)) <= most ? value : undefined;
  return value;
}
