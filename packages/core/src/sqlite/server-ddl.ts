import { type Column, isOperatedOn } from '../table/column.ts';
import type { Table } from '../table/table.ts';
import { decimalSizeOf } from '../values/decimal.ts';
import { type SqlValue, toSql } from '../values/sql.ts';
import { indexDdl, quoteName, quoteText, storageType } from './ddl.ts';

// The tables of a server, which hold what other programs write to the schema. A device does not need this.

/** The definition of one column, with its constraints. */
export function constrainedColumnDdl(name: string, column: Column): string {
  // A number, for other programs.
  const stored = column.type === 'big-integer' ? 'INTEGER' : storageType(column);
  const required = column.optional ? '' : ' NOT NULL';
  const rule = columnRule(quoteName(name), column);
  const points = column.target ? ` REFERENCES ${quoteName(column.target)} ("id") DEFERRABLE INITIALLY DEFERRED` : '';
  return `${quoteName(name)} ${stored}${required}${rule ? ` CHECK (${column.optional ? `${quoteName(name)} IS NULL OR ` : ''}${rule})` : ''}${points}`;
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
    case 'file':
      return `(json_valid(${name}) AND json_type(${name}) = 'object')`;
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
  return `${constrainedColumnDdl(name, column)}${defaultDdl(column)}${boundsDdl(name, column, boundsOf(table, name))}`;
}

/** The statements that create a server's table and its indexes. */
export function createServerTable(name: string, table: Table): string[] {
  const columns = table.names.map((column) => serverColumnDdl(table, column));
  // A row's id is made of its key by the view that Koinon reads.
  const [id, key] =
    table.key.length === 0
      ? ['"id" TEXT PRIMARY KEY NOT NULL,\n  ', '']
      : ['', `,\n  PRIMARY KEY (${table.key.map(quoteName).join(', ')})`];
  return [
    `CREATE TABLE ${quoteName(name)} (\n  ${id}${columns.join(',\n  ')}${key}\n) STRICT`,
    ...createServerIndexes(name, table),
  ];
}

/** The statements that create the indexes of a server's table. */
export function createServerIndexes(name: string, table: Table): string[] {
  return [
    ...table.unique.map((columns) => indexDdl(name, columns, columns.map(quoteName), 'UNIQUE ')),
    ...indexedGroups(table).map((columns) => indexDdl(name, columns, columns.map(quoteName))),
  ];
}

/** The groups of columns that a server keeps an index over: it finds rows by what scopes filter by. */
export function indexedGroups(table: Table): readonly (readonly string[])[] {
  const leading = new Set([...table.unique, ...table.index].map(([first]) => first));
  return [...table.index, ...table.filterable.filter((name) => !leading.has(name)).map((name) => [name])];
}
