import type { ErrorCode } from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Direction, SyncReason } from './state.ts';
import type { Traffic } from './traffic.ts';

/** One run of the sync, as the journal keeps it. */
export interface SyncRun {
  /** When it began, RFC 3339, and how many milliseconds it took. */
  readonly at: string;
  readonly took: number;
  readonly reason: SyncReason;
  readonly direction: Direction;
  /** The code and words of what ended it; null if it ended well. */
  readonly error: { readonly code: ErrorCode | 'unknown'; readonly message: string } | null;
  readonly bytes: { readonly down: number; readonly up: number };
  /** Rows by table and kind, with the ids of the first of them. */
  readonly down: Traffic['down'];
  readonly up: Traffic['up'];
}

/** Runs that are kept. */
const kept = 200;

/** Writes a run down, and forgets the oldest. Runs in a transaction. */
export function noteRun(database: Database, run: SyncRun): void {
  const { lastInsertRowid } = database.statement('INSERT INTO koinon_run (run) VALUES (?)').run(JSON.stringify(run));
  database.statement('DELETE FROM koinon_run WHERE place <= ?').run(Number(lastInsertRowid) - kept);
}

/** Takes the ids of rows that must not be named any more out of all runs. */
export function forgetIds(database: Database, ids: ReadonlySet<string>): void {
  const rows = database.statement('SELECT place, run FROM koinon_run').all() as { place: number; run: string }[];
  for (const { place, run } of rows) {
    const { down, up, ...rest } = JSON.parse(run) as SyncRun;
    const without = (traffic: SyncRun['down']) =>
      Object.fromEntries(
        Object.entries(traffic).map(([table, counts]) => [
          table,
          { ...counts, first: counts.first.filter((id) => !ids.has(id)) },
        ]),
      );
    const written = JSON.stringify({ ...rest, down: without(down), up: without(up) });
    if (written.length !== run.length)
      database.statement('UPDATE koinon_run SET run = ? WHERE place = ?').run(written, place);
  }
}

/** The last runs, newest first. */
export function lastRuns(database: Database, limit: number): SyncRun[] {
  const rows = database.statement('SELECT run FROM koinon_run ORDER BY place DESC LIMIT ?').all(limit);
  return (rows as { run: string }[]).map(({ run }) => JSON.parse(run) as SyncRun);
}
