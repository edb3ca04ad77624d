import { shown } from '../errors/errors.ts';
import type { AnyRow } from '../table/table.ts';
import type { RowKey } from './row-key.ts';

// How messages name tables, columns and rows to a person: by labels and values, never by a UUID.

const uuid = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i;
/** Tells whether an id is one that no person reads. */
export const isUuid = (id: string): boolean => uuid.test(id);

/** The names of tables and columns for a person, in one language. A schema has them, as far as its author gave any. */
export interface Labels {
  readonly tables: Readonly<Record<string, TableLabels>>;
}

/** The label of a table, and those of its columns. */
export interface TableLabels {
  readonly label?: string | undefined;
  readonly columns?: Readonly<Record<string, { readonly label?: string | undefined }>>;
  /** The column whose value names a row. */
  readonly namedBy?: string | undefined;
}

const tableOf = ({ tables }: Labels, name: string): TableLabels | undefined =>
  Object.hasOwn(tables, name) ? tables[name] : undefined;

/** A table by its label; by its name where it has none. */
export function tableLabel(labels: Labels, table: string): string {
  return tableOf(labels, table)?.label ?? table;
}

/** A column as it begins a sentence: by its label; by the names of table and column where it has none. */
export function columnLabel(labels: Labels, table: string, column: string): string {
  return labelOf(tableOf(labels, table), table, column);
}

/** The same, of a table that is at hand. */
export function labelOf(table: TableLabels | undefined, tableName: string, column: string): string {
  const columns = table?.columns ?? {};
  const label = Object.hasOwn(columns, column) ? columns[column]?.label : undefined;
  return label === undefined ? `${tableName}.${column}` : sentence(label);
}

/** The value that names a row, as it is shown; undefined where the row is not at hand, or has none. */
export function nameOfRow(labels: Labels, table: string, row?: AnyRow | null): string | undefined {
  const namedBy = tableOf(labels, table)?.namedBy;
  const value = namedBy === undefined ? null : (row?.[namedBy] ?? null);
  return value === null ? undefined : shown(value);
}

/**
 * A row by the label of its table and the value that names it, or its id; `this hive` where that is a UUID.
 *
 * @param row its values, where they are at hand.
 */
export function rowLabel(labels: Labels, key: RowKey, row?: AnyRow | null): string {
  return labelWithName(labels, key, row) ?? `this ${tableLabel(labels, key.table)}`;
}

/** Some rows by their names, and how many there are besides. */
export function rowLabels(labels: Labels, rows: readonly (RowKey & { readonly row?: AnyRow | null })[]): string {
  const names = [
    ...new Set(rows.map(({ row, ...key }) => labelWithName(labels, key, row) ?? tableLabel(labels, key.table))),
  ];
  const some = names.slice(0, 3).join(', ');
  return names.length > 3 ? `${some} and ${names.length - 3} more` : some;
}

function labelWithName(labels: Labels, { table, id }: RowKey, row?: AnyRow | null): string | undefined {
  const name = nameOfRow(labels, table, row) ?? (isUuid(id) ? undefined : shown(id));
  return name === undefined ? undefined : `${tableLabel(labels, table)} ${name}`;
}

/** Says that a row is not there. @param where such as `on this device`. */
export function noSuchRow(labels: Labels, { table, id }: RowKey, where: string): string {
  const label = tableLabel(labels, table);
  return isUuid(id) ? `There is no such ${label} ${where}.` : `There is no ${label} ${shown(id)} ${where}.`;
}

/** A text as it begins a sentence. */
export const sentence = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);
