import type { ColumnType } from '@koinon/core';
import { type DecimalSize, mostDigits } from '@koinon/core/internal';
import type { ColumnMapping } from '../store/mapping.ts';
import type { CatalogColumn, Found } from './catalog.ts';

/** How much of a column's values an app has. */
export type Verdict = 'exact' | 'loses' | 'read only' | 'not taken' | 'marks deletion';

/** The type that a column gets in a schema, and what that means for its values. */
export interface ChosenType {
  readonly type: ColumnType;
  readonly verdict: Exclude<Verdict, 'not taken' | 'marks deletion'>;
  /** Why the verdict is not `exact`, or what else is to be known. */
  readonly why?: string;
  readonly oneOf?: readonly string[];
  /** The digits of an exact number. */
  readonly size?: DecimalSize;
  /** The TypeScript type of a JSON column. */
  readonly json?: string;
  /** What the mapping says of the column beside its name. */
  readonly form?: Omit<ColumnMapping, 'name'>;
  readonly minimum?: number;
  readonly maximum?: number;
  readonly maximumLength?: number;
}

/** The reason why a column cannot be taken. */
export interface NoType {
  readonly why: string;
  /** What the owner of the database can do about it. */
  readonly wayOut?: string;
}

/** The type for a column; an object with `why` alone where there is none. */
export function typeFor(dialect: 'SQLite' | 'PostgreSQL', column: CatalogColumn): ChosenType | NoType {
  return dialect === 'SQLite' ? sqliteType(column) : postgresType(column);
}

const exact = (type: ColumnType, more: Partial<ChosenType> = {}): ChosenType => ({ type, verdict: 'exact', ...more });
const readOnly = (type: ColumnType, why: string): ChosenType => ({ type, verdict: 'read only', why });
/** A type that the store takes only where the mapping says that the loss is known. */
const lossy = (type: ColumnType, why: string, more: Partial<ChosenType> = {}): ChosenType => ({
  ...more,
  ...{ type, verdict: 'loses', why, form: { lossy: true } },
});

/** Digits that every decimal number keeps in a double (IEEE 754). */
const safeDigits = 15;

/** Digits after the point for a column that is declared without: as many as rates and measures have. */
const undeclaredScale = 10;

/** An exact number with as many digits as the column is declared with. */
function decimal([precision, scale = 0]: readonly number[]): ChosenType {
  if (precision === undefined)
    return {
      ...{ type: 'decimal', verdict: 'loses', size: { precision: mostDigits, scale: undeclaredScale } },
      why: `numbers with more than ${undeclaredScale} digits after the point, which the column may have since it has no size`,
    };
  if (scale < 0 || scale > precision || precision > mostDigits)
    return lossy('real', `digits after the ${safeDigits}th, of ${precision}`);
  if (scale > 0) return exact('decimal', { size: { precision, scale } });
  if (precision > safeDigits) return exact('decimal', { size: { precision, scale } });
  const largest = 10 ** precision;
  return exact('integer', { minimum: 1 - largest, maximum: largest - 1 });
}

function postgresType({ baseType, size, values }: CatalogColumn): ChosenType | NoType {
  if (values !== undefined) return exact('one-of', { oneOf: values });
  const [length] = size;
  switch (baseType) {
    case 'text':
    case 'citext':
    case 'uuid':
      return exact('text');
    case 'character varying':
      return exact('text', length === undefined ? {} : { maximumLength: length });
    case 'character':
    case 'bpchar':
      return exact('text', {
        ...(length === undefined ? {} : { maximumLength: length }),
        why: 'blanks at the end are not kept',
      });
    case 'smallint':
      return exact('integer', { minimum: -32_768, maximum: 32_767 });
    case 'integer':
      return exact('integer', { minimum: -2_147_483_648, maximum: 2_147_483_647 });
    case 'bigint':
      return exact('big-integer');
    case 'money':
      return exact('decimal', { size: { precision: 19, scale: 2 } });
    case 'numeric':
      return decimal(size);
    case 'real':
      return lossy('real', 'digits after the 6th');
    case 'double precision':
      return exact('real');
    case 'boolean':
      return exact('boolean');
    case 'date':
      return exact('date');
    case 'timestamp with time zone':
      if (length === 3) return exact('timestamp');
      return lossy('timestamp', (length ?? 6) > 3 ? 'what is finer than a millisecond' : 'milliseconds');
    case 'timestamp without time zone':
      return localTime(
        'local-date-time',
        length,
        'no time zone is meant; where one is, take timestamp() and name the zone in the mapping',
      );
    case 'time without time zone':
      return localTime('time', length);
    case 'time with time zone':
    case 'interval':
    case 'inet':
    case 'cidr':
    case 'macaddr':
    case 'macaddr8':
    case 'xml':
    case 'bit':
    case 'bit varying':
      return readOnly('text', `${baseType} comes as its text; the database may write a text in another form`);
    case 'json':
    case 'jsonb':
      return exact('json');
    case 'bytea':
      return exact('bytes');
    case 'text[]':
    case 'character varying[]':
    case 'uuid[]':
      return exact('json', { json: 'readonly string[]' });
    case 'smallint[]':
    case 'integer[]':
    case 'double precision[]':
      return exact('json', { json: 'readonly number[]' });
    case 'bigint[]':
    case 'numeric[]':
      return lossy('json', 'digits of numbers that JavaScript rounds', { json: 'readonly number[]' });
    case 'boolean[]':
      return exact('json', { json: 'readonly boolean[]' });
    default:
      return { why: `there is no type for ${baseType}`, wayOut: 'add a column, or a generated one, of another type' };
  }
}

/** A time of a clock, which the database may keep with fewer digits than a device gives. */
function localTime(type: ColumnType, digits: number | undefined, why?: string): ChosenType {
  if (digits !== undefined && digits < 6) return lossy(type, 'microseconds');
  return exact(type, why === undefined ? {} : { why });
}

function sqliteType(column: CatalogColumn): ChosenType | NoType {
  const { baseType, size } = column;
  const found = column.found ?? nothing;
  const [length] = size;
  if (/bool/.test(baseType)) return others(found, found.bits) === 0 ? exact('boolean') : whole(found);
  if (/datetime|timestamp/.test(baseType)) return time(found);
  if (/int/.test(baseType)) return whole(found);
  if (/^date$/.test(baseType)) return found.days === found.rows ? exact('date') : textual(found);
  if (/json/.test(baseType)) return found.json === found.rows ? exact('json') : textual(found);
  if (/char|clob|text|uuid|guid|^time$/.test(baseType))
    return textual(
      found,
      /char/.test(baseType) && length !== undefined ? `SQLite does not keep it to ${length} characters` : undefined,
    );
  if (/dec|numeric|money|number/.test(baseType) && (size[1] ?? 0) > 0) return sqliteDecimal(found, size);
  if (/real|floa|doub|dec|numeric|money|number/.test(baseType)) return number(found);
  if (/blob|bytes/.test(baseType)) return found.bytes === found.rows ? exact('bytes') : mixed(found);
  return bySample(found);
}

const nothing: Found = {
  ...{ rows: 0, whole: 0, large: 0, real: 0, text: 0, bytes: 0, bits: 0, json: 0, days: 0, times: 0, plainTimes: 0 },
};

const others = (found: Found, fitting: number) => found.rows - fitting;

/** SQLite keeps such a number as a double. */
function sqliteDecimal(found: Found, [precision = 0, scale = 0]: readonly number[]): ChosenType | NoType {
  const chosen = fitting('decimal', found, found.whole + found.real, 'numbers');
  if (!('type' in chosen) || precision < scale) return number(found);
  const size = { precision: Math.min(precision, mostDigits), scale: Math.min(scale, mostDigits) };
  return precision > safeDigits ? lossy('decimal', `digits after the ${safeDigits}th`, { size }) : { ...chosen, size };
}

function whole(found: Found): ChosenType | NoType {
  if (found.large > 0) return fitting('big-integer', found, found.whole, 'numbers without a fraction');
  return fitting('integer', found, found.whole, 'numbers without a fraction');
}

function number(found: Found): ChosenType | NoType {
  return fitting('real', found, found.whole + found.real, 'numbers');
}

function textual(found: Found, why?: string): ChosenType | NoType {
  const chosen = fitting('text', found, found.text, 'texts');
  return why === undefined || 'why' in chosen ? chosen : { ...chosen, why };
}

/** Nearly everything fits: what does not is left alone, and devices get none for it. */
function fitting(type: ColumnType, found: Found, count: number, what: string): ChosenType | NoType {
  const wrong = others(found, count);
  if (wrong === 0) return exact(type);
  if (wrong > found.rows / 2) return mixed(found);
  return {
    type,
    verdict: 'loses',
    why: `${wrong} of ${found.rows} values that were looked at are no ${what}; devices get none for them`,
  };
}

function time(found: Found): ChosenType | NoType {
  if (found.times === found.rows) return exact('timestamp');
  if (found.plainTimes === found.rows)
    return exact('timestamp', {
      form: { format: 'space-separated' },
      why: 'times without a zone are read as UTC; another zone is named in the mapping',
    });
  if (found.times + found.plainTimes === found.rows)
    return readOnly('timestamp', 'times are in two forms, and a device would write one');
  if (found.whole === found.rows)
    return exact('integer', { why: 'a time as a number; timestamp() and a format in the mapping make a time of it' });
  return found.text === found.rows ? readOnly('text', 'times are in more than one form') : mixed(found);
}

function bySample(found: Found): ChosenType | NoType {
  if (found.rows === 0) return { why: 'it has no type, and no row holds a value', wayOut: 'declare a type' };
  if (found.whole === found.rows) return whole(found);
  if (found.whole + found.real === found.rows) return number(found);
  if (found.text === found.rows) return textual(found);
  return found.bytes === found.rows ? exact('bytes') : mixed(found);
}

function mixed(found: Found): NoType {
  const kinds = [
    [found.whole, 'whole numbers'],
    [found.real, 'numbers'],
    [found.text, 'texts'],
    [found.bytes, 'blobs'],
  ] as const;
  const named = kinds.flatMap(([count, name]) => (count > 0 ? [`${name} (${count})`] : []));
  return { why: `it holds values of several kinds: ${named.join(', ')}`, wayOut: 'bring them into one form' };
}
