import { isValid } from 'js-base64';
import type { Column, JsonValue } from '../table/column.ts';
import { checkValue } from './check.ts';

/**
 * Reads what another program wrote where nothing holds it to the column's type: a value that is not of the type is as good
 * as none. None is null, also where the column wants a value; counters and sets, which always have one, are zero and empty.
 * The column's rules are not looked at.
 */
export function readerOfType(column: Column): (value: unknown) => unknown {
  const bare = bareOf(column);
  const none = noneOf(column);
  return (value) =>
    value === null || value === undefined || checkValue(bare, value) !== undefined ? none : (value as unknown);
}

/** The type alone. Of a one-of any word is taken: a list grows, and an app may be older than what it reads. */
const bareOf = ({ type }: Column) => ({ type: type === 'one-of' ? 'text' : type, optional: true }) as Column;

/** Tells whether what JSON carried for a column is a value of its type, or null. The column's rules are not looked at. */
export function wireGuard(column: Column): (value: JsonValue | undefined) => boolean {
  const bare = bareOf(column);
  if (column.type === 'bytes')
    return (value) => value === null || value === undefined || (typeof value === 'string' && isValid(value));
  return (value) => value === undefined || checkValue(bare, value) === undefined;
}

/** The value that stands for one that is not of its column's type. */
export function noneOf({ type }: Column): JsonValue {
  return type === 'set' ? [] : type === 'counter' ? 0 : null;
}
