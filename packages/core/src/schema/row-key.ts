/** A row by its table and id. */
export interface RowKey {
  readonly table: string;
  readonly id: string;
}

/** A row's key as one text. No table's name has a NUL in it. */
export const rowKey = ({ table, id }: RowKey): string => `${table}\0${id}`;

/** The row that a text is the key of. */
export function rowOfKey(key: string): RowKey {
  const end = key.indexOf('\0');
  return { table: key.slice(0, end), id: key.slice(end + 1) };
}
