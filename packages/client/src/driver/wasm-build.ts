import { KoinonError } from '@koinon/core';
import start, { type Sqlite3Static } from '@sqlite.org/sqlite-wasm';

/**
 * Starts SQLite's WebAssembly build, in the worker that runs a database: whoever imports this loads all of it.
 *
 * @throws KoinonError `storage-refused` when the browser cannot have it.
 */
export async function startSqlite(): Promise<Sqlite3Static> {
  try {
    return await start();
  } catch (error) {
    throw new KoinonError(
      'storage-refused',
      `SQLite’s WebAssembly file cannot be loaded: ${(error as Error).message}. It has to be served, and kept for offline use, with the app’s scripts; a bundler that does not bring it along must leave @sqlite.org/sqlite-wasm as it is.`,
      { cause: error },
    );
  }
}
