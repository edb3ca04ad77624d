import { type ErrorCode, KoinonError } from '@koinon/core';
import { messageOf } from '@koinon/core/internal';

/** SQLite's result codes that mean something to an app; its own words for them, since some failures come without; and ours. */
const meanings: readonly (readonly [result: number, said: string, code: ErrorCode, message: string])[] = [
  [5, 'database is locked', 'replica-busy', 'Another process is writing to the database; try again.'],
  [6, 'table is locked', 'replica-busy', 'This process is writing to the database; try again.'],
  [8, 'readonly database', 'storage-refused', 'The database file or its folder is read-only.'],
  [10, 'disk I/O error', 'storage-refused', 'The storage failed to read or write.'],
  [
    11,
    'image is malformed',
    'storage-damaged',
    'The database file is damaged. Put it aside and restore a copy, or start over from the server; `koinon rescue` reads what it still has.',
  ],
  [13, 'disk is full', 'storage-full', 'The disk is full; nothing was written. Free some space and try again.'],
  [
    14,
    'unable to open',
    'storage-refused',
    'The database file cannot be opened. Check that its folder exists and can be written.',
  ],
  [26, 'is not a database', 'storage-foreign', 'The file is not an SQLite database.'],
];

/** The file holds what was never written to it. */
export function storageDamaged(cause: unknown): KoinonError {
  const [, , code, message] = meanings.find(([result]) => result === 11) as (typeof meanings)[number];
  return new KoinonError(code, `${message} (${messageOf(cause)})`, { cause });
}

/** An error of the storage under its own code; any other error as it is. */
export function storageError(error: unknown, file?: string): unknown {
  if (error instanceof KoinonError || !(error instanceof Error)) return error;
  const given = error as { errcode?: unknown; sqliteCode?: unknown };
  const number = Number(given.errcode ?? given.sqliteCode ?? 0) & 0xff;
  for (const [result, said, code, message] of meanings)
    if (number ? number === result : error.message.includes(said))
      return new KoinonError(code, `${file ? `${file}: ` : ''}${message} (${error.message})`, { cause: error });
  return error;
}
