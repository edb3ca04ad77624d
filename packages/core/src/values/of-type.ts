import type { Column } from '../schema/column.ts';
import { checkValue } from './check.ts';

/**
 * Reads what another program wrote where nothing holds it to the column's type: a value that is not of the type is as good
 * as none. None is null, also where the column wants a value; counters and sets, which always have one, are zero and empty.
 * The column's rules are not looked at.
 */
export function readerOfType(column: Column): (value: unknown) => unknown {
  const { type } = column;
  const bare = { type: type === 'one-of' ? 'text' : type, optional: true } as Column;
  const none = type === 'set' ? [] : type === 'counter' ? 0 : null;
  return (value) =>
    value === null || value === undefined || checkValue(bare, value) !== undefined ? none : (value as unknown);
}
