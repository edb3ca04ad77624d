import { type AnyRow, applyChange, type Change, columnsToWire, type Schema, tableOf } from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { QueuedChange } from './outbox.ts';

/** How long confirmed transactions are kept, in milliseconds: 7 days. */
export const keepFor = 7 * 86_400_000;

const copied = 'table_name, row_id, kind, columns, operations, before';

/**
 * Confirmed transactions that the feed has brought back, kept for some days: should the server's database be restored from
 * a backup that lacks them, they are offered again. Each change is kept with what it changed, so that what the server has
 * then can be told from what somebody did there meanwhile.
 */
export class Kept {
  private readonly database: Database;

  constructor(database: Database) {
    this.database = database;
  }

  /** Keeps a transaction that is about to leave the outbox, from one place up to another. */
  keep(sequence: number, end: number, now: number): void {
    this.database
      .statement(
        `INSERT INTO koinon_kept (kept_at, id, edited_at, ${copied})
         SELECT ?1, CASE WHEN c.place = ?2 THEN s.id END, CASE WHEN c.place = ?2 THEN s.edited_at END,
           c.table_name, c.row_id, c.kind, c.columns, c.operations, c.before
         FROM koinon_change c JOIN koinon_sent s ON s.sequence = ?2 WHERE c.place >= ?2 AND c.place < ?3 ORDER BY c.place`,
      )
      .run(now, sequence, end);
  }

  /** Forgets what was confirmed before a time. */
  forget(before: number): void {
    // Whole transactions: the first change of one carries its id, and all of them the same time.
    this.database
      .statement('DELETE FROM koinon_kept WHERE kept_at < ? AND place <= (SELECT max(place) FROM koinon_kept)')
      .run(before);
  }

  /**
   * Puts all that is kept back into the outbox, in front of what is there, as transactions that were sent before. Returns
   * the rows they touch, with what each change undone leads back to, last change first.
   */
  putBack(): readonly {
    readonly table: string;
    readonly id: string;
    readonly kind: Change['kind'];
    readonly before: string | null;
  }[] {
    const undone = this.database
      .statement('SELECT table_name AS "table", row_id AS id, kind, before FROM koinon_kept ORDER BY place DESC')
      .all() as { table: string; id: string; kind: Change['kind']; before: string | null }[];
    if (undone.length === 0) return [];
    const { least } = this.database.statement('SELECT coalesce(min(place), 1) AS least FROM koinon_change').get() as {
      least: number;
    };
    const { last } = this.database.statement('SELECT max(place) AS last FROM koinon_kept').get() as { last: number };
    const shift = least - 1 - last;
    // The first change of a transaction names it; the others stand behind it until the next one that does.
    this.database
      .statement(
        `INSERT INTO koinon_change (place, sequence, id, edited_at, ${copied})
         SELECT place + ?1, CASE WHEN id IS NULL THEN (SELECT max(f.place) FROM koinon_kept f WHERE f.place < k.place AND f.id IS NOT NULL) + ?1 END,
           id, edited_at, ${copied} FROM koinon_kept k`,
      )
      .run(shift);
    this.database
      .statement(
        "INSERT INTO koinon_sent SELECT place + ?, id, edited_at, 'pending', NULL FROM koinon_kept WHERE id IS NOT NULL",
      )
      .run(shift);
    this.database.statement('DELETE FROM koinon_kept').run();
    return undone;
  }
}

/** What each of these changes of one row changes, in order, from a row on: as JSON, null for an insert. */
export function beforeOf(schema: Schema, row: AnyRow | null, changes: readonly QueuedChange[]): (string | null)[] {
  let now = row;
  return changes.map(({ change }) => {
    const table = tableOf(schema, change.table);
    const names =
      change.kind === 'update' ? [...Object.keys(change.columns), ...Object.keys(change.operations)] : table.names;
    const held = now;
    now = applyChange(table, now, change);
    if (change.kind === 'insert' || held === null) return null;
    return JSON.stringify(columnsToWire(table, Object.fromEntries(names.map((name) => [name, held[name]]))));
  });
}
