import { KoinonError } from '@koinon/core';

/**
 * How a database is opened: `prepare` makes in it what it lacks to be served; `serve` refuses one that lacks something; `read`
 * changes nothing at all, and cannot be written through.
 */
export type StoreMode = 'prepare' | 'serve' | 'read';

/** The refusal of a database that lacks something. */
export function notPrepared(database: string, isServed: boolean, lacking: number): KoinonError {
  return isServed
    ? new KoinonError(
        'not-served',
        `${database} lacks ${lacking} of the statements that Koinon needs; print them with "koinon ddl" and run them, or start "koinon serve" without --no-prepare.`,
      )
    : new KoinonError(
        'not-served',
        `${database} is not served by Koinon yet: start "koinon serve" on it, or print what it lacks with "koinon ddl" and run that.`,
      );
}

/** The refusal to write through a store that was opened to be read. */
export function onlyRead(): KoinonError {
  return new KoinonError('storage-refused', 'This store was opened to be read; nothing is written through it.');
}
