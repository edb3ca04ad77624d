import {
  type AnyRow,
  applyChange,
  type Change,
  type Column,
  changeProblems,
  errorFromProblems,
  KoinonError,
  kept,
  type Operation,
  type Problem,
  rowProblems,
  type Schema,
  sameValue,
  shown,
  type Table,
  tableOf,
  wholeRow,
  withDefaults,
} from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Host } from '../host/host.ts';
import type { Commit } from '../live/commit.ts';
import type { Outbox } from '../outbox/outbox.ts';
import type { Bases } from '../overlay/base.ts';
import { integrityProblems } from './integrity.ts';
import type { Rows } from './rows.ts';

/** What a local transaction writes to. */
export interface WriteTarget {
  readonly schema: Schema;
  readonly database: Database;
  readonly rows: Rows;
  readonly bases: Bases;
  readonly outbox: Outbox;
  readonly host: Host;
}

/**
 * One local transaction: rows and outbox change together, inside one SQL transaction that the caller holds open.
 * Types, presence, ranges and lists are checked before a row is written; uniqueness and references when the transaction
 * ends, so that two rows may swap a unique value on the way.
 */
export class Writing {
  private readonly to: WriteTarget;
  private readonly commit: Commit;
  private readonly touched = new Map<string, { readonly table: string; readonly id: string }>();
  private sequence: number | undefined;
  private broken: { readonly error: unknown } | undefined;
  private ordinal = 0;

  constructor(target: WriteTarget, commit: Commit) {
    this.to = target;
    this.commit = commit;
  }

  insert(tableName: string, values: Readonly<Record<string, unknown>>): AnyRow {
    const table = tableOf(this.to.schema, tableName);
    const { id: given, ...rest } = asColumns(tableName, values);
    const id = given ?? this.to.host.newId();
    const columns = withDefaults(table, rest);
    const change: Change = { kind: 'insert', table: tableName, id: id as string, columns };
    refuse(changeProblems(table, change));
    if (this.to.rows.has(tableName, change.id))
      throw new KoinonError(
        'duplicate-id',
        `${tableName} ${shown(id)} is there already; update it, or insert under another id.`,
        {
          table: tableName,
          id: change.id,
          column: 'id',
          value: id,
        },
      );
    const row = wholeRow(table, change.id, keptColumns(table, columns));
    refuse(rowProblems(tableName, table, row));
    const { id: _, ...whole } = row;
    this.both(() => {
      this.record(table, { ...change, columns: whole }, null);
      this.to.rows.insert(tableName, row);
      this.commit.note(tableName, row.id, null, row);
    });
    return row;
  }

  /** Changes some columns of a row. A patch that changes nothing writes and queues nothing. */
  update(tableName: string, id: string, patch: Readonly<Record<string, unknown>>): AnyRow {
    const before = this.existing(tableName, id);
    const table = tableOf(this.to.schema, tableName);
    if (asColumns(tableName, patch).id !== undefined && patch.id !== id)
      throw new KoinonError(
        'row-read-only',
        `The id of ${tableName} ${id} cannot change; insert a new row and delete this one.`,
        {
          table: tableName,
          id,
          column: 'id',
          value: patch.id,
        },
      );
    const given = Object.fromEntries(
      Object.entries(patch).filter(([name, value]) => name !== 'id' && value !== undefined),
    );
    refuse(changeProblems(table, { kind: 'update', table: tableName, id, columns: given, operations: {} }));
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
    const change: Change = { kind: 'update', table: tableName, id, columns: {}, operations: { [column]: operation } };
    refuse(changeProblems(table, change));
    const after = applyChange(table, before, change) as AnyRow;
    if (sameValue(before[column], after[column])) return before;
    return this.write(table, before, change);
  }

  /** Removes a row. */
  delete(tableName: string, id: string): void {
    const before = this.existing(tableName, id);
    this.both(() => {
      this.record(tableOf(this.to.schema, tableName), { kind: 'delete', table: tableName, id }, before);
      this.to.rows.remove(tableName, id);
      this.commit.note(tableName, id, before, null);
    });
  }

  /** Checks what only the whole transaction can answer for: unique groups and references, at their final values. */
  finish(): void {
    if (this.broken) throw this.broken.error;
    refuse(this.problems());
  }

  /** What the rows touched so far break together. */
  problems(): Problem[] {
    return integrityProblems(this.to, this.touched.values());
  }

  private write(table: Table, before: AnyRow, change: Extract<Change, { kind: 'update' }>): AnyRow {
    const after = applyChange(table, before, change) as AnyRow;
    refuse(rowProblems(change.table, table, after));
    const changed = [...Object.keys(change.columns), ...Object.keys(change.operations)];
    this.both(() => {
      this.record(table, change, before);
      this.to.rows.patch(change.table, change.id, Object.fromEntries(changed.map((name) => [name, after[name]])));
      this.commit.note(change.table, change.id, before, after);
    });
    return after;
  }

  /** Row and outbox together: when the storage fails between the two, the transaction can no longer be committed. */
  private both(work: () => void): void {
    try {
      work();
    } catch (error) {
      this.broken ??= { error };
      throw error;
    }
  }

  private existing(tableName: string, id: string): AnyRow {
    tableOf(this.to.schema, tableName);
    const row = typeof id === 'string' ? this.to.rows.get(tableName, id) : null;
    if (row !== null) return row;
    throw new KoinonError('no-such-row', `There is no ${tableName} ${shown(id)} on this device.`, {
      table: tableName,
      id,
      value: id,
    });
  }

  /** Puts a change into the outbox, after the base of a row that had no changes so far. */
  private record(table: Table, change: Change, before: AnyRow | null): void {
    this.touched.set(JSON.stringify([change.table, change.id]), change);
    if (table.home === 'device') return;
    const { outbox, bases, host } = this.to;
    if (before !== null && !outbox.hasChangesOf(change.table, change.id)) bases.set(change.table, change.id, before);
    this.sequence ??= outbox.begin(host.newId(), new Date(host.now()).toISOString());
    outbox.append(this.sequence, this.ordinal++, change);
  }
}

function asColumns(tableName: string, values: unknown): Readonly<Record<string, unknown>> {
  if (values !== null && typeof values === 'object' && !Array.isArray(values))
    return values as Readonly<Record<string, unknown>>;
  throw new KoinonError('value-type', `A row of ${tableName} is an object of columns, not ${shown(values)}.`, {
    table: tableName,
    value: values,
  });
}

function keptColumns(table: Table, columns: Readonly<Record<string, unknown>>): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(columns).map(([name, value]) => [name, kept(table.columns[name] as Column, value)]),
  );
}

function refuse(problems: readonly Problem[]): void {
  const [first, ...rest] = problems;
  if (first) throw errorFromProblems([first, ...rest]);
}
