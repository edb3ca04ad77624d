import type { Column } from '../schema/column.ts';
import type { Table } from '../schema/table.ts';

/** A name as SQL takes it, whatever characters it holds. */
export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A text as SQL takes it. */
export function quoteText(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}

/** The storage type SQLite gives a column. */
export function storageType(column: Column): 'TEXT' | 'INTEGER' | 'REAL' | 'BLOB' {
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

/** How the columns of one table stand in SQL: on a device only storage types, on a server the constraints as well. */
export type Strictness = 'storage types' | 'constraints';

/** The definition of one column. */
export function columnDdl(name: string, column: Column, strictness: Strictness): string {
  const type = `${quoteName(name)} ${storageType(column)}`;
  if (strictness === 'storage types') return type;
  const required = column.optional ? '' : ' NOT NULL';
  const rule = columnRule(quoteName(name), column);
  const points = column.target ? ` REFERENCES ${quoteName(column.target)} ("id") DEFERRABLE INITIALLY DEFERRED` : '';
  return `${type}${required}${rule ? ` CHECK (${column.optional ? `${quoteName(name)} IS NULL OR ` : ''}${rule})` : ''}${points}`;
}

/** What the server's table enforces, so that a row any program wrote can be read back as the column's type. */
function columnRule(name: string, column: Column): string | undefined {
  switch (column.type) {
    case 'boolean':
      return `${name} IN (0, 1)`;
    case 'integer':
    case 'counter':
      return `${name} BETWEEN -9007199254740991 AND 9007199254740991`;
    case 'real':
      return `abs(${name}) <= 1.7976931348623157e308`;
    case 'timestamp':
      return `(julianday(${name}) IS NOT NULL AND length(${name}) > 10)`;
    case 'date':
      return `date(${name}) IS ${name}`;
    case 'one-of':
      return `${name} IN (${column.oneOf?.map(quoteText).join(', ')})`;
    case 'json':
      return `json_valid(${name})`;
    case 'set':
      return `(json_valid(${name}) AND json_type(${name}) = 'array')`;
    default:
      return undefined;
  }
}

/** The statements that create a table and its indexes. */
export function createTable(name: string, table: Table, strictness: Strictness): string[] {
  const columns = Object.entries(table.columns).map(([column, definition]) =>
    columnDdl(column, definition, strictness),
  );
  const strict = strictness === 'constraints' ? ' STRICT' : '';
  return [
    `CREATE TABLE ${quoteName(name)} (\n  "id" TEXT PRIMARY KEY NOT NULL,\n  ${columns.join(',\n  ')}\n)${strict}`,
    ...createIndexes(name, table, strictness),
  ];
}

/** The statements that create a table's indexes. On a device a unique group is an index without the constraint. */
export function createIndexes(name: string, table: Table, strictness: Strictness): string[] {
  const unique = strictness === 'constraints' ? 'UNIQUE ' : '';
  const groups = [
    ...table.unique.map((columns) => ({ columns, unique })),
    ...indexedGroups(table, strictness).map((columns) => ({ columns, unique: '' })),
  ];
  return groups.map(
    ({ columns, unique }) =>
      `CREATE ${unique}INDEX IF NOT EXISTS ${quoteName(indexName(name, columns))} ON ${quoteName(name)} (${columns.map(quoteName).join(', ')})`,
  );
}

/** The groups of columns to keep an index over. A server finds rows by what scopes filter by. */
export function indexedGroups(table: Table, strictness: Strictness): readonly (readonly string[])[] {
  if (strictness === 'storage types') return table.index;
  const leading = new Set([...table.unique, ...table.index].map(([first]) => first));
  return [...table.index, ...table.filterable.filter((name) => !leading.has(name)).map((name) => [name])];
}

function indexName(table: string, columns: readonly string[]): string {
  return `${table}_by_${columns.join('_')}`;
}

/** Marks a file as a replica: the letters KOIN in SQLite's header. */
export const replicaApplicationId = 0x4b4f494e;
