import type { SummaryPlan } from '../query/summary.ts';
import type { Column } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalSizeOf, decimalSumSql } from '../values/decimal.ts';
import type { SqlValue } from '../values/sql.ts';
import { orderedSql, quoteName } from './ddl.ts';
import { conditionSql, type Sql } from './select.ts';

/** The SELECT of a summary, in SQLite's dialect. */
export function summarySql({ tableName, table, condition, by, measures }: SummaryPlan): Sql {
  const values: SqlValue[] = [];
  const groups = by.map(quoteName).join(', ');
  const computed = measures.map(({ name, how, column }) => `${measureSql(table, how, column)} AS ${quoteName(name)}`);
  const order = by.map((name) => orderedSql(table, name)).join(', ');
  const where = conditionSql(table, condition, values);
  const grouped = by.length > 0 ? ` GROUP BY ${groups} ORDER BY ${order}` : '';
  return {
    text: `SELECT ${[...by.map(quoteName), ...computed].join(', ')} FROM ${quoteName(tableName)} WHERE ${where}${grouped}`,
    values,
  };
}

function measureSql(table: Table, how: string, column: string | undefined): string {
  if (column === undefined) return `${how}(*)`;
  const size = column === 'id' ? undefined : decimalSizeOf(table.columns[column] as Column);
  if (size === undefined) return `${how}(${quoteName(column)})`;
  if (how === 'sum') return decimalSumSql(quoteName(column), size);
  return `${how}(${how === 'avg' ? `CAST(${quoteName(column)} AS REAL)` : orderedSql(table, column)})`;
}
