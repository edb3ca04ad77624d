// A database as its own catalog describes it, the same for both dialects.

/** A column as it stands in a database. */
export interface CatalogColumn {
  readonly name: string;
  /** Its type, as the database writes it: `numeric(8,2)`. */
  readonly type: string;
  /** The type behind a domain, without a length; in lower case. */
  readonly baseType: string;
  /** The length of a text, or the digits of a number and those of them after the point. */
  readonly size: readonly number[];
  readonly isRequired: boolean;
  /** The way in which the database gives values: it computes them, or has a default for new rows. */
  readonly given: 'always' | 'by default' | undefined;
  /** The values of an enumeration. */
  readonly values: readonly string[] | undefined;
  readonly comment: string | undefined;
  /** What rows hold, where the type alone does not say: rows that were looked at, by the form of the value. */
  readonly found: Found | undefined;
}

/** Values of a column that were counted, by their form. */
export interface Found {
  readonly rows: number;
  readonly whole: number;
  readonly large: number;
  readonly real: number;
  readonly text: number;
  readonly bytes: number;
  readonly bits: number;
  readonly json: number;
  readonly days: number;
  readonly times: number;
  readonly plainTimes: number;
}

/** A reference of some columns to those of another table. */
export interface CatalogReference {
  readonly columns: readonly string[];
  /** The other table, as {@link CatalogTable.relation} has it. */
  readonly target: string;
  readonly targetColumns: readonly string[];
}

/** A table or view. */
export interface CatalogTable {
  /** Its name; with its SQL schema where that is not the usual one. */
  readonly relation: string;
  readonly kind: 'table' | 'view' | 'virtual table' | 'foreign table';
  readonly comment: string | undefined;
  readonly columns: readonly CatalogColumn[];
  readonly primaryKey: readonly string[];
  /** Groups of columns that are unique, the primary key among them; of a view, columns that are different in all its rows just now. */
  readonly unique: readonly (readonly string[])[];
  readonly references: readonly CatalogReference[];
  /** The conditions of its check constraints, as SQL. */
  readonly checks: readonly string[];
  /** The SQL that made it, where the database keeps that: SQLite does. */
  readonly definition: string | undefined;
}

/** A database and its tables. */
export interface Catalog {
  readonly dialect: 'SQLite' | 'PostgreSQL';
  readonly tables: readonly CatalogTable[];
}

/** Rows of a view that are looked at, to see which column tells them apart. */
export const viewRowsLookedAt = 20_000;

/** The SQL that counts the rows of a view, the rows with a value and the values of each column. Names are quoted. */
export function countingSql(view: string, columns: readonly string[]): string {
  const counts = columns.map(
    (name, n) => `count(${name}) AS "${n} filled", count(DISTINCT ${name}) AS "${n} distinct"`,
  );
  return `SELECT ${['count(*) AS "rows"', ...counts].join(', ')} FROM (SELECT ${columns.join(', ')} FROM ${view} LIMIT ${viewRowsLookedAt}) r`;
}

/** The columns of a view that have another value in each row, by what {@link countingSql} has counted. */
export function distinctColumns(
  columns: readonly string[],
  counted: Readonly<Record<string, number | string>>,
): string[][] {
  const rows = Number(counted.rows);
  return columns.flatMap((name, n) => {
    const isKey = rows > 0 && Number(counted[`${n} filled`]) === rows && Number(counted[`${n} distinct`]) === rows;
    return isKey ? [[name]] : [];
  });
}
