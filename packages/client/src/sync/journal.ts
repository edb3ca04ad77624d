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

/** The last runs, newest first. */
export function lastRuns(database: Database, limit: number): SyncRun[] {
  const rows = database.statement('SELECT run FROM koinon_run ORDER BY place DESC LIMIT ?').all(limit);
  return (rows as { run: string }[]).map(({ run }) => JSON.parse(run) as SyncRun);
}
