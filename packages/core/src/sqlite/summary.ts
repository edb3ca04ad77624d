import type { SummaryPlan } from '../query/summary.ts';
import type { Column } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalSizeOf, decimalSumSql } from '../values/decimal.ts';
import type { SqlValue } from '../values/sql.ts';
import { orderedSql, quoteName } from './ddl.ts';
import { conditionSql, type Sql } from './select.ts';

/** The SELECT of a summary, in SQLite's dialect. */
export function summarySql(plan: SummaryPlan): Sql {
  const values: SqlValue[] = [];
  const { selected, grouped } = summaryParts(plan, quoteName);
  const where = conditionSql(plan.table, plan.condition, values);
  return { text: `SELECT ${selected} FROM ${quoteName(plan.tableName)} WHERE ${where}${grouped}`, values };
}

/** The parts of such a SELECT before and behind its condition. @param columnSql how a column is read. */
export function summaryParts(
  { table, by, measures }: SummaryPlan,
  columnSql: (name: string) => string,
): { readonly selected: string; readonly grouped: string } {
  const named = (sql: string, name: string) => `${sql} AS ${quoteName(name)}`;
  const computed = measures.map(({ name, how, column }) => named(measureSql(table, how, column, columnSql), name));
  const order = by.map((name) => orderedSql(table, name, columnSql(name))).join(', ');
  return {
    selected: [...by.map((name) => named(columnSql(name), name)), ...computed].join(', '),
    grouped: by.length > 0 ? ` GROUP BY ${by.map(columnSql).join(', ')} ORDER BY ${order}` : '',
  };
}

function measureSql(
  table: Table,
  how: string,
  column: string | undefined,
  columnSql: (name: string) => string,
): string {
  if (column === undefined) return `${how}(*)`;
  const size = column === 'id' ? undefined : decimalSizeOf(table.columns[column] as Column);
  const sql = columnSql(column);
  // The sum of whole numbers may be larger than SQLite's own, and than one that drivers read.
  if (how === 'sum' && size === undefined) return `(CASE WHEN count(${sql}) > 0 THEN total(${sql}) END)`;
  if (size === undefined) return `${how}(${sql})`;
  if (how === 'sum') return decimalSumSql(sql, size);
  return `${how}(${how === 'avg' ? `CAST(${sql} AS REAL)` : orderedSql(table, column, sql)})`;
}
