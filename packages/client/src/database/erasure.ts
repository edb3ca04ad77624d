import type { Database } from './database.ts';
import { dropMeta, meta, setMeta } from './layout.ts';

// Erased data is overwritten in the file (`secure_delete`). What was written of it before stands in the write-ahead log
// until that is written over, and an app that is killed rather than closed may leave it there for weeks.

/** Notes, in the transaction that erases something, that the log still holds it. */
export function noteErased(database: Database): void {
  setMeta(database, 'erased', 'in the log');
}

/** Tells whether the log may still hold something that was erased. */
export function isErasedInLog(database: Database): boolean {
  return meta(database, 'erased') !== undefined;
}

/**
 * Folds a log that holds what was erased into the file and empties it, outside of any transaction. While another process reads
 * the file that cannot be done: the note stays, for the next time.
 */
export function emptyLog(database: Database): void {
  if (!isErasedInLog(database)) return;
  const { driver } = database;
  const [waiting] = database.once('PRAGMA busy_timeout') as [{ timeout: number }];
  // Nobody is waited for: everything here would wait along.
  driver.exec('PRAGMA busy_timeout = 0');
  try {
    const [done] = database.once('PRAGMA wal_checkpoint(truncate)') as [{ busy: number }];
    if (done.busy === 0) database.transact(() => dropMeta(database, 'erased'));
  } catch {
    // A full disk, or another process that writes just now: what was erased is gone from the rows all the same.
  } finally {
    driver.exec(`PRAGMA busy_timeout = ${waiting.timeout}`);
  }
}

/** The rows of a sync run in the journal, by table. */
type RowsOfRun = Readonly<Record<string, { readonly first: readonly string[] }>>;

/** Takes the ids of rows that must not be named any more out of the journal of sync runs. */
export function eraseRunIds(database: Database, ids: ReadonlySet<string>): void {
  const runs = database.statement('SELECT place, run FROM koinon_run').all() as { place: number; run: string }[];
  const without = (rows: RowsOfRun) =>
    Object.fromEntries(
      Object.entries(rows).map(([table, counts]) => [
        table,
        { ...counts, first: counts.first.filter((id) => !ids.has(id)) },
      ]),
    );
  for (const { place, run } of runs) {
    const { down, up, ...rest } = JSON.parse(run) as { readonly down: RowsOfRun; readonly up: RowsOfRun };
    const written = JSON.stringify({ ...rest, down: without(down), up: without(up) });
    if (written.length !== run.length)
      database.statement('UPDATE koinon_run SET run = ? WHERE place = ?').run(written, place);
  }
}
