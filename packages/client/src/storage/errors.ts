import { KoinonError } from '@koinon/core';

/** SQLite's primary result codes that mean something to an app. */
const meanings = {
  5: ['replica-busy', 'Another process is writing to the database; try again.'],
  6: ['replica-busy', 'The database is locked by this process; try again.'],
  8: ['storage-refused', 'The database cannot be written: the file or its folder is read-only.'],
  10: ['storage-refused', 'The storage failed to read or write.'],
  11: ['storage-damaged', 'The database file is damaged. Restore it from a copy, or start over from the server.'],
  13: ['storage-full', 'The disk is full; nothing was written. Free some space and try again.'],
  14: ['storage-refused', 'The database file cannot be opened. Check that its folder exists and can be written.'],
  26: ['storage-foreign', 'The file is not an SQLite database.'],
} as const;

/** SQLite's own words for these codes: some failures come without the number. */
const words: readonly (readonly [string, keyof typeof meanings])[] = [
  ['database is locked', 5],
  ['readonly database', 8],
  ['disk I/O error', 10],
  ['disk image is malformed', 11],
  ['disk is full', 13],
  ['unable to open database file', 14],
  ['is not a database', 26],
];

/** An error of the storage under its own code; any other error as it is. */
export function storageError(error: unknown, file?: string): unknown {
  if (error instanceof KoinonError || !(error instanceof Error)) return error;
  const given = error as { errcode?: unknown; sqliteCode?: unknown };
  const code =
    Number(given.errcode ?? given.sqliteCode ?? 0) & 0xff || words.find(([said]) => error.message.includes(said))?.[1];
  const meaning = meanings[code as keyof typeof meanings];
  if (!meaning) return error;
  return new KoinonError(meaning[0], `${file ? `${file}: ` : ''}${meaning[1]} (${error.message})`, { cause: error });
}
