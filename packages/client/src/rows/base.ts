import type { AnyRow } from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Rows } from './rows.ts';

/**
 * Rows as the server last gave them, kept only while they have changes the feed does not cover. A row with such changes
 * and no base is one that the server does not have.
 */
export class Bases {
  private readonly database: Database;
  private readonly rows: Rows;

  constructor(database: Database, rows: Rows) {
    this.database = database;
    this.rows = rows;
  }

  get(table: string, id: string): AnyRow | null {
    const found = this.database
      .statement('SELECT columns FROM koinon_base WHERE table_name = ? AND row_id = ?')
      .get(table, id);
    return found === undefined ? null : this.rows.rowOf(table, id, (found as { columns: string }).columns);
  }

  /** Keeps a base; null: the server has no such row. */
  set(table: string, id: string, row: AnyRow | null): void {
    if (row === null) this.drop(table, id);
    else
      this.database
        .statement('INSERT INTO koinon_base VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET columns = excluded.columns')
        .run(table, id, this.rows.imageOf(table, row));
  }

  drop(table: string, id: string): void {
    this.database.statement('DELETE FROM koinon_base WHERE table_name = ? AND row_id = ?').run(table, id);
  }
}
