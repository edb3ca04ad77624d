import { type Column, isOperatedOn } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalKeySql, decimalSizeOf } from '../values/decimal.ts';
import { type SqlValue, toSql } from '../values/sql.ts';

/** A name as SQL takes it, whatever characters it holds. */
export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A text as SQL takes it. */
export function quoteText(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}

/**
 * The storage type SQLite gives a column. Drivers do not read whole numbers of 64 bits by themselves: a replica keeps their digits, a
 * server's table the number, for other programs.
 */
export function storageType(column: Column, strictness: Strictness): 'TEXT' | 'INTEGER' | 'REAL' | 'BLOB' {
  switch (column.type) {
    case 'big-integer':
      return strictness === 'constraints' ? 'INTEGER' : 'TEXT';
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

/** How the columns of one table stand in SQL: on a device only storage types, on a server the constraints as well. */
export type Strictness = 'storage types' | 'constraints';

/** The definition of one column. */
export function columnDdl(name: string, column: Column, strictness: Strictness): string {
  const type = `${quoteName(name)} ${storageType(column, strictness)}`;
  if (strictness === 'storage types') return type;
  const required = column.optional ? '' : ' NOT NULL';
  const rule = columnRule(quoteName(name), column);
  const points = column.target ? ` REFERENCES ${quoteName(column.target)} ("id") DEFERRABLE INITIALLY DEFERRED` : '';
  return `${type}${required}${rule ? ` CHECK (${column.optional ? `${quoteName(name)} IS NULL OR ` : ''}${rule})` : ''}${points}`;
}

/** The rule that the server's table enforces, so that a row any program wrote can be read back as the column's type. */
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
    case 'decimal':
    case 'decimal-counter':
      return isDecimalSql(name, decimalSizeOf(column)?.scale ?? 0);
    case 'time':
      return isClockSql(name);
    case 'local-date-time':
      return `date(substr(${name}, 1, 10)) IS substr(${name}, 1, 10) AND substr(${name}, 11, 1) = 'T' AND ${isClockSql(`substr(${name}, 12)`)}`;
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

/** Tells whether a text is an exact number in the form in which it is kept. */
function isDecimalSql(name: string, scale: number): string {
  const bare = `ltrim(${name}, '-')`;
  const whole = scale === 0 ? bare : `substr(${bare}, 1, length(${bare}) - ${scale + 1})`;
  return [
    `(${name} = ${bare} OR (${name} = '-' || ${bare} AND ${name} GLOB '*[1-9]*'))`,
    `${whole} <> '' AND ${whole} NOT GLOB '*[^0-9]*' AND (${whole} = '0' OR ${whole} NOT GLOB '0*')`,
    ...(scale === 0
      ? []
      : [`substr(${bare}, -${scale + 1}, 1) = '.'`, `substr(${bare}, -${scale}) NOT GLOB '*[^0-9]*'`]),
  ].join(' AND ');
}

/** Tells whether a text is a time of day in the form in which it is kept. */
function isClockSql(text: string): string {
  const fraction = `substr(${text}, 9)`;
  return `time(substr(${text}, 1, 8)) IS substr(${text}, 1, 8) AND (${fraction} = '' OR (${fraction} GLOB '.*[1-9]' AND substr(${fraction}, 2) NOT GLOB '*[^0-9]*' AND length(${fraction}) < 8))`;
}

/** The bounds of a range or a length; the one that is left out is not there. */
export interface Bounds {
  readonly least?: number | undefined;
  readonly most?: number | undefined;
}

/**
 * The bounds that a server's table can hold a column to. Counters and unique columns have none there: on the way to what a
 * transaction makes of them they may hold other values.
 */
export function boundsOf(table: Table, name: string): Bounds {
  const column = table.columns[name] as Column;
  if (isOperatedOn(column) || table.unique.flat().includes(name)) return {};
  const { minimumLength, maximumLength, precision, scale = 0 } = column;
  // The digits of a decimal column are bounds too, which may become wider.
  const most = precision === undefined ? undefined : `${'9'.repeat(precision - scale) || '0'}.${'9'.repeat(scale)}`;
  return {
    least: boundOf(column.minimum ?? (most && `-${most}`)) ?? minimumLength,
    most: boundOf(column.maximum ?? most) ?? maximumLength,
  };
}

/** A bound as a number; none where a number has other digits: the database would hold rows to another bound. */
function boundOf(bound: number | string | undefined): number | undefined {
  if (typeof bound !== 'string') return bound;
  return bound.replace(/[-.]|^-?0+/g, '').length <= 15 ? Number(bound) : undefined;
}

/** Bounds as an SQL expression over a column, or over its length; undefined where there are none. */
export function boundsRule(name: string, { type }: Column, { least, most }: Bounds): string | undefined {
  const number = type === 'decimal' ? `(${name} + 0)` : name;
  const measured = type === 'text' ? `length(${name})` : type === 'bytes' ? `octet_length(${name})` : number;
  const rules = [
    ...(least === undefined ? [] : [`${measured} >= ${least}`]),
    ...(most === undefined ? [] : [`${measured} <= ${most}`]),
  ];
  return rules.length === 0 ? undefined : rules.join(' AND ');
}

/** The widest of two bounds: what stands in rows already stays allowed. */
export function widerBounds(one: Bounds, other: Bounds): Bounds {
  const of = (pick: (a: number, b: number) => number, a: number | undefined, b: number | undefined) =>
    a === undefined || b === undefined ? undefined : pick(a, b);
  return { least: of(Math.min, one.least, other.least), most: of(Math.max, one.most, other.most) };
}

/** The bounds in an SQL expression that {@link boundsRule} made, as it is or as a database has written it down. */
export function boundsIn(rule: string): Bounds {
  const found = (sign: string) => {
    const text = new RegExp(`${sign} \\(?'?(-?\\d[\\d.eE+-]*)`).exec(rule)?.[1];
    return text === undefined ? undefined : Number(text);
  };
  return { least: found('>='), most: found('<=') };
}

/** The constraint of a server's column that holds it to bounds; empty where there are none. */
export function boundsDdl(name: string, column: Column, bounds: Bounds): string {
  const rule = boundsRule(quoteName(name), column, bounds);
  return rule === undefined ? '' : ` CONSTRAINT ${quoteName(`range of ${name}`)} CHECK (${rule})`;
}

/** A value as SQL takes it. */
function literal(value: SqlValue): string {
  if (value === null) return 'NULL';
  if (value instanceof Uint8Array) return `X'${[...value].map((byte) => byte.toString(16).padStart(2, '0')).join('')}'`;
  return typeof value === 'number' ? String(value) : quoteText(value);
}

/** The value that a server's table gives a new row for which another program gives none; empty where there is no fixed value. */
export function defaultDdl(column: Column): string {
  const { default: initial } = column;
  if (initial === undefined || initial === null || typeof initial === 'function') return '';
  return ` DEFAULT ${literal(toSql(column, initial))}`;
}

/** The whole definition of a column of a server's table. */
export function serverColumnDdl(table: Table, name: string): string {
  const column = table.columns[name] as Column;
  return `${columnDdl(name, column, 'constraints')}${defaultDdl(column)}${boundsDdl(name, column, boundsOf(table, name))}`;
}

/** The statements that create a table and its indexes. */
export function createTable(name: string, table: Table, strictness: Strictness): string[] {
  const columns = Object.entries(table.columns).map(([column, definition]) =>
    strictness === 'constraints' ? serverColumnDdl(table, column) : columnDdl(column, definition, strictness),
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
    ...table.unique.map((columns) => ({ columns, unique, over: quoteName })),
    ...indexedGroups(table, strictness).map((columns) => ({
      columns,
      unique: '',
      over: strictness === 'constraints' ? quoteName : (column: string) => orderedSql(table, column),
    })),
  ];
  return groups.map(
    ({ columns, unique, over }) =>
      `CREATE ${unique}INDEX IF NOT EXISTS ${quoteName(indexName(name, columns))} ON ${quoteName(name)} (${columns.map(over).join(', ')})`,
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
