import type { AssignedKey, Schema } from '@koinon/core';
import { isProvisionalId, withKeyParts } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import type { KnownKeys } from './known-keys.ts';

/** The keys that the database gave to rows which were made here, by their provisional ids. */
export class AssignedKeys implements KnownKeys {
  private readonly database: Database;
  private readonly schema: Schema;
  revision = 0;

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.schema = schema;
  }

  idOf(table: string, id: string): string {
    const definition = this.schema.tables[table];
    if (definition !== undefined && definition.key.length > 0 && typeof id === 'string')
      return withKeyParts(definition, id, (name, part) => {
        const target = definition.columns[name]?.target;
        return target === undefined ? part : this.idOf(target, part);
      });
    if (!isProvisionalId(id) || definition?.assignedKey !== true) return id;
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

  ofUnsentRows(): AssignedKey[] {
    return this.database
      .statement(
        `SELECT table_name AS "table", provisional, row_id AS id FROM koinon_assigned_key
         WHERE (table_name, row_id) IN (SELECT table_name, row_id FROM koinon_outbox WHERE kind = 'insert')`,
      )
      .all() as AssignedKey[];
  }

  forget({ table, provisional }: AssignedKey): void {
    this.revision++;
    this.database
      .statement('DELETE FROM koinon_assigned_key WHERE provisional = ? AND table_name = ?')
      .run(provisional, table);
  }

  forgetBefore(time: number): void {
    this.database.statement('DELETE FROM koinon_assigned_key WHERE assigned_at < ?').run(time);
  }
}
