import { type AnyRow, sameValue } from '@koinon/core';

/** Where a change came from. */
export type Origin = 'device' | 'server';

/** What a commit did to one row: its image before and after, null where there was none. */
export interface RowChange {
  readonly table: string;
  readonly id: string;
  readonly before: AnyRow | null;
  readonly after: AnyRow | null;
}

/** Collects what one transaction does to rows that somebody watches; a row changed often counts once. */
export class Commit {
  private readonly watched: (table: string) => boolean;
  private readonly rows = new Map<string, RowChange>();

  constructor(watched: (table: string) => boolean) {
    this.watched = watched;
  }

  note(table: string, id: string, before: AnyRow | null, after: AnyRow | null): void {
    if (!this.watched(table)) return;
    const key = `${table}\0${id}`;
    const known = this.rows.get(key);
    this.rows.set(key, { table, id, before: known ? known.before : before, after });
  }

  /** The net changes: a row that ended as it began has none. In the order in which the rows were first touched. */
  changes(): RowChange[] {
    return [...this.rows.values()].filter(({ before, after }) => !sameValue(before, after));
  }
}
