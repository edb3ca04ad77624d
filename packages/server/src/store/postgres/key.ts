import type { ExistingColumn } from './columns.ts';

// The key of a table: one column, whose text is a row's id, or several, of whose texts the id is made.

/** A key as it stands in the database. */
export interface TableKey {
  /** Its columns. */
  readonly columns: readonly [ExistingColumn, ...ExistingColumn[]];
  /** The type of {@link keySql}. */
  readonly type: string;
}

/** The types whose text is the same under all settings of a session, so that an index can be made of it. */
const steady = /^(text|character varying|character|uuid|smallint|integer|bigint|date)$/;

/** Tells whether a column of this type can be a part of a key. */
export function canBePart(type: string): boolean {
  return steady.test(type);
}

/** The key made of these columns. */
export function keyOf(columns: TableKey['columns']): TableKey {
  return { columns, type: columns.length === 1 ? columns[0].type : 'text' };
}

/** Tells whether a key is several columns. */
export function isComposite({ columns }: TableKey): boolean {
  return columns.length > 1;
}

/** An expression for the key of a row, which has an index; by the name of the row, or none. */
export function keySql({ columns }: TableKey, row: string): string {
  const [first, ...more] = columns;
  const of = ({ sql }: ExistingColumn) => (row === '' ? sql : `${row}.${sql}`);
  if (more.length === 0) return of(first);
  const parts = columns.map((column) => partSql(of(column), column.type));
  return `((${parts.join(" || '/' || ")}) COLLATE "C")`;
}

/** The same as text: the row's id. */
export function idSql(key: TableKey, row: string): string {
  return isComposite(key) ? keySql(key, row) : `${keySql(key, row)}::text`;
}

/** A part of an id, as core writes it. */
function partSql(sql: string, type: string): string {
  if (/int|uuid/.test(type)) return `${sql}::text`;
  // The text of a date depends on a setting, which an index may not.
  if (type === 'date') {
    const field = (name: string, width: number) => `lpad(extract(${name} FROM ${sql})::integer::text, ${width}, '0')`;
    return `(${field('year', 4)} || '-' || ${field('month', 2)} || '-' || ${field('day', 2)})`;
  }
  return `replace(replace(${sql}::text, '%', '%25'), '/', '%2F')`;
}
