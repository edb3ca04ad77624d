import { isValid } from 'js-base64';
import type { Column, JsonValue } from '../table/column.ts';
import { checkValue, inOneForm } from './check.ts';
import { mostDigits } from './decimal.ts';
import { fromWire } from './wire.ts';

/**
 * Reads what another program wrote where nothing holds it to the column's type: a value that is not of the type is as good
 * as none. None is null, also where the column wants a value; counters and sets, which always have one, are zero and empty.
 * The column's rules are not looked at.
 */
export function readerOfType(column: Column): (value: unknown) => unknown {
  const bare = bareOf(column);
  const none = noneOf(column);
  return (value) => (value === null || value === undefined || !fits(bare, value) ? none : (value as unknown));
}

/** The type alone. Of a one-of any word is taken: a list grows, and an app may be older than what it reads. */
function bareOf({ type, scale = 0 }: Column): Column {
  return { type: type === 'one-of' ? 'text' : type, precision: mostDigits, scale, optional: true } as Column;
}

/** Tells whether a value is of a type, and in the form in which it is kept: in another one it would not be found again. */
const fits = (bare: Column, value: unknown) =>
  checkValue(bare, value) === undefined && inOneForm(bare, value) === value;

/** Tells whether what JSON carried for a column is a value of its type, or null. The column's rules are not looked at. */
export function wireGuard(column: Column): (value: JsonValue | undefined) => boolean {
  const bare = bareOf(column);
  if (column.type === 'bytes')
    return (value) => value === null || value === undefined || (typeof value === 'string' && isValid(value));
  return (value) => value === undefined || fits(bare, fromWire(column, value));
}

/** The value that stands for one that is not of its column's type. */
export function noneOf(column: Column): JsonValue {
  const { type } = column;
  if (type === 'decimal-counter') return inOneForm(column, '0') as string;
  return type === 'set' ? [] : type === 'counter' ? 0 : null;
}
