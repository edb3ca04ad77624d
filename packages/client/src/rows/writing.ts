import {
  type AnyRow,
  type Change,
  type Column,
  KoinonError,
  limits,
  type Operation,
  type Problem,
  type RowKey,
  type Schema,
  sameValue,
  type Table,
  tableOf,
  type WireColumns,
  type Writer,
  withDefaults,
} from '@koinon/core';
import {
  actionOf,
  applyChange,
  changeProblems,
  errorFromProblems,
  idOfKey,
  inputToWire,
  isProvisionalId,
  keptColumns,
  keptOperation,
  normalize,
  noSuchRow,
  problemOf,
  rowKey,
  rowLabel,
  rowProblems,
  sentence,
  shown,
  type TypedOver,
  wholeRow,
} from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { clockOffset } from '../database/layout.ts';
import { storageError } from '../driver/errors.ts';
import type { Host } from '../host/host.ts';
import type { Commit } from '../live/commit.ts';
import type { OpenOutboxEntry, Outbox } from '../outbox/outbox.ts';
import type { Bases } from './base.ts';
import { integrityProblems, type Touched } from './integrity.ts';
import type { Rows } from './rows.ts';

/** The parts that a local transaction writes to. */
export interface WriteTarget {
  readonly schema: Schema;
  readonly database: Database;
  readonly rows: Rows;
  readonly bases: Bases;
  readonly outbox: Outbox;
  readonly host: Host;
  readonly commit: Commit;
  /** The tables that others refer to. */
  readonly referenced: ReadonlySet<string>;
}

/**
 * One local transaction: rows and outbox change together, inside one SQL transaction that the caller holds open.
 * Types, presence, ranges and lists are checked before a row is written; uniqueness and references when the transaction
 * ends, so that two rows may swap a unique value on the way.
 */
export class Writing {
  private readonly to: WriteTarget;
  private readonly origin: string | undefined;
  private readonly touched = new Map<string, Touched>();
  private broken: { readonly error: unknown } | undefined;
  private entry: OpenOutboxEntry | undefined;
  /** The place of the action whose predictions are being written. */
  private predicting: number | undefined;
  private actions = 0;
  /** How many rows have been written. */
  writes = 0;

  /** @param origin of an act that is done again. */
  constructor(target: WriteTarget, origin?: string) {
    this.to = target;
    this.origin = origin;
  }

  /** @param from where the row comes from: one that was deleted has its key already. */
  insert(tableName: string, values: Readonly<Record<string, unknown>>, from: 'app' | 'trash' = 'app'): AnyRow {
    const table = tableOf(this.to.schema, tableName);
    const given = withDefaults(table, asColumns(tableName, values));
    const id = (values.id ?? idOfKey(table, given) ?? this.to.host.newId()) as string;
    const change: Change = { kind: 'insert', table: tableName, id, columns: given };
    if (from === 'app' && this.predicting === undefined && table.assignedKey && !isProvisionalId(id))
      refuse([keyGivenElsewhere(table, change)]);
    refuse(changeProblems(table, change, this.writer));
    for (const [name, column] of table.entries) given[name] = normalize(column, given[name]);
    const row = wholeRow(table, id, given);
    refuse(rowProblems(tableName, table, row));
    const over = this.overPredicted(table, change, null);
    this.both(() => {
      this.to.rows.insert(tableName, row);
      this.record(table, change, null, over);
    });
    this.note(table, change, null, row);
    return row;
  }

  /** Changes some columns of a row. A patch that changes nothing writes and queues nothing. */
  update(tableName: string, id: string, patch: Readonly<Record<string, unknown>>): AnyRow {
    const before = this.existing(tableName, id);
    const table = tableOf(this.to.schema, tableName);
    if (asColumns(tableName, patch).id !== undefined && patch.id !== id)
      throw new KoinonError(
        'row-read-only',
        `The id of ${rowLabel(this.to.schema, { table: tableName, id }, before)} cannot change; insert a new row and delete this one.`,
        {
          table: tableName,
          id,
          column: 'id',
          value: patch.id,
        },
      );
    const given = Object.fromEntries(
      Object.entries(patch).filter(
        ([name, value]) =>
          name !== 'id' && value !== undefined && !(table.key.includes(name) && sameValue(before[name], value)),
      ),
    );
    const asked = { kind: 'update', table: tableName, id, columns: given, operations: {} } as const;
    refuse(changeProblems(table, asked, this.writer));
    const columns = Object.fromEntries(
      Object.entries(keptColumns(table, given)).filter(([name, value]) => !sameValue(before[name], value)),
    );
    if (Object.keys(columns).length === 0) return before;
    return this.write(table, before, { kind: 'update', table: tableName, id, columns, operations: {} });
  }

  /** Applies an operation to a counter or set column. */
  operate(tableName: string, id: string, column: string, operation: Operation): AnyRow {
    const before = this.existing(tableName, id);
    const table = tableOf(this.to.schema, tableName);
    const given: Change = { kind: 'update', table: tableName, id, columns: {}, operations: { [column]: operation } };
    refuse(changeProblems(table, given, this.writer));
    const change: Change = {
      ...given,
      operations: { [column]: keptOperation(table.columns[column] as Column, operation) },
    };
    const after = applyChange(table, before, change) as AnyRow;
    if (sameValue(before[column], after[column])) return before;
    return this.write(table, before, change);
  }

  /** Removes a row. */
  delete(tableName: string, id: string): void {
    const before = this.existing(tableName, id);
    const table = tableOf(this.to.schema, tableName);
    const change: Change = { kind: 'delete', table: tableName, id };
    refuse(changeProblems(table, change, this.writer));
    const over = this.overPredicted(table, change, before);
    this.both(() => {
      this.record(table, change, before, over);
      this.to.rows.remove(tableName, id);
    });
    this.note(table, change, before, null);
  }

  /**
   * Queues an action behind what was written so far; what is written from here on, up to {@link endPrediction}, is what it is expected to do.
   * The changes before it are checked as a whole: the server writes those first.
   *
   * @returns the id of the call.
   */
  invoke(name: string, given: Readonly<Record<string, unknown>>): string {
    const { schema, host } = this.to;
    const id = host.newId();
    this.invokeAgain(name, inputToWire(name, actionOf(schema, name), given), id);
    return id;
  }

  /** The same for a call that was taken back. */
  invokeAgain(name: string, input: WireColumns, id: string): void {
    if (++this.actions > limits.actions)
      throw new KoinonError('too-large', `A transaction takes ${limits.actions} actions at most. Make several of it.`, {
        value: name,
      });
    refuse(this.problems());
    this.predicting = this.to.outbox.appendAction(this.opened(), { id, name, input });
  }

  /** From here on rows are written again, and sent. */
  endPrediction(): void {
    this.predicting = undefined;
  }

  /** Checks what only the whole transaction can answer for: unique groups and references, at their final values. */
  finish(): void {
    if (this.broken) throw this.broken.error;
    refuse(this.problems());
  }

  /** The place of what was written in the outbox; undefined while that is nothing. */
  get sequence(): number | undefined {
    return this.entry?.sequence;
  }

  /** Has a row checked at the end that something else has changed. */
  touch({ table, id }: RowKey, columns: readonly string[] = [], before: AnyRow | null = null): void {
    const key = rowKey({ table, id });
    const known = this.touched.get(key);
    this.touched.set(key, { table, id, before, columns: [...(known?.columns ?? []), ...columns] });
  }

  /** The problems of the rows touched so far. */
  problems(): Problem[] {
    return integrityProblems(this.to, this.touched.values());
  }

  private write(table: Table, before: AnyRow, change: Extract<Change, { kind: 'update' }>): AnyRow {
    const after = applyChange(table, before, change) as AnyRow;
    refuse(rowProblems(change.table, table, after));
    const changed = [...Object.keys(change.columns), ...Object.keys(change.operations)];
    const over = this.overPredicted(table, change, before);
    this.both(() => {
      this.record(table, change, before, over);
      this.to.rows.patch(change.table, change.id, Object.fromEntries(changed.map((name) => [name, after[name]])));
    });
    this.note(table, change, before, after);
    return after;
  }

  /** Row and outbox together: when the storage fails between the two, the transaction can no longer be committed. */
  private both(work: () => void): void {
    try {
      work();
    } catch (error) {
      if (error instanceof KoinonError && error.code === 'duplicate-id') throw error;
      this.broken ??= { error: storageError(error) };
      throw error;
    }
  }

  private existing(tableName: string, id: string): AnyRow {
    tableOf(this.to.schema, tableName);
    const row = typeof id === 'string' ? this.to.rows.get(tableName, id) : null;
    if (row !== null) return row;
    throw new KoinonError('no-such-row', noSuchRow(this.to.schema, { table: tableName, id }, 'on this device'), {
      table: tableName,
      id,
      value: id,
    });
  }

  /** Predictions write what only the server may. */
  private get writer(): Writer {
    return this.predicting === undefined ? 'device' : 'server';
  }

  /** The entry of the transaction in the outbox. */
  private opened(): OpenOutboxEntry {
    const { host, database } = this.to;
    this.entry ??= {
      ...(this.origin === undefined ? { origin: host.newId() } : { origin: this.origin, id: host.newId() }),
      editedAt: host.now() + clockOffset(database),
    };
    return this.entry;
  }

  /**
   * Looks whether a change meets predictions, before anything is written; returns the predicted values that it is typed on top of.
   *
   * @throws KoinonError `row-predicted`.
   */
  private overPredicted(table: Table, change: Change, before: AnyRow | null): TypedOver | undefined {
    const { schema, outbox } = this.to;
    if (this.predicting !== undefined) {
      if (table.home === 'everywhere') return undefined;
      throw new KoinonError(
        'row-predicted',
        `The table ${change.table} stays on this device, so that no action of the server changes it. Write it outside of what the action is expected to do.`,
        { table: change.table, id: change.id },
      );
    }
    if (!outbox.predictions.has(change.table, change.id)) return undefined;
    const { over, by } = outbox.predictions.typedOver(change, before);
    if (this.entry === undefined || !by.some((sequence) => sequence === this.entry?.sequence)) return over;
    throw new KoinonError(
      'row-predicted',
      `${sentence(rowLabel(schema, change, before))} was changed here by what an action of this transaction is expected to do. Change it in another transaction, or have the action do it.`,
      { table: change.table, id: change.id },
    );
  }

  /** Puts a change into the outbox, after the base of a row that had no changes so far. */
  private record(table: Table, change: Change, before: AnyRow | null, over: TypedOver | undefined): void {
    if (table.home === 'device') return;
    const { outbox, bases } = this.to;
    const { predictions } = outbox;
    if (before !== null) {
      if (outbox.hasChangesOf(change.table, change.id)) outbox.keepInserted(change.table, change.id);
      else if (!predictions.has(change.table, change.id)) bases.set(change.table, change.id, before);
    }
    const entry = this.opened();
    if (this.predicting !== undefined) {
      predictions.add(entry.sequence as number, this.predicting, change);
      return;
    }
    const place = outbox.append(entry, change);
    if (over) predictions.setOver(entry.sequence as number, place, change.table, over);
  }

  /** Remembers a write for the checks at the end, where it can break any, and for those who watch. */
  private note(table: Table, change: Change, before: AnyRow | null, after: AnyRow | null): void {
    this.writes++;
    if (change.kind === 'delete' ? this.to.referenced.has(change.table) : touchesIntegrity(table, change))
      this.touch(change, change.kind === 'update' ? Object.keys(change.columns) : [], before);
    this.to.commit.note(change.table, change.id, before, after);
  }
}

/** Tells whether a change can break a unique group or a reference. */
function touchesIntegrity(table: Table, change: Exclude<Change, { kind: 'delete' }>): boolean {
  return table.integrity.some((name) => change.kind === 'insert' || Object.hasOwn(change.columns, name));
}

function asColumns(tableName: string, values: unknown): Readonly<Record<string, unknown>> {
  if (values !== null && typeof values === 'object' && !Array.isArray(values))
    return values as Readonly<Record<string, unknown>>;
  throw new KoinonError('value-type', `A row of ${tableName} is an object of columns, not ${shown(values)}.`, {
    table: tableName,
    value: values,
  });
}

/** The problem of a new row with a key of its own in a table whose keys the database gives. */
function keyGivenElsewhere(table: Table, { table: name, id }: RowKey): Problem {
  return problemOf(
    { tables: { [name]: table } },
    'value-assigned',
    { table: name, id, column: 'id' },
    'value-assigned',
  );
}

function refuse(problems: readonly Problem[]): void {
  const [first, ...rest] = problems;
  if (first) throw errorFromProblems([first, ...rest]);
}
