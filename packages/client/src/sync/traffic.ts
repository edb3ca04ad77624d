import type { PulledRow, RowBlock } from '@koinon/core';

/** How many rows of a table went one way, by what happened to them, and the ids of the first of them. */
export interface TableTraffic {
  insert: number;
  update: number;
  delete: number;
  /** Rows that are no longer this user's. */
  leave?: number;
  readonly first: string[];
}

/** Ids that are named for each table. */
const named = 20;

/** The rows that one run moved, by table and kind. */
export class Traffic {
  readonly down: Record<string, TableTraffic> = {};
  readonly up: Record<string, TableTraffic> = {};
  /** Rows that came down, of those that the server said would; transactions that went up, of those that were to. */
  received = 0;
  expected: number | null = null;
  /** About how many bytes are to come down in all; null where that is not known. */
  expectedBytes: number | null = null;
  sent = 0;
  toSend = 0;

  /** Counts a row that came down or went up. */
  note(way: 'down' | 'up', { table, id, kind }: { table: string; id: string; kind: PulledRow['kind'] }): void {
    const traffic = this.of(way, table);
    traffic[kind] = (traffic[kind] ?? 0) + 1;
    // A row that has left the device is not named on it any more.
    if (kind !== 'leave' && traffic.first.length < named) traffic.first.push(id);
  }

  /** Counts the rows of a block that came down. */
  noteBlock({ table, rows }: RowBlock): void {
    const traffic = this.of('down', table);
    traffic.insert += rows.length;
    traffic.first.push(...rows.slice(0, named - traffic.first.length).map(([id]) => id as string));
  }

  private of(way: 'down' | 'up', table: string): TableTraffic {
    this[way][table] ??= { insert: 0, update: 0, delete: 0, first: [] };
    return this[way][table] as TableTraffic;
  }
}
