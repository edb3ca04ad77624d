import type { SummaryPlan } from '../query/summary.ts';
import type { SqlValue } from '../values/sql.ts';
import { quoteName } from './ddl.ts';
import { conditionSql, type Sql } from './select.ts';

/** The SELECT of a summary, in SQLite's dialect. */
export function summarySql({ tableName, table, condition, by, measures }: SummaryPlan): Sql {
  const values: SqlValue[] = [];
  const groups = by.map(quoteName).join(', ');
  const computed = measures.map(
    ({ name, how, column }) => `${how}(${column === undefined ? '*' : quoteName(column)}) AS ${quoteName(name)}`,
  );
  const where = conditionSql(table, condition, values);
  const grouped = by.length > 0 ? ` GROUP BY ${groups} ORDER BY ${groups}` : '';
  return {
    text: `SELECT ${[...by.map(quoteName), ...computed].join(', ')} FROM ${quoteName(tableName)} WHERE ${where}${grouped}`,
    values,
  };
}
