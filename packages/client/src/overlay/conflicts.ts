import { type AnyRow, type Conflict, type JsonValue, type Schema, tableOf, type WireColumns } from '@koinon/core';
import { columnOf, columnsFromWire, columnsToWire, fromWire, rowKey, toWire, wholeRow } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import type { ConflictList, Noted } from './conflict-list.ts';

interface ConflictRow {
  table_name: string;
  row_id: string;
  column_name: string;
  base: string;
  local: string;
  remote: string;
  local_at: number | null;
  remote_at: number | null;
  remote_by: string | null;
  reason: string | null;
}

/**
 * Rows asked about in one transaction from which on all that are in conflict are read at once: nearly every row that arrives
 * is asked about, and hardly any is among them.
 */
const worthKnowing = 20;

const timeOf = (at: number | null) => (at === null ? null : new Date(at).toISOString());

/** The columns that wait for a person, with what they held before, hold here and hold there. */
export class Conflicts implements ConflictList {
  private readonly database: Database;
  private readonly schema: Schema;
  /** Counted up whenever the list may have changed. */
  revision = 0;
  /** The rows in conflict, within a transaction that asks about many. */
  private known: Set<string> | undefined;
  private asked = 0;
  private begun = -1;
  private rolledBack = 0;

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.schema = schema;
  }

  list(): Conflict[] {
    const rows = this.database
      .statement('SELECT * FROM koinon_conflict ORDER BY table_name, row_id, column_name')
      .all();
    return (rows as ConflictRow[]).map((row) => {
      const table = tableOf(this.schema, row.table_name);
      const column = row.column_name === '' ? null : row.column_name;
      const decoded = (text: string) => {
        const wire = JSON.parse(text) as JsonValue;
        if (column !== null) return fromWire(columnOf(table, row.table_name, column), wire);
        return wire === null ? null : wholeRow(table, row.row_id, columnsFromWire(table, wire as WireColumns));
      };
      return {
        table: row.table_name,
        id: row.row_id,
        column,
        base: decoded(row.base),
        local: decoded(row.local),
        remote: decoded(row.remote),
        localAt: timeOf(row.local_at),
        remoteAt: timeOf(row.remote_at),
        remoteBy: row.remote_by,
        reason: row.reason,
      };
    });
  }

  /** How many rows have a conflict. */
  count(): number {
    const row = this.database
      .statement('SELECT count(*) AS count FROM (SELECT DISTINCT table_name, row_id FROM koinon_conflict)')
      .get();
    return (row as { count: number }).count;
  }

  /** The columns of a row that are in conflict, null standing for the whole row. */
  columnsOf(tableName: string, id: string): readonly (string | null)[] {
    return this.stored(tableName, id).map(({ column_name }) => (column_name === '' ? null : column_name));
  }

  /** Replaces what is known of a row's conflicts. A part that is not said anew of one that stays is kept. */
  set(tableName: string, id: string, disagreements: readonly Noted[]): void {
    const before = new Map(this.stored(tableName, id).map((row) => [row.column_name, row]));
    if (before.size === 0 && disagreements.length === 0) return;
    this.revision++;
    this.database.statement('DELETE FROM koinon_conflict WHERE table_name = ? AND row_id = ?').run(tableName, id);
    const table = tableOf(this.schema, tableName);
    for (const { column, base, local, remote, reason, localAt, remoteAt, remoteBy } of disagreements) {
      const definition = column === null ? undefined : table.columns[column];
      const written = (value: unknown) =>
        JSON.stringify(
          definition ? toWire(definition, value) : value === null ? null : columnsToWire(table, value as AnyRow),
        );
      const known = before.get(column ?? '');
      this.put({
        table_name: tableName,
        row_id: id,
        column_name: column ?? '',
        base: written(base),
        local: written(local),
        remote: written(remote),
        local_at: localAt ?? known?.local_at ?? null,
        remote_at: remoteAt ?? known?.remote_at ?? null,
        remote_by: remoteBy === undefined ? (known?.remote_by ?? null) : remoteBy,
        reason: reason === undefined ? (known?.reason ?? null) : reason,
      });
    }
  }

  clear(): void {
    this.revision++;
    this.database.statement('DELETE FROM koinon_conflict').run();
  }

  /** A row's conflicts as they stand in the file, to be put back as they were. */
  take(tableName: string, id: string): string {
    return JSON.stringify(this.stored(tableName, id));
  }

  /** Puts back what {@link take} returned. */
  putBack(taken: string): void {
    for (const row of JSON.parse(taken) as ConflictRow[]) this.put(row);
  }

  private stored(tableName: string, id: string): ConflictRow[] {
    this.asked = this.isSameTransaction() ? this.asked + 1 : 1;
    if (this.asked === worthKnowing) {
      const rows = this.database.statement('SELECT DISTINCT table_name, row_id FROM koinon_conflict').all();
      this.known = new Set(
        (rows as ConflictRow[]).map(({ table_name, row_id }) => rowKey({ table: table_name, id: row_id })),
      );
    }
    if (this.known?.has(rowKey({ table: tableName, id })) === false) return [];
    return this.database
      .statement('SELECT * FROM koinon_conflict WHERE table_name = ? AND row_id = ?')
      .all(tableName, id) as ConflictRow[];
  }

  /** Tells whether nobody else can have written since the last time; if not, what was known is forgotten. */
  private isSameTransaction(): boolean {
    const { begun, rolledBack } = this.database;
    if (this.begun === begun && this.rolledBack === rolledBack) return true;
    this.begun = begun;
    this.rolledBack = rolledBack;
    this.known = undefined;
    return false;
  }

  private put(row: ConflictRow): void {
    if (this.isSameTransaction()) this.known?.add(rowKey({ table: row.table_name, id: row.row_id }));
    else this.asked = 0;
    this.database
      .statement(
        'INSERT OR REPLACE INTO koinon_conflict (table_name, row_id, column_name, base, local, remote, local_at, remote_at, remote_by, reason) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)',
      )
      .run(
        row.table_name,
        row.row_id,
        row.column_name,
        row.base,
        row.local,
        row.remote,
        row.local_at,
        row.remote_at,
        row.remote_by ?? null,
        row.reason,
      );
  }
}
