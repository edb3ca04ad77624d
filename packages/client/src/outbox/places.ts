import { rowKey } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { Freshness } from '../database/freshness.ts';

/**
 * The places of the changes of each row in the outbox. Kept in memory and read from the file when first asked for: an
 * index in the file would make every local write touch one page more, for a question that only updates, deletes and
 * arriving rows ask. Read anew after a rollback, and when another process has written the file.
 */
export class Places {
  private readonly database: Database;
  private readonly freshness: Freshness;
  private byRow: Map<string, number[]> | undefined;

  constructor(database: Database) {
    this.database = database;
    this.freshness = new Freshness(database);
  }

  of(table: string, id: string): readonly number[] {
    return this.current().get(rowKey({ table, id })) ?? [];
  }

  /** Reads them now; within this transaction they stay as they are. */
  load(): void {
    this.current();
  }

  /** Reads them anew when next asked. */
  forget(): void {
    this.byRow = undefined;
  }

  add(table: string, id: string, place: number): void {
    if (this.byRow === undefined) return;
    const key = rowKey({ table, id });
    const places = this.byRow.get(key);
    if (places === undefined) this.byRow.set(key, [place]);
    // Nearly always it is the last one.
    else if (places.push(place) > 1 && (places.at(-2) as number) > place) places.sort((a, b) => a - b);
  }

  remove(table: string, id: string, places: ReadonlySet<number>): void {
    if (this.byRow === undefined) return;
    const key = rowKey({ table, id });
    const left = (this.byRow.get(key) ?? []).filter((each) => !places.has(each));
    if (left.length > 0) this.byRow.set(key, left);
    else this.byRow.delete(key);
  }

  private current(): ReadonlyMap<string, readonly number[]> {
    const { database } = this;
    const isLost = this.freshness.isLost();
    if (this.byRow !== undefined && !isLost) return this.byRow;
    this.byRow = new Map();
    const rows = database
      .statement(
        `SELECT place, table_name, row_id FROM koinon_outbox
         WHERE table_name IS NOT NULL AND kind <> 'action' AND is_acknowledged = 0 ORDER BY place`,
      )
      .iterate();
    for (const { place, table_name, row_id } of rows as Iterable<{ place: number; table_name: string; row_id: string }>)
      this.add(table_name, row_id, place);
    return this.byRow;
  }
}
