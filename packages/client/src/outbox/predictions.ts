import type { AnyRow, Change, Operations, RowKey, Schema, WireColumns } from '@koinon/core';
import { changeFromWire, changeToWire, quoteText, rowKey, type TypedOver, wholeRow } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { Freshness } from '../database/freshness.ts';
import type { TransactionState } from './outbox.ts';
import type { Predictions } from './prediction-list.ts';
import { readTypedOver, writeTypedOver } from './typed-over.ts';

/** A row of the table, with what is known of its transaction. */
interface Stored {
  readonly place: number;
  readonly action: number;
  readonly sequence: number;
  readonly kind: Change['kind'];
  readonly table_name: string;
  readonly row_id: string;
  readonly columns: string | null;
  readonly operations: string | null;
  readonly id: string;
  readonly state: TransactionState | null;
}

/** The predictions of a file, in a table of their own. The places of those of each row are in memory, as those of its changes are. */
export class StoredPredictions implements Predictions {
  private readonly database: Database;
  private readonly schema: Schema;
  private readonly freshness: Freshness;
  private byRow: Map<string, number[]> | undefined;
  private over = new Map<number, string>();

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.freshness = new Freshness(database);
    this.schema = schema;
  }

  has(table: string, id: string): boolean {
    return this.current().has(rowKey({ table, id }));
  }

  of(table: string, id: string) {
    const places = this.current().get(rowKey({ table, id })) ?? [];
    const read = this.database.statement(
      `SELECT p.*, coalesce(t.id, t.origin) AS id, t.state FROM koinon_prediction p JOIN koinon_outbox t ON t.place = p.sequence WHERE p.place = ?`,
    );
    return places.map((place) => {
      const stored = read.get(place) as unknown as Stored;
      const { action, sequence, id: transaction, state } = stored;
      return { action, sequence, transaction, state: state ?? ('pending' as const), change: this.changeOf(stored) };
    });
  }

  rowsOf(sequence: number, action?: number): RowKey[] {
    if (this.current().size === 0) return [];
    const text =
      'SELECT DISTINCT table_name AS "table", row_id AS id FROM koinon_prediction WHERE sequence = ?1 AND (?2 IS NULL OR action = ?2)';
    const found = this.database.statement(text).all(sequence, action ?? null);
    return found as unknown as RowKey[];
  }

  rows(): RowKey[] {
    const text = 'SELECT DISTINCT table_name AS "table", row_id AS id FROM koinon_prediction';
    return this.database.statement(text).all() as unknown as RowKey[];
  }

  changesOf(action: number): Change[] {
    const text = 'SELECT * FROM koinon_prediction WHERE action = ? ORDER BY place';
    return (this.database.statement(text).all(action) as unknown as Stored[]).map((stored) => this.changeOf(stored));
  }

  add(sequence: number, action: number, change: Change): void {
    const { kind, table, id, columns, operations } = changeToWire(this.schema, change);
    const { lastInsertRowid } = this.database
      .statement(
        'INSERT INTO koinon_prediction (action, sequence, kind, table_name, row_id, columns, operations) VALUES (?, ?, ?, ?, ?, ?, ?)',
      )
      .run(
        ...[action, sequence, kind, table, id, columns ? JSON.stringify(columns) : null],
        operations ? JSON.stringify(operations) : null,
      );
    if (this.byRow === undefined) return;
    const key = rowKey({ table, id });
    this.byRow.set(key, [...(this.byRow.get(key) ?? []), Number(lastInsertRowid)]);
  }

  drop(sequence: number): void {
    this.database.statement('DELETE FROM koinon_prediction WHERE sequence = ?').run(sequence);
    this.database.statement('DELETE FROM koinon_predicted_over WHERE sequence = ?').run(sequence);
    this.forget();
  }

  dropRow(table: string, id: string, sequence?: number): void {
    if (!this.has(table, id)) return;
    this.database
      .statement(
        'DELETE FROM koinon_prediction WHERE table_name = ?1 AND row_id = ?2 AND (?3 IS NULL OR sequence = ?3)',
      )
      .run(table, id, sequence ?? null);
    this.forget();
  }

  clear(): void {
    this.database.driver.exec(
      'DELETE FROM koinon_prediction; DELETE FROM koinon_predicted_over; DELETE FROM koinon_invocation',
    );
    this.forget();
  }

  renameRows(table: string, renamed: ReadonlyMap<string, string>): void {
    const text = 'UPDATE koinon_prediction SET row_id = ? WHERE table_name = ? AND row_id = ?';
    for (const [from, to] of renamed) this.database.statement(text).run(to, table, from);
    this.forget();
  }

  renameReferences(table: string, column: string, renamed: ReadonlyMap<string, string>): void {
    const path = quoteText(`$."${column}"`);
    const text = `UPDATE koinon_prediction SET columns = json_set(columns, ${path}, ?) WHERE table_name = ? AND json_extract(columns, ${path}) = ?`;
    for (const [from, to] of renamed) this.database.statement(text).run(to, table, from);
  }

  renameInputs(action: string, column: string, renamed: ReadonlyMap<string, string>): void {
    const path = quoteText(`$."${column}"`);
    const text = `UPDATE koinon_invocation SET input = json_set(input, ${path}, ?) WHERE name = ? AND json_extract(input, ${path}) = ?`;
    for (const [from, to] of renamed) this.database.statement(text).run(to, action, from);
  }

  forget(): void {
    this.byRow = undefined;
  }

  overOf({ place, change }: { readonly place: number; readonly change: Change }): TypedOver | undefined {
    this.current();
    const text = this.over.get(place);
    return text === undefined ? undefined : readTypedOver(this.schema, change.table, change.id, text);
  }

  setOver(sequence: number, place: number, table: string, over: TypedOver): void {
    this.current();
    const text = writeTypedOver(this.schema, table, over);
    if (text === null) {
      if (this.over.delete(place))
        this.database.statement('DELETE FROM koinon_predicted_over WHERE place = ?').run(place);
      return;
    }
    this.over.set(place, text);
    this.database
      .statement(
        'INSERT INTO koinon_predicted_over VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET before = excluded.before',
      )
      .run(place, sequence, text);
  }

  isOver(sequence: number): boolean {
    const text = 'SELECT 1 FROM koinon_predicted_over WHERE sequence = ? LIMIT 1';
    return (
      this.current() !== undefined && this.over.size > 0 && this.database.statement(text).get(sequence) !== undefined
    );
  }

  typedOver(change: Change, before: AnyRow | null) {
    const { table, id } = change;
    const predicted = this.of(table, id);
    const isWhole = predicted.some((each) => each.change.kind !== 'update');
    const names = new Set(
      predicted.flatMap(({ change: each }) =>
        each.kind === 'update' ? [...Object.keys(each.columns), ...Object.keys(each.operations)] : [],
      ),
    );
    const over = new Map<string | null, unknown>();
    if (isWhole || (change.kind !== 'update' && names.size > 0)) over.set(null, before);
    else if (change.kind === 'update')
      for (const name of Object.keys(change.columns)) if (names.has(name)) over.set(name, before?.[name] ?? null);
    const touches = (each: Change) =>
      each.kind !== 'update' ||
      change.kind !== 'update' ||
      [...Object.keys(change.columns), ...Object.keys(change.operations)].some(
        (name) => Object.hasOwn(each.columns, name) || Object.hasOwn(each.operations, name),
      );
    return { over, by: predicted.filter((each) => touches(each.change)).map(({ sequence }) => sequence) };
  }

  private changeOf({ kind, table_name: table, row_id: id, columns, operations }: Stored): Change {
    const change = changeFromWire(this.schema, {
      kind,
      table,
      id,
      columns: JSON.parse(columns ?? '{}') as WireColumns,
      operations: JSON.parse(operations ?? '{}') as Operations,
    });
    if (change.kind !== 'insert') return change;
    const { id: _, ...whole } = wholeRow(this.schema.tables[table] as never, id, change.columns);
    return { ...change, columns: whole };
  }

  private current(): ReadonlyMap<string, readonly number[]> {
    const { database } = this;
    const isLost = this.freshness.isLost();
    if (this.byRow !== undefined && !isLost) return this.byRow;
    const byRow = new Map<string, number[]>();
    const rows = database.statement('SELECT place, table_name, row_id FROM koinon_prediction ORDER BY place').all();
    for (const { place, table_name: table, row_id: id } of rows as unknown as Stored[]) {
      const key = rowKey({ table, id });
      byRow.set(key, [...(byRow.get(key) ?? []), place]);
    }
    const over = database.statement('SELECT place, before FROM koinon_predicted_over').all();
    this.over = new Map((over as { place: number; before: string }[]).map(({ place, before }) => [place, before]));
    this.byRow = byRow;
    return byRow;
  }
}
