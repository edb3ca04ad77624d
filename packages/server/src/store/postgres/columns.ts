import type { Column } from '@koinon/core';
import { decimalSizeOf, inOneForm, quoteText } from '@koinon/core/internal';

/** The type PostgreSQL gives a column of a table that Koinon makes. */
export function columnType(column: Column): string {
  switch (column.type) {
    case 'integer':
    case 'counter':
    case 'big-integer':
      return 'bigint';
    case 'decimal':
    case 'decimal-counter':
      // Without a size: the rule beside it refuses more digits, where a size would round them away.
      return 'numeric';
    case 'time':
      return 'time without time zone';
    case 'local-date-time':
      return 'timestamp without time zone';
    case 'real':
      return 'double precision';
    case 'boolean':
      return 'boolean';
    case 'timestamp':
      return 'timestamp(3) with time zone';
    case 'date':
      return 'date';
    case 'json':
    case 'file':
    case 'set':
      return 'jsonb';
    case 'bytes':
      return 'bytea';
    default:
      // Compared and ordered by code point, as everywhere in Koinon.
      return 'text COLLATE "C"';
  }
}

/** The rule that the table enforces beside the type, so that a row any program wrote can be read back as the column's type. */
export function columnRule(name: string, column: Column): string | undefined {
  switch (column.type) {
    case 'integer':
    case 'counter':
      return `${name} BETWEEN -9007199254740991 AND 9007199254740991`;
    case 'real':
      return `abs(${name}) <= 1.7976931348623157e308`;
    case 'decimal':
    case 'decimal-counter':
      return isDecimalSql(name, column);
    case 'time':
      return `${name} < '24:00'`;
    case 'timestamp':
    case 'date':
    case 'local-date-time':
      return `isfinite(${name}) AND extract(year FROM ${name}) BETWEEN -1 AND 9999`;
    case 'one-of':
      return `${name} IN (${column.oneOf?.map(quoteText).join(', ')})`;
    case 'file':
      return `jsonb_typeof(${name}) = 'object'`;
    case 'set':
      return `jsonb_typeof(${name}) = 'array'`;
    default:
      return undefined;
  }
}

/** Tells whether a number has no more digits after the point than the column has; neither has one that is not finite. */
function isDecimalSql(name: string, column: Column): string {
  return `(${name} IS NULL OR (scale(trim_scale(${name})) <= ${decimalSizeOf(column)?.scale ?? 0}) IS TRUE)`;
}

/** A number with all its digits after the point, as text; one that has more of them as it is, to be told from the others. */
function decimalSql(number: string, column: Column): string {
  const scale = decimalSizeOf(column)?.scale ?? 0;
  return `CASE WHEN ${isDecimalSql(number, column)} THEN round(${number}, ${scale})::text ELSE ${number}::text END`;
}

/** A column as it stands in the database. */
export interface ExistingColumn {
  /** Its quoted name. */
  readonly sql: string;
  /**
   * Its type, as PostgreSQL writes it, without a length: a cast to one cuts off what is too long, where the column itself
   * refuses it.
   */
  readonly type: string;
  /** The way in which the database fills a column in by itself: it computes the column, or the column has a default and may not be empty. */
  readonly filled?: 'always' | 'for none' | undefined;
  /** The time zone that its times are of, where they say none themselves. */
  readonly zone?: string | undefined;
}

/** A column of times without a zone as one of instants; every other column as it is. */
export function asInstants<Standing extends ExistingColumn>(standing: Standing): Standing {
  const { sql, type, zone } = standing;
  if (zone === undefined || !/^timestamp.* without time zone$/.test(type)) return standing;
  return { ...standing, sql: `(${sql} AT TIME ZONE ${quoteText(zone)})`, type: 'timestamp with time zone' };
}

/** An expression for reading a column, in the form {@link readValue} takes. */
export function readSql(column: Column, standing: ExistingColumn): string {
  const { sql, type } = asInstants(standing);
  switch (column.type) {
    case 'decimal':
    case 'decimal-counter':
      return isText(type) ? `${sql}::text` : decimalSql(type === 'numeric' ? sql : `${sql}::numeric`, column);
    case 'local-date-time':
      return isText(type) ? `${sql}::text` : `replace(${sql}::text, ' ', 'T')`;
    case 'boolean':
      return type === 'boolean' ? sql : `(${sql} <> 0)`;
    case 'timestamp':
      return `CASE WHEN isfinite(${sql}) THEN floor(extract(epoch FROM ${sql}) * 1000)::text ELSE ${sql}::text END`;
    case 'date':
      return isText(type) ? `${sql}::text` : `${sql}::date::text`;
    case 'json':
    case 'file':
      return isText(type) ? `${sql}::text` : type.endsWith('[]') ? `to_jsonb(${sql})` : sql;
    case 'set':
      return isText(type) ? `${sql}::text` : `to_jsonb(${sql})`;
    case 'bytes':
      return sql;
    default:
      return `${sql}::text`;
  }
}

/**
 * An expression for a column as JSON has it, and one that tells whether its value is of the column's type; undefined where
 * PostgreSQL cannot write it as Koinon does.
 */
export function jsonSql(column: Column, { sql, type }: ExistingColumn): { json: string; fits: string } | undefined {
  if (type !== columnType(column).replace(' COLLATE "C"', '').replace('(3)', '')) return undefined;
  switch (column.type) {
    case 'decimal':
    case 'decimal-counter':
      return { json: decimalSql(sql, column), fits: isDecimalSql(sql, column) };
    case 'big-integer':
      return { json: `${sql}::text`, fits: 'true' };
    case 'time':
      return { json: `${sql}::text`, fits: `${sql} < '24:00'` };
    case 'local-date-time':
      return {
        json: `replace(${sql}::text, ' ', 'T')`,
        fits: `${sql} >= '0001-01-01' AND ${sql} < '10000-01-01'`,
      };
    case 'integer':
    case 'counter':
      return { json: sql, fits: `${sql} BETWEEN -9007199254740991 AND 9007199254740991` };
    case 'real':
      // Minus zero is zero.
      return { json: `${sql} + 0`, fits: `abs(${sql}) <= 1.7976931348623157e308` };
    case 'timestamp': {
      const at = `${sql} AT TIME ZONE 'UTC'`;
      return {
        json: `to_char(${at}, 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"')`,
        fits: `${sql} >= '0001-01-01Z' AND ${sql} < '10000-01-01Z'`,
      };
    }
    case 'date':
      return { json: `${sql}::text`, fits: `${sql} >= '0001-01-01' AND ${sql} < '10000-01-01'` };
    case 'set':
      return {
        json: sql,
        fits: `jsonb_typeof(${sql}) = 'array' AND NOT EXISTS (SELECT FROM jsonb_array_elements(CASE jsonb_typeof(${sql}) WHEN 'array' THEN ${sql} END) m GROUP BY m HAVING jsonb_typeof(m) <> 'string' OR count(*) > 1)`,
      };
    case 'boolean':
    case 'json':
    case 'file':
    case 'text':
    case 'reference':
    case 'one-of':
      return { json: sql, fits: 'true' };
    default:
      return undefined;
  }
}

/** The value of a column of this type that was read; undefined where it cannot be one of the schema's. */
export function readValue(column: Column, raw: unknown, { type }: ExistingColumn): unknown {
  if (raw === null || raw === undefined) return null;
  switch (column.type) {
    case 'integer':
    case 'counter':
    case 'real':
      return Number(raw);
    case 'big-integer':
      return /^-?\d+$/.test(raw as string) ? BigInt(raw as string) : undefined;
    case 'decimal':
    case 'decimal-counter':
    case 'time':
      return inOneForm(column, raw);
    case 'local-date-time':
      return inOneForm(column, (raw as string).replace(/^0001-(.*) BC$/, '0000-$1'));
    case 'timestamp':
      return instantOf(Number(raw));
    case 'date':
      // PostgreSQL has no year 0: the year before 1 is 1 BC.
      return (raw as string).replace(/^0001-(.*) BC$/, '0000-$1');
    case 'json':
    case 'file':
    case 'set':
      return isText(type) ? parsed(raw as string) : raw;
    case 'bytes':
      return new Uint8Array(raw as Uint8Array);
    default:
      return raw;
  }
}

/** PostgreSQL's years go further than JavaScript's. */
function instantOf(time: number): string | undefined {
  const at = new Date(time);
  return Number.isNaN(at.getTime()) ? undefined : at.toISOString();
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

/** An expression for writing a column from a numbered parameter. */
export function writeSql(column: Column, { type, zone }: ExistingColumn, number: number): string {
  if ((column.type === 'set' || column.type === 'json') && type.endsWith('[]'))
    return `CASE WHEN $${number}::jsonb IS NOT NULL THEN ARRAY(SELECT jsonb_array_elements_text($${number}::jsonb))::${type} END`;
  if (zone !== undefined && column.type === 'timestamp' && type.startsWith('timestamp'))
    return `($${number}::timestamptz AT TIME ZONE ${quoteText(zone)})::${type}`;
  if (column.type === 'boolean' && type !== 'boolean') return `$${number}::boolean::integer::${type}`;
  return `$${number}::${type}`;
}

/** The parameter for a value. */
export function parameter(column: Column, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  switch (column.type) {
    case 'json':
    case 'file':
    case 'set':
      return JSON.stringify(value);
    case 'bytes':
      return Buffer.from(value as Uint8Array);
    case 'big-integer':
      return String(value);
    case 'timestamp':
    case 'date':
    case 'local-date-time':
      return (value as string).startsWith('0000-') ? `0001${(value as string).slice(4)} BC` : value;
    default:
      return value;
  }
}

/** Tells whether two values of a column are not the same, for a trigger: a fixed search path, and types without equality. */
export function differsSql(type: string, one: string, other: string): string {
  if (/^(json|xml|point|polygon|box|path|circle|line)(\b|$)/.test(type))
    return `${one}::text IS DISTINCT FROM ${other}::text`;
  // A collation of the column's own might call two different texts equal.
  if (isText(type) || type === 'citext')
    return `(${one}::text COLLATE "C") IS DISTINCT FROM (${other}::text COLLATE "C")`;
  return `${one} IS DISTINCT FROM ${other}`;
}

/** Tells whether a row counts as there, by the column that marks it as deleted. */
export function aliveSql(mark: ExistingColumn, row: string): string {
  const column = `${row}.${mark.sql}`;
  return mark.type === 'boolean' ? `${column} IS NOT TRUE` : `${column} IS NULL`;
}

function isText(type: string): boolean {
  return /^(text|character|bpchar)/.test(type) && !type.endsWith('[]');
}
