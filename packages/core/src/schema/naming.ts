import { shown } from '../errors/errors.ts';
import type { AnyRow, Table } from '../table/table.ts';
import type { RowKey } from './row-key.ts';

// How messages name tables, columns and rows to a person: by labels and values, never by a UUID.

const uuid = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i;
const isUuid = (id: string) => uuid.test(id);

/** A schema, or as much of it as is at hand. */
interface Named {
  readonly tables: Readonly<Record<string, Table>>;
}

const tableOf = ({ tables }: Named, name: string): Table | undefined =>
  Object.hasOwn(tables, name) ? tables[name] : undefined;

/** A table by its label; by its name where it has none. */
export function tableLabel(schema: Named, table: string): string {
  return tableOf(schema, table)?.label ?? table;
}

/** A column as it begins a sentence: by its label; by the names of table and column where it has none. */
export function columnLabel(schema: Named, table: string, column: string): string {
  return labelOf(tableOf(schema, table), table, column);
}

/** The same, of a table that is at hand. */
export function labelOf(table: Table | undefined, tableName: string, column: string): string {
  const columns = table?.columns ?? {};
  const label = Object.hasOwn(columns, column) ? columns[column]?.label : undefined;
  return label === undefined ? `${tableName}.${column}` : sentence(label);
}

/**
 * A row by the label of its table and the value that names it, or its id; `this hive` where that is a UUID.
 *
 * @param row its values, where they are at hand.
 */
export function rowLabel(schema: Named, key: RowKey, row?: AnyRow | null): string {
  return rowName(schema, key, row) ?? `this ${tableLabel(schema, key.table)}`;
}

/** Some rows by their names, and how many there are besides. */
export function rowLabels(schema: Named, rows: readonly (RowKey & { readonly row?: AnyRow | null })[]): string {
  const names = [...new Set(rows.map(({ row, ...key }) => rowName(schema, key, row) ?? tableLabel(schema, key.table)))];
  const some = names.slice(0, 3).join(', ');
  return names.length > 3 ? `${some} and ${names.length - 3} more` : some;
}

function rowName(schema: Named, { table, id }: RowKey, row?: AnyRow | null): string | undefined {
  const namedBy = tableOf(schema, table)?.namedBy;
  const value = namedBy === undefined ? null : (row?.[namedBy] ?? null);
  if (value !== null) return `${tableLabel(schema, table)} ${shown(value)}`;
  return isUuid(id) ? undefined : `${tableLabel(schema, table)} ${shown(id)}`;
}

/** Says that a row is not there. @param where such as `on this device`. */
export function noSuchRow(schema: Named, { table, id }: RowKey, where: string): string {
  const label = tableLabel(schema, table);
  return isUuid(id) ? `There is no such ${label} ${where}.` : `There is no ${label} ${shown(id)} ${where}.`;
}

/** A text as it begins a sentence. */
export const sentence = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);
