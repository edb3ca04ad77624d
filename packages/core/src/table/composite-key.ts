import type { ColumnType } from './column.ts';
import type { Table } from './table.ts';

// Tables whose key is several columns: a row's id is made of their values.

/** The types of columns that a key may have: each value has one text, which databases make as well. */
export const keyTypes: ReadonlySet<ColumnType> = new Set([
  ...(['text', 'one-of', 'reference', 'integer', 'big-integer', 'date'] as const),
]);

/** The sign between the parts of an id. Inside of a part it is written as %2F, and the percent sign as %25 (RFC 3986). */
const separator = '/';

const encoded = (text: string) => text.replaceAll('%', '%25').replaceAll(separator, '%2F');
const decoded = (text: string) => text.replaceAll('%2F', separator).replaceAll('%25', '%');

/** The id of a row whose key is several columns; undefined where it is not, or where one of them has no value. */
export function idOfKey({ key }: Table, columns: Readonly<Record<string, unknown>>): string | undefined {
  const parts = key.map((name) => columns[name]);
  if (parts.length === 0 || parts.some((part) => part === undefined || part === null)) return undefined;
  return parts.map((part) => encoded(String(part))).join(separator);
}

/** The same id with some values of its key replaced. */
export function withKeyParts({ key }: Table, id: string, replace: (name: string, part: string) => string): string {
  const parts = id.split(separator);
  if (parts.length !== key.length) return id;
  return parts.map((part, i) => encoded(replace(key[i] as string, decoded(part)))).join(separator);
}
