import { argumentInvalid, options, word } from '../engine/arguments.ts';
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
