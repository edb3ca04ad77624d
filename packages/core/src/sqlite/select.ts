import { type Condition, isListedAsJson } from '../query/condition.ts';
import type { Plan } from '../query/query.ts';
import type { Column } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalKey, decimalSizeOf } from '../values/decimal.ts';
import { type SqlValue, toSql } from '../values/sql.ts';
import { orderedSql, quoteName } from './ddl.ts';

/** SQL with the values to bind, in order. */
export interface Sql {
  readonly text: string;
  readonly values: readonly SqlValue[];
}

/** The SELECT of a plan, in SQLite's dialect. */
export function selectSql(plan: Plan): Sql {
  const values: SqlValue[] = [];
  const columns = ['id', ...plan.columns].map(quoteName).join(', ');
  const where = whereSql(plan.table, plan.condition, values);
  const order = plan.order
    .map(({ column, descending }) => `${orderedSql(plan.table, column)}${descending ? ' DESC' : ''}`)
    .join(', ');
  let text = `SELECT ${columns} FROM ${quoteName(plan.tableName)}${where} ORDER BY ${order}`;
  if (plan.limit !== undefined || plan.offset > 0) {
    text += ' LIMIT ? OFFSET ?';
    values.push(plan.limit ?? -1, plan.offset);
  }
  return { text, values };
}

/** The count of a plan's rows; its limit and offset do not count. */
export function countSql(plan: Plan): Sql {
  const values: SqlValue[] = [];
  return {
    text: `SELECT count(*) AS count FROM ${quoteName(plan.tableName)}${whereSql(plan.table, plan.condition, values)}`,
    values,
  };
}

function whereSql(table: Table, condition: Condition, values: SqlValue[]): string {
  const text = conditionSql(table, condition, values);
  return text === '1' ? '' : ` WHERE ${text}`;
}

/**
 * A condition as an SQL expression; its values are added to `values` in the order of their marks.
 *
 * @param columnSql how a column is read; by its name, unless the row is somewhere else than in its table.
 */
export function conditionSql(
  table: Table,
  condition: Condition,
  values: SqlValue[],
  columnSql: (name: string) => string = quoteName,
): string {
  switch (condition.kind) {
    case 'and':
    case 'or': {
      const parts = condition.conditions.map((part) => conditionSql(table, part, values, columnSql));
      if (parts.length === 0) return condition.kind === 'and' ? '1' : '0';
      return joined(parts, condition.kind === 'and' ? ' AND ' : ' OR ');
    }
    case 'not':
      // NOT NULL is NULL in SQL; here what is not true is false, so that `not` gives the rest of the rows.
      return `((${conditionSql(table, condition.condition, values, columnSql)}) IS NOT 1)`;
    case 'compare': {
      const bare = columnSql(condition.column);
      if (condition.value === null) return `(${bare} IS ${condition.sign === '!=' ? 'NOT ' : ''}NULL)`;
      const name = orderedSql(table, condition.column, bare);
      values.push(bound(table, condition.column, condition.value));
      return condition.sign === '!=' ? `(${name} IS NOT ?)` : `(${name} ${condition.sign} ?)`;
    }
    case 'in': {
      const name = orderedSql(table, condition.column, columnSql(condition.column));
      const some = condition.values.filter((value) => value !== null);
      const given = some.map((value) => bound(table, condition.column, value));
      const column = table.columns[condition.column];
      let listed: string;
      if (column === undefined || isListedAsJson(column)) {
        // As one value: each length of a list would otherwise be a statement of its own.
        values.push(JSON.stringify(given));
        listed = `${name} IN (SELECT value FROM json_each(?))`;
      } else {
        values.push(...given);
        listed = `${name} IN (${given.map(() => '?').join(', ')})`;
      }
      return some.length === condition.values.length ? `(${listed})` : `(${listed} OR ${name} IS NULL)`;
    }
    case 'contains':
      values.push(condition.text);
      return `(instr(${columnSql(condition.column)}, ?) > 0)`;
    case 'member':
      values.push(condition.text);
      return `EXISTS (SELECT 1 FROM json_each(${columnSql(condition.column)}) WHERE value = ?)`;
    case 'prefix': {
      // As a range, which an index can answer.
      const name = columnSql(condition.column);
      const end = afterPrefix(condition.text);
      values.push(condition.text);
      if (end === undefined) return `(${name} >= ?)`;
      values.push(end);
      return `(${name} >= ? AND ${name} < ?)`;
    }
  }
}

/** Parts in one expression. As a tree: SQLite counts each sign of a long row of them as one more level. */
function joined(parts: readonly string[], sign: ' AND ' | ' OR '): string {
  if (parts.length === 1) return parts[0] as string;
  if (parts.length <= 16) return `(${parts.join(sign)})`;
  const half = Math.ceil(parts.length / 2);
  return `(${joined(parts.slice(0, half), sign)}${sign}${joined(parts.slice(half), sign)})`;
}

function bound(table: Table, name: string, value: unknown): SqlValue {
  if (name === 'id') return value as string;
  const column = table.columns[name] as Column;
  const size = decimalSizeOf(column);
  const stored = toSql(column, value);
  return size === undefined ? stored : decimalKey(stored as string, size);
}

/** The least text above all that begin with this one; none if there is none. */
function afterPrefix(prefix: string): string | undefined {
  const points = [...prefix].map((character) => character.codePointAt(0) as number);
  for (let last = points.pop(); last !== undefined; last = points.pop()) {
    if (last === 0x10ffff) continue;
    const next = last === 0xd7ff ? 0xe000 : last + 1;
    return String.fromCodePoint(...points, next);
  }
  return undefined;
}
