import type { ColumnType } from '@koinon/core';
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

/** Digits that every decimal number keeps in a double (IEEE 754). */
const safeDigits = 15;

function decimal(size: readonly number[]): ChosenType {
  const [digits, scale = 0] = size;
  if (digits === undefined) return { type: 'real', verdict: 'loses', why: `digits after the ${safeDigits}th` };
  if (digits > safeDigits)
    return { type: 'real', verdict: 'loses', why: `digits after the ${safeDigits}th, of ${digits}` };
  const largest = 10 ** (digits - Math.max(scale, 0));
  if (scale <= 0) return exact('integer', { minimum: 1 - largest, maximum: largest - 1 });
  return exact('real', { why: 'sums are rounded as JavaScript rounds them' });
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
      return { type: 'integer', verdict: 'loses', why: 'numbers beyond 2^53; devices get none for them' };
    case 'numeric':
      return decimal(size);
    case 'real':
    case 'double precision':
      return exact('real');
    case 'boolean':
      return exact('boolean');
    case 'date':
      return exact('date');
    case 'timestamp with time zone':
      return length !== undefined && length <= 3
        ? exact('timestamp')
        : { type: 'timestamp', verdict: 'loses', why: 'what is finer than a millisecond' };
    case 'timestamp without time zone':
      return readOnly('text', 'a time without a zone would be shifted; it comes as its text');
    case 'time without time zone':
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
      return readOnly('set', 'the order of an array, and members that occur twice, are not kept');
    default:
      return { why: `there is no type for ${baseType}`, wayOut: 'add a column, or a generated one, of another type' };
  }
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
  if (/real|floa|doub|dec|numeric|money|number/.test(baseType)) return number(found);
  if (/blob|bytes/.test(baseType)) return found.bytes === found.rows ? exact('bytes') : mixed(found);
  return bySample(found);
}

const nothing: Found = {
  ...{ rows: 0, whole: 0, large: 0, real: 0, text: 0, bytes: 0, bits: 0, json: 0, days: 0, times: 0, plainTimes: 0 },
};

const others = (found: Found, fitting: number) => found.rows - fitting;

function whole(found: Found): ChosenType | NoType {
  if (found.large > 0)
    return { type: 'integer', verdict: 'loses', why: 'numbers beyond 2^53; devices get none for them' };
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
  if (found.times + found.plainTimes === found.rows)
    return readOnly('timestamp', 'times are written as 2026-05-01 09:30:00, and a device would write another form');
  if (found.whole === found.rows)
    return exact('integer', { why: 'a time as a number: seconds or milliseconds since 1970' });
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
