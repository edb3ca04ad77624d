import type { Table } from '../schema/table.ts';

/**
 * The columns of a new row with what was left out filled in: the column's default, or null where it is optional. A
 * required column without a default stays out, for the checks to find.
 */
export function withDefaults(table: Table, given: Readonly<Record<string, unknown>>): Record<string, unknown> {
  const columns: Record<string, unknown> = {};
  for (const [name, value] of Object.entries(given)) if (value !== undefined) columns[name] = value;
  for (const [name, column] of Object.entries(table.columns)) {
    if (Object.hasOwn(columns, name)) continue;
    const initial = typeof column.default === 'function' ? (column.default as () => unknown)() : column.default;
    if (initial !== undefined) columns[name] = initial;
    else if (column.optional) columns[name] = null;
  }
  return columns;
}
