import { argumentInvalid, options, text, word } from '../engine/arguments.ts';
import type { Direction } from './state.ts';

/** How a sync by hand is to run. */
export function syncOptions(given: unknown): { readonly direction?: Direction; readonly signal?: AbortSignal } {
  const { direction, signal } = options('options', given, ['direction', 'signal']);
  if (signal !== undefined && !(signal instanceof AbortSignal))
    throw argumentInvalid('signal', signal, 'an AbortSignal');
  return {
    ...(direction === undefined ? {} : { direction: word('direction', direction, ['both', 'push', 'pull']) }),
    ...(signal === undefined ? {} : { signal }),
  };
}

/** Characters that the name of a holding may have. */
const longestName = 200;

/** The name under which rows are asked for. */
export function holdingName(name: unknown): string {
  const given = text('name', name);
  if (given === '' || given.length > longestName)
    throw argumentInvalid('name', name, `a text of 1 to ${longestName} characters`);
  return given;
}

/** The rows that are asked for. */
export function heldRows(rows: unknown): { readonly from: string; readonly where?: unknown } {
  const { from, where } = options('rows', rows, ['from', 'where']);
  return { from: text('rows.from', from), ...(where !== undefined && { where }) };
}
