import { callApp } from '../errors/app.ts';
import type { Column } from '../table/column.ts';
import type { Table } from '../table/table.ts';

/** The default of a column, or what the app's function makes as one; undefined where it has none. */
export function defaultOf({ default: given }: Column): unknown {
  return typeof given === 'function' ? callApp(given as () => unknown) : given;
}

/**
 * The columns of a new row with what was left out filled in: the column's default, or null where it is optional. A
 * required column without a default stays out, for the checks to find.
 */
export function withDefaults(table: Table, given: Readonly<Record<string, unknown>>): Record<string, unknown> {
  const columns: Record<string, unknown> = {};
  for (const [name, column] of table.entries) {
    let value = given[name];
    if (value === undefined) {
      value = defaultOf(column);
      if (value === undefined && column.optional) value = null;
    }
    if (value !== undefined) columns[name] = value;
  }
  // Names the table does not know stay in, for the checks to find.
  for (const name in given)
    if (name !== 'id' && given[name] !== undefined && !Object.hasOwn(table.columns, name)) columns[name] = given[name];
  return columns;
}
