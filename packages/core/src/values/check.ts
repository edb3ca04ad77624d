import type { ErrorCode } from '../errors/errors.ts';
import type { SentenceName, SentenceParameters } from '../errors/sentences.ts';
import { limits } from '../limits.ts';
import type { Column } from '../table/column.ts';
import type { FileValue } from '../table/file-value.ts';
import { compareText } from './compare.ts';
import { compareDecimals, type DecimalSize, decimalSizeOf, readDecimal } from './decimal.ts';
import { fileValue, isFileValue, isOfType } from './file.ts';

/** Why a value is refused: the error code, the name of the rule that it breaks, and what the rule's text is made of. */
export interface Refusal {
  readonly code: ErrorCode;
  readonly rule: SentenceName;
  readonly parameters: SentenceParameters;
}

const type = (rule: SentenceName, parameters: SentenceParameters = {}): Refusal => ({
  code: 'value-type',
  rule,
  parameters,
});
const range = (rule: SentenceName, parameters: SentenceParameters): Refusal => ({
  code: 'value-range',
  rule,
  parameters,
});

/** Checks one value against its column's type, presence and rules. Nothing returned: the value is good. */
export function checkValue(column: Column, value: unknown): Refusal | undefined {
  if (value === null) return column.optional ? undefined : { code: 'value-missing', rule: 'required', parameters: {} };
  switch (column.type) {
    case 'text':
      return checkText(value) ?? checkTextLength(column, value as string);
    case 'reference':
      return checkText(value) ?? (value === '' ? type('row-id-expected') : undefined);
    case 'integer':
    case 'counter':
      if (!Number.isSafeInteger(value)) return type('whole-number-expected');
      return checkRange(column, value as number);
    case 'real':
      if (typeof value !== 'number' || !Number.isFinite(value)) return type('number-expected');
      return checkRange(column, value);
    case 'decimal':
    case 'decimal-counter':
      return checkDecimal(value, decimalSizeOf(column) as DecimalSize) ?? checkDecimalRange(column, value as string);
    case 'big-integer':
      if (typeof value !== 'bigint' || BigInt.asIntN(64, value) !== value) return type('big-integer-expected');
      return checkDecimalRange(column, String(value));
    case 'boolean':
      return typeof value === 'boolean' ? undefined : type('true-or-false-expected');
    case 'timestamp':
      return isTimestamp(value) ? undefined : type('time-expected');
    case 'date':
      return isDate(value) ? undefined : type('day-expected');
    case 'time':
      return localTime(value) === undefined ? type('time-of-day-expected') : undefined;
    case 'local-date-time':
      return localDateTime(value) === undefined ? type('local-time-expected') : undefined;
    case 'one-of':
      return typeof value === 'string' && column.oneOf?.includes(value)
        ? undefined
        : { code: 'value-not-listed', rule: 'one-of-expected', parameters: { list: column.oneOf ?? [] } };
    case 'json':
      return checkJson(value, 0);
    case 'file':
      return checkFile(column, value);
    case 'bytes':
      if (!(value instanceof Uint8Array)) return type('bytes-expected');
      return checkLength(column, value.byteLength, 'bytes');
    case 'set':
      return checkSet(value);
  }
}

/** Tells whether an id may be one under which a device made a row whose key the database gives: a UUID, in lower case. */
export const isProvisionalId = (id: string): boolean => /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(id);

/** Checks a row's id. */
export function checkId(value: unknown): Refusal | undefined {
  const wrong = checkText(value);
  if (wrong) return wrong;
  const length = (value as string).length;
  return length === 0 || length > 200 ? range('id-length', { limit: 200 }) : undefined;
}

/** The value as it is kept: minus zero as zero, exact numbers and times in one form, sets sorted, objects and arrays as frozen copies. */
export function normalize(column: Column, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  if (Object.is(value, -0)) return 0;
  if (column.type === 'json') return frozenJson(value);
  if (column.type === 'file') return fileValue(value as FileValue);
  if (column.type === 'set') return Object.freeze([...(value as readonly string[])].sort(compareText));
  if (column.type === 'bytes') return new Uint8Array(value as Uint8Array);
  return inOneForm(column, value);
}

/** A number or time that can be written in several ways, in the one in which it is kept; anything else as it is. */
export function inOneForm(column: Column, value: unknown): unknown {
  switch (column.type) {
    case 'decimal':
    case 'decimal-counter': {
      const read = readDecimal(value, decimalSizeOf(column) as DecimalSize);
      return 'text' in read ? read.text : value;
    }
    case 'time':
      return localTime(value) ?? value;
    case 'local-date-time':
      return localDateTime(value) ?? value;
    default:
      return value;
  }
}

function checkDecimal(value: unknown, size: DecimalSize): Refusal | undefined {
  const read = readDecimal(value, size);
  if ('text' in read) return undefined;
  const { precision, scale } = size;
  if (read.fault === 'form')
    return type('decimal-expected', { example: `12${scale === 0 ? '' : `.${'5'.padEnd(scale, '0')}`}` });
  return read.fault === 'scale'
    ? range('decimal-scale', { limit: scale })
    : range('decimal-digits', { limit: precision - scale });
}

function checkDecimalRange({ minimum, maximum }: Column, value: string): Refusal | undefined {
  if (minimum !== undefined && compareDecimals(value, String(minimum)) < 0) return range('minimum', { limit: minimum });
  if (maximum !== undefined && compareDecimals(value, String(maximum)) > 0) return range('maximum', { limit: maximum });
  return undefined;
}

function checkFile({ types, maximumBytes = limits.fileBytes }: Column, value: unknown): Refusal | undefined {
  if (!isFileValue(value)) return type('file-expected');
  if (types !== undefined && !isOfType(value.type, types)) return type('file-type', { list: types, given: value.type });
  if (value.bytes > maximumBytes) return range('file-size', { limit: maximumBytes, given: value.bytes });
  return undefined;
}

function checkText(value: unknown): Refusal | undefined {
  if (typeof value !== 'string') return type('text-expected');
  if (value.includes('\0')) return type('no-zero-character');
  // A lone surrogate has no UTF-8 form: SQLite would store another character in its place.
  if (!value.isWellFormed()) return type('whole-characters');
  return undefined;
}

function checkLength(column: Column, length: number, unit: 'characters' | 'bytes'): Refusal | undefined {
  if (column.minimumLength !== undefined && length < column.minimumLength)
    return range(`least-${unit}`, { limit: column.minimumLength, length });
  if (column.maximumLength !== undefined && length > column.maximumLength)
    return range(`most-${unit}`, { limit: column.maximumLength, length });
  return undefined;
}

function checkTextLength(column: Column, value: string): Refusal | undefined {
  if (column.minimumLength === undefined && column.maximumLength === undefined) return undefined;
  return checkLength(column, [...value].length, 'characters');
}

function checkRange(column: Column, value: number): Refusal | undefined {
  const { minimum, maximum } = column;
  if (minimum !== undefined && value < Number(minimum)) return range('minimum', { limit: minimum });
  if (maximum !== undefined && value > Number(maximum)) return range('maximum', { limit: maximum });
  return undefined;
}

const dayForm = /^(\d{4})-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])$/;
const timeForm = /^T([01]\d|2[0-3]):[0-5]\d:[0-5]\d\.\d{3}Z$/;

/** Tells whether this is an instant in the one form Koinon keeps. */
export function isTimestamp(value: unknown): value is string {
  return (
    typeof value === 'string' && value.length === 24 && timeForm.test(value.slice(10)) && isDate(value.slice(0, 10))
  );
}

/** Tells whether this is an existing calendar day as `YYYY-MM-DD`. */
export function isDate(value: unknown): value is string {
  const parts = typeof value === 'string' ? dayForm.exec(value) : null;
  if (parts === null) return false;
  const day = Number(parts[3]);
  return day <= 28 || day <= new Date(Date.UTC(Number(parts[1]) || 400, Number(parts[2]), 0)).getUTCDate();
}

const clockForm = /^([01]\d|2[0-3]):([0-5]\d)(?::([0-5]\d)(?:\.(\d{1,6}))?)?$/;

/** A time of day in the form in which it is kept; undefined where it is none. */
function localTime(value: unknown): string | undefined {
  const parts = typeof value === 'string' ? clockForm.exec(value) : null;
  if (parts === null) return undefined;
  const [, hour, minute, second = '00', fraction = ''] = parts;
  const digits = fraction.replace(/0+$/, '');
  return `${hour}:${minute}:${second}${digits === '' ? '' : `.${digits}`}`;
}

/** A day and a time of day in the form in which it is kept; undefined where it is none. */
function localDateTime(value: unknown): string | undefined {
  if (typeof value !== 'string' || value[10] !== 'T' || !isDate(value.slice(0, 10))) return undefined;
  const at = localTime(value.slice(11));
  return at === undefined ? undefined : `${value.slice(0, 11)}${at}`;
}

function checkSet(value: unknown): Refusal | undefined {
  if (!Array.isArray(value)) return type('texts-expected');
  for (const member of value) {
    const wrong = checkText(member);
    if (wrong) return wrong;
  }
  return new Set(value).size === value.length ? undefined : type('texts-once');
}

const deepest = 64;

function checkJson(value: unknown, depth: number): Refusal | undefined {
  if (depth > deepest) return type('json-levels', { limit: deepest });
  if (value === null || typeof value === 'boolean') return undefined;
  if (typeof value === 'number') return Number.isFinite(value) ? undefined : type('json-numbers');
  if (typeof value === 'string') return checkText(value);
  if (Array.isArray(value)) return firstOf(value, depth);
  if (typeof value !== 'object') return type('json-expected');
  const prototype = Object.getPrototypeOf(value);
  if (prototype !== Object.prototype && prototype !== null) return type('json-objects');
  // Servers take no such request: whoever copied the members carelessly would have his objects changed by it.
  if (Object.hasOwn(value, '__proto__')) return type('json-prototype');
  return firstOf(Object.keys(value), depth) ?? firstOf(Object.values(value), depth);
}

function firstOf(values: readonly unknown[], depth: number): Refusal | undefined {
  for (const value of values) {
    const wrong = checkJson(value, depth + 1);
    if (wrong) return wrong;
  }
  return undefined;
}

function frozenJson(value: unknown): unknown {
  if (Array.isArray(value)) return Object.freeze(value.map(frozenJson));
  if (value !== null && typeof value === 'object')
    return Object.freeze(Object.fromEntries(Object.entries(value).map(([key, member]) => [key, frozenJson(member)])));
  return Object.is(value, -0) ? 0 : value;
}
