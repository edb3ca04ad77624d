import {
  type AnyRow,
  type JsonValue,
  KoinonError,
  type Operation,
  type Problem,
  type Sql,
  table,
  tableOf,
  withDefaults,
} from '@koinon/core';
import {
  checkValue,
  columnOf,
  defaultOf,
  fromWire,
  idOfKey,
  normalize,
  parseWhere,
  ruleText,
  shown,
  toWire,
} from '@koinon/core/internal';
import { meta, setMeta } from '../database/layout.ts';
import { readOnly, runReading } from '../database/read-only.ts';
import { type Finishing, finish } from '../overlay/finish.ts';
import type { RowDecision } from '../overlay/resolve.ts';
import { type RowState, rowState } from '../overlay/row-state.ts';
import type { KnownKeys } from '../rows/known-keys.ts';
import { type WriteTarget, Writing } from '../rows/writing.ts';
import type { Calls } from './calls.ts';
import type { CurrentIds } from './current.ts';

/** Everything a replica's steps work on. */
export interface Engine extends WriteTarget, Finishing {
  readonly calls: Calls;
  readonly keys: KnownKeys;
  readonly current: CurrentIds;
}

/** The function that settles conflicts, once it is loaded: most apps need it seldom. */
let settleConflicts: typeof import('../overlay/resolve.ts').resolveEach | undefined;

/** Loads what the step `resolve` needs. */
export async function loadSettling(): Promise<void> {
  settleConflicts ??= (await import('../overlay/resolve.ts')).resolveEach;
}

/** The value that `where` takes instead of a condition when really all rows are meant. */
export const everyRow = 'every row';

/** The table name under which changes of settings are told to watchers. */
export const settingsTable = 'koinon_setting';

/** Single reads, synchronous, by name: what the public functions come down to, in process or behind a port. */
export class ReadSteps {
  protected readonly engine: Engine;

  constructor(engine: Engine) {
    this.engine = engine;
  }

  get(table: string, id: string): AnyRow | undefined {
    return this.engine.rows.get(table, id) ?? undefined;
  }

  rows(query: unknown): readonly AnyRow[] {
    return this.engine.rows.select(query);
  }

  count(query: unknown): number {
    return this.engine.rows.count(query);
  }

  summary(summary: unknown): readonly Readonly<Record<string, unknown>>[] {
    return this.engine.rows.summary(summary);
  }

  select(sql: Sql): readonly Readonly<Record<string, unknown>>[] {
    const { database } = this.engine;
    return runReading(database, readOnly(database, sql));
  }

  rowState(table: string, id: string): RowState {
    return rowState(this.engine, table, id);
  }

  setting(name: string): unknown {
    const column = settingColumn(this.engine, name);
    const found = this.engine.database.statement('SELECT value FROM koinon_setting WHERE name = ?').get(name) as
      | { value: string }
      | undefined;
    if (found !== undefined) return normalize(column, fromWire(column, JSON.parse(found.value) as JsonValue));
    return normalize(column, defaultOf(column));
  }

  /** The note on the last answer that filled a table from a source. */
  sourceNote(table: string): string | undefined {
    return meta(this.engine.database, `source ${table}`);
  }

  /** Tells whether a call from another thread or tab took effect. */
  isDone(call: string): boolean {
    return this.engine.calls.outcome(call) !== undefined;
  }
}

/** Single writes, synchronous, by name, inside an open local transaction. */
export class WriteSteps extends ReadSteps {
  private readonly writing: Writing;

  constructor(engine: Engine) {
    super(engine);
    this.writing = new Writing(engine);
  }

  insert(table: string, row: Readonly<Record<string, unknown>>): AnyRow {
    return this.writing.insert(table, row);
  }

  /** Puts a deleted row back. */
  restoreRow(table: string, row: Readonly<Record<string, unknown>>): AnyRow {
    return this.writing.insert(table, row, 'trash');
  }

  insertAll(table: string, rows: readonly Readonly<Record<string, unknown>>[]): readonly AnyRow[] {
    return rows.map((row) => this.writing.insert(table, row));
  }

  update(table: string, id: string, patch: Readonly<Record<string, unknown>>): AnyRow {
    return this.writing.update(table, id, patch);
  }

  updateWhere(table: string, where: unknown, patch: Readonly<Record<string, unknown>>): number {
    const before = this.writing.writes;
    for (const row of this.meant(table, where)) this.writing.update(table, row.id, patch);
    return this.writing.writes - before;
  }

  upsert(table: string, row: Readonly<Record<string, unknown>>): AnyRow {
    const definition = tableOf(this.engine.schema, table);
    const ofKey = definition.key.length > 0 && row ? idOfKey(definition, withDefaults(definition, row)) : undefined;
    const id = row?.id ?? ofKey;
    const isThere = typeof id === 'string' && this.engine.rows.has(table, id);
    return isThere ? this.writing.update(table, id, row) : this.writing.insert(table, row);
  }

  upsertAll(table: string, rows: readonly Readonly<Record<string, unknown>>[]): readonly AnyRow[] {
    return rows.map((row) => this.upsert(table, row));
  }

  operate(table: string, id: string, column: string, operation: Operation): AnyRow {
    return this.writing.operate(table, id, column, operation);
  }

  delete(table: string, id: string): void {
    this.writing.delete(table, id);
  }

  deleteWhere(table: string, where: unknown): number {
    const rows = this.meant(table, where);
    for (const row of rows) this.writing.delete(table, row.id);
    return rows.length;
  }

  setSetting(name: string, value: unknown): void {
    const column = settingColumn(this.engine, name);
    const wrong = checkValue(column, value);
    if (wrong)
      throw new KoinonError(wrong.code, `The setting ${name} ${shown(value)}: ${ruleText(wrong)}.`, {
        column: name,
        value,
        rule: ruleText(wrong),
      });
    const before = this.setting(name);
    this.engine.database
      .statement('INSERT INTO koinon_setting VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value')
      .run(name, JSON.stringify(toWire(column, normalize(column, value))));
    this.engine.commit.note(
      settingsTable,
      name,
      { id: name, value: before },
      { id: name, value: normalize(column, value) },
    );
  }

  /** Queues an action; what is written up to {@link endPrediction} is what it is expected to do. Returns the id of the call. */
  invoke(name: string, input: Readonly<Record<string, unknown>>): string {
    const id = this.writing.invoke(name, input);
    this.writing.endPrediction();
    return id;
  }

  /** The same, and what is written from here on is a prediction, up to {@link endPrediction}. */
  beginPrediction(name: string, input: Readonly<Record<string, unknown>>): string {
    return this.writing.invoke(name, input);
  }

  endPrediction(): void {
    this.writing.endPrediction();
  }

  /** Settles conflicts; {@link loadSettling} comes first. */
  resolve(decisions: readonly RowDecision[]): void {
    settleConflicts?.(this.engine, decisions);
    for (const row of decisions) this.writing.touch(row);
  }

  /** Several writes, one after the other. */
  batch(writes: readonly Write[]): void {
    for (const { name, given } of writes) (this[name] as (...given: readonly unknown[]) => unknown)(...given);
  }

  /** Notes the answer that filled a table from a source, in the transaction that fills it. */
  noteSource(table: string, note: string): void {
    setMeta(this.engine.database, `source ${table}`, note);
  }

  /** Writes down, as part of its effect, that a call from another thread or tab was done. */
  noteCall(call: string): void {
    this.engine.calls.note(call, undefined);
  }

  /** The problems for which the transaction would be refused if it ended now. */
  check(): readonly Problem[] {
    return this.writing.problems();
  }

  /** Checks what only the transaction as a whole can answer for. The last step of each. */
  finish(): void {
    finish(this.engine, this.writing);
  }

  /** The rows a condition means. Without one nothing is done: a forgotten condition must not reach every row. */
  private meant(tableName: string, where: unknown): readonly AnyRow[] {
    const table = tableOf(this.engine.schema, tableName);
    if (where === everyRow) return this.engine.rows.select({ from: tableName });
    const condition = parseWhere(tableName, table, where);
    if (where === undefined || (condition.kind === 'and' && condition.conditions.length === 0))
      throw new KoinonError(
        'condition-missing',
        `No condition says which rows of ${tableName} are meant; give one, or '${everyRow}'.`,
        { table: tableName },
      );
    return this.engine.rows.select({ from: tableName, where });
  }
}

/** One write of a batch. */
export interface Write {
  readonly name: 'insert' | 'update' | 'delete' | 'insertAll' | 'upsertAll' | 'invoke';
  readonly given: readonly unknown[];
}

/** Functions of a class, by name. */
type Functions<T> = { [K in keyof T as T[K] extends (...args: never[]) => unknown ? K : never]: T[K] };

/** Every step by name. */
export type Steps = Omit<Functions<WriteSteps>, 'finish'>;

/** The name of a step. */
export type StepName = keyof Steps;

function settingColumn(engine: Engine, name: string) {
  const { settings } = engine.schema;
  return columnOf(table(settings), 'settings', name);
}
