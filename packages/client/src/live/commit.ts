import { type AnyRow, sameValue } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';

/** The source of a change. */
export type Origin = 'device' | 'server';

/** The effect of a commit on one row: its image before and after, null where there was none. */
export interface RowChange {
  readonly table: string;
  readonly id: string;
  readonly before: AnyRow | null;
  readonly after: AnyRow | null;
  /** Tells whether a row that is gone was not deleted, but is no longer this user's. */
  readonly hasLeft?: boolean;
}

/** Collects what one transaction does to rows that somebody watches; a row changed often counts once. */
export class Commit {
  private readonly watched: (table: string) => boolean;
  private readonly rows = new Map<string, RowChange>();

  constructor(watched: (table: string) => boolean) {
    this.watched = watched;
  }

  /** Tells whether anybody watches a table. */
  isWatched(table: string): boolean {
    return this.watched(table);
  }

  note(table: string, id: string, before: AnyRow | null, after: AnyRow | null): void {
    if (!this.watched(table)) return;
    const key = rowKey({ table, id });
    const known = this.rows.get(key);
    this.rows.set(key, { table, id, before: known ? known.before : before, after });
  }

  /** A row is no longer this user's. */
  leave(table: string, id: string, before: AnyRow | null): void {
    this.note(table, id, before, null);
    const key = rowKey({ table, id });
    const known = this.rows.get(key);
    if (known) this.rows.set(key, { ...known, hasLeft: true });
  }

  /** The net changes: a row that ended as it began has none. In the order in which the rows were first touched. */
  changes(): RowChange[] {
    return [...this.rows.values()].filter(({ before, after }) => !sameValue(before, after));
  }
}
