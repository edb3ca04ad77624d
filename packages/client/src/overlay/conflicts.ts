import {
  type AnyRow,
  type Conflict,
  columnsFromWire,
  columnsToWire,
  type Disagreement,
  fromWire,
  type JsonValue,
  type Schema,
  tableOf,
  toWire,
  wholeRow,
} from '@koinon/core';
import type { Database } from '../database/database.ts';

interface ConflictRow {
  table_name: string;
  row_id: string;
  column_name: string;
  base: string;
  local: string;
  remote: string;
}

/** The columns that wait for a person, with what they held before, hold here and hold there. */
export class Conflicts {
  private readonly database: Database;
  private readonly schema: Schema;

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.schema = schema;
  }

  list(): Conflict[] {
    const rows = this.database
      .statement('SELECT * FROM koinon_conflict ORDER BY table_name, row_id, column_name')
      .all();
    return (rows as ConflictRow[]).map((row) => ({
      table: row.table_name,
      id: row.row_id,
      column: row.column_name === '' ? null : row.column_name,
      base: JSON.parse(row.base) as JsonValue,
      local: JSON.parse(row.local) as JsonValue,
      remote: JSON.parse(row.remote) as JsonValue,
    }));
  }

  /** How many rows have a conflict. */
  count(): number {
    const row = this.database
      .statement('SELECT count(*) AS count FROM (SELECT DISTINCT table_name, row_id FROM koinon_conflict)')
      .get();
    return (row as { count: number }).count;
  }

  /** The conflicted columns of a row, null standing for the whole row, with the base each began from. */
  basesOf(tableName: string, id: string): Map<string | null, unknown> {
    const rows = this.database
      .statement('SELECT * FROM koinon_conflict WHERE table_name = ? AND row_id = ?')
      .all(tableName, id);
    const table = tableOf(this.schema, tableName);
    return new Map(
      (rows as ConflictRow[]).map((row) => {
        const base = JSON.parse(row.base) as JsonValue;
        const column = table.columns[row.column_name];
        if (column) return [row.column_name, fromWire(column, base)];
        return [
          null,
          base === null ? null : wholeRow(table, id, columnsFromWire(table, base as Record<string, JsonValue>)),
        ];
      }),
    );
  }

  /** Forgets a row's conflicts but for these columns. */
  keepOnly(tableName: string, id: string, columns: readonly string[]): void {
    const marks = columns.map(() => '?').join(', ');
    this.database
      .statement(`DELETE FROM koinon_conflict WHERE table_name = ? AND row_id = ? AND column_name NOT IN (${marks})`)
      .run(tableName, id, ...columns);
  }

  /** Replaces what is known of a row's conflicts. */
  set(tableName: string, id: string, disagreements: readonly Disagreement[]): void {
    this.database.statement('DELETE FROM koinon_conflict WHERE table_name = ? AND row_id = ?').run(tableName, id);
    const table = tableOf(this.schema, tableName);
    for (const { column, base, local, remote } of disagreements) {
      const definition = column === null ? undefined : table.columns[column];
      const written = (value: unknown) =>
        JSON.stringify(
          definition ? toWire(definition, value) : value === null ? null : columnsToWire(table, value as AnyRow),
        );
      this.database
        .statement('INSERT INTO koinon_conflict VALUES (?, ?, ?, ?, ?, ?)')
        .run(tableName, id, column ?? '', written(base), written(local), written(remote));
    }
  }
}
