import { type AnyRow, type Schema, tableOf } from '@koinon/core';
import { columnsFromWire, columnsToWire, wholeRow } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import type { Rows } from '../rows/rows.ts';

/** Calls that are remembered; a caller repeats only what it has no answer to, so older ones are never asked for. */
const kept = 1_000;

/** The outcome of a call, as it is kept: a plain value, one row, or the ids of rows that are read again. */
type Outcome =
  | { readonly value: unknown }
  | { readonly table: string; readonly id: string; readonly row: ReturnType<typeof columnsToWire> }
  | { readonly table: string; readonly id: string }
  | { readonly table: string; readonly ids: readonly string[] };

/** A row above this many characters or bytes is read again instead of being kept a second time. */
const largest = 4_000;

const sizeOf = (columns: Readonly<Record<string, unknown>>) =>
  Object.values(columns).reduce<number>(
    (sum, value) => sum + Number((value as { length?: number } | null)?.length ?? 8),
    0,
  );

/** The result of a call. */
export interface Done {
  readonly result: unknown;
}

/**
 * Calls that came from another thread or tab and took effect. Each is written down in the transaction of its effect, so
 * that whoever runs the replica next can tell a call that was done from one that was not.
 */
export class Calls {
  private readonly database: Database;
  private readonly schema: Schema;
  private readonly rows: Rows;
  /** The calls in the file, by id; read when first asked for, and after a rollback. */
  private known: Set<string> | undefined;
  private rolledBack = 0;

  constructor(database: Database, schema: Schema, rows: Rows) {
    this.database = database;
    this.schema = schema;
    this.rows = rows;
  }

  /** The result of a call; undefined if it was not done. */
  outcome(id: string): Done | undefined {
    if (!this.current().has(id)) return undefined;
    const found = this.database.statement('SELECT outcome FROM koinon_call WHERE id = ?').get(id);
    if (found === undefined) return undefined;
    const outcome = JSON.parse((found as { outcome: string }).outcome) as Outcome;
    if ('value' in outcome) return { result: outcome.value ?? undefined };
    const { table } = outcome;
    if ('ids' in outcome) return { result: outcome.ids.flatMap((each) => this.rows.get(table, each) ?? []) };
    const definition = tableOf(this.schema, table);
    if (!('row' in outcome)) return { result: this.rows.get(table, outcome.id) ?? undefined };
    return { result: wholeRow(definition, outcome.id, columnsFromWire(definition, outcome.row)) };
  }

  /** Writes down what a call returned. Runs in the transaction of its effect. @param table whose rows it returned, if any. */
  note(id: string, result: unknown, table?: string): void {
    const known = this.current();
    const { lastInsertRowid } = this.database
      .statement('INSERT INTO koinon_call (id, outcome) VALUES (?, ?)')
      .run(id, JSON.stringify(this.outcomeOf(result, table)));
    known.add(id);
    const last = Number(lastInsertRowid);
    if (last % kept !== 0) return;
    this.database.statement('DELETE FROM koinon_call WHERE place <= ?').run(last - kept);
    this.known = undefined;
  }

  private outcomeOf(result: unknown, table: string | undefined): Outcome {
    if (table !== undefined && Array.isArray(result)) return { table, ids: (result as AnyRow[]).map(({ id }) => id) };
    if (table === undefined || result === null || typeof result !== 'object') return { value: result ?? null };
    const { id, ...columns } = result as AnyRow;
    if (sizeOf(columns) > largest) return { table, id };
    return { table, id, row: columnsToWire(tableOf(this.schema, table), columns) };
  }

  private current(): Set<string> {
    const { database } = this;
    if (this.known === undefined || this.rolledBack !== database.rolledBack) {
      const rows = database.statement('SELECT id FROM koinon_call').all() as { id: string }[];
      this.known = new Set(rows.map(({ id }) => id));
      this.rolledBack = database.rolledBack;
    }
    return this.known;
  }
}
