import type { AssignedKey, Schema } from '@koinon/core';
import type { Database } from '../database/database.ts';

/** A provisional id: a UUID, which no other row of any table has. */
export const provisionalForm = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;

/** The keys that the database gave to rows which were made here, by their provisional ids. */
export class AssignedKeys {
  private readonly database: Database;
  private readonly schema: Schema;
  /** Tells whether the database gives the keys of any table. */
  readonly isUsed: boolean;
  /** Counts up with each key that comes to be known. */
  revision = 0;

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.schema = schema;
    this.isUsed = Object.values(schema.tables).some(({ assignedKey }) => assignedKey);
  }

  /** The id by which a row goes now: late calls have the one under which it was made. */
  idOf(table: string, id: string): string {
    if (!this.isUsed || !provisionalForm.test(id) || this.schema.tables[table]?.assignedKey !== true) return id;
    const found = this.database
      .statement('SELECT row_id FROM koinon_assigned_key WHERE provisional = ? AND table_name = ?')
      .get(id, table) as { row_id: string } | undefined;
    return found?.row_id ?? id;
  }

  note({ table, provisional, id }: AssignedKey, now: number): void {
    this.revision++;
    this.database
      .statement(
        'INSERT INTO koinon_assigned_key VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET row_id = excluded.row_id',
      )
      .run(table, provisional, id, now);
  }

  /** Those whose row was inserted by a transaction that is in the outbox. */
  ofUnsentRows(): AssignedKey[] {
    if (!this.isUsed) return [];
    return this.database
      .statement(
        `SELECT table_name AS "table", provisional, row_id AS id FROM koinon_assigned_key k
         WHERE EXISTS (SELECT 1 FROM koinon_outbox o WHERE o.kind = 'insert' AND o.table_name = k.table_name AND o.row_id = k.row_id)`,
      )
      .all() as AssignedKey[];
  }

  forget({ table, provisional }: AssignedKey): void {
    this.revision++;
    this.database
      .statement('DELETE FROM koinon_assigned_key WHERE provisional = ? AND table_name = ?')
      .run(provisional, table);
  }

  /** Forgets what came to be known before a time. */
  forgetBefore(time: number): void {
    if (this.isUsed) this.database.statement('DELETE FROM koinon_assigned_key WHERE assigned_at < ?').run(time);
  }
}
