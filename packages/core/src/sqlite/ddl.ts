import type { Column } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalKeySql, decimalSizeOf } from '../values/decimal.ts';

/** A name as SQL takes it, whatever characters it holds. */
export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A text as SQL takes it. */
export function quoteText(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}

/** The type that SQLite stores values as. */
export type StorageType = 'TEXT' | 'INTEGER' | 'REAL' | 'BLOB';

/** The storage type of a column of a replica. Drivers do not read whole numbers of 64 bits by themselves: their digits are kept. */
export function storageType(column: Column): StorageType {
  switch (column.type) {
    case 'integer':
    case 'counter':
    case 'boolean':
      return 'INTEGER';
    case 'real':
      return 'REAL';
    case 'bytes':
      return 'BLOB';
    default:
      return 'TEXT';
  }
}

/** A column as an expression whose order is that of its values: exact numbers are texts. */
export function orderedSql(table: Table, name: string, sql = quoteName(name)): string {
  const column = name === 'id' ? undefined : table.columns[name];
  const size = column && decimalSizeOf(column);
  return size === undefined ? sql : decimalKeySql(sql, size);
}

/** The definition of one column of a replica, which has no constraints: rows that the server sends may never fail. */
export function columnDdl(name: string, column: Column): string {
  return `${quoteName(name)} ${storageType(column)}`;
}

/** The statements that create a table of a replica and its indexes. */
export function createTable(name: string, table: Table): string[] {
  const columns = table.entries.map(([column, definition]) => columnDdl(column, definition));
  return [
    `CREATE TABLE ${quoteName(name)} (\n  "id" TEXT PRIMARY KEY NOT NULL,\n  ${columns.join(',\n  ')}\n)`,
    ...createIndexes(name, table),
  ];
}

/** The statements that create the indexes of a replica's table. A unique group is an index without the constraint. */
export function createIndexes(name: string, table: Table): string[] {
  return [
    // Uniqueness is looked up by the values as they are, and queries go by their order.
    ...table.unique.map((columns) => indexDdl(name, columns, columns.map(quoteName))),
    ...table.index.map((columns) =>
      indexDdl(
        name,
        columns,
        columns.map((column) => orderedSql(table, column)),
      ),
    ),
  ];
}

/** The statement that creates an index over expressions of some columns. */
export function indexDdl(name: string, columns: readonly string[], over: readonly string[], unique = ''): string {
  const index = quoteName(`${name}_by_${columns.join('_')}`);
  return `CREATE ${unique}INDEX IF NOT EXISTS ${index} ON ${quoteName(name)} (${over.join(', ')})`;
}

/** Marks a file as a replica: the letters KOIN in SQLite's header. */
export const replicaApplicationId = 0x4b4f494e;
