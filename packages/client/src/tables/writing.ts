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
  quoteName,
  rowProblems,
  type Schema,
  sameValue,
  shown,
  type Table,
  tableOf,
  toSql,
  wholeRow,
  withDefaults,
} from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Host } from '../host/host.ts';
import type { Outbox } from '../outbox/outbox.ts';
import type { Bases } from '../overlay/base.ts';
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
  private readonly touched = new Map<string, { readonly table: string; readonly id: string }>();
  private sequence: number | undefined;
  private broken: { readonly error: unknown } | undefined;
  private ordinal = 0;

  constructor(target: WriteTarget) {
    this.to = target;
  }

  insert(tableName: string, values: Readonly<Record<string, unknown>>): AnyRow {
    const table = tableOf(this.to.schema, tableName);
    const { id: given, ...rest } = asColumns(tableName, values);
    const id = given ?? this.to.host.newId();
    const columns = withDefaults(table, rest);
    const change: Change = { kind: 'insert', table: tableName, id: id as string, columns };
    refuse(changeProblems(table, change));
    if (this.to.rows.get(tableName, change.id) !== null)
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
    });
  }

  /** Checks what only the whole transaction can answer for: unique groups and references, at their final values. */
  finish(): void {
    if (this.broken) throw this.broken.error;
    const problems: Problem[] = [];
    for (const { table, id } of this.touched.values()) {
      const row = this.to.rows.get(table, id);
      problems.push(
        ...(row === null
          ? this.stillReferenced(table, id)
          : [...this.notUnique(table, row), ...this.pointingNowhere(table, row)]),
      );
    }
    refuse(problems);
  }

  private write(table: Table, before: AnyRow, change: Extract<Change, { kind: 'update' }>): AnyRow {
    const after = applyChange(table, before, change) as AnyRow;
    refuse(rowProblems(change.table, table, after));
    const changed = [...Object.keys(change.columns), ...Object.keys(change.operations)];
    this.both(() => {
      this.record(table, change, before);
      this.to.rows.patch(change.table, change.id, Object.fromEntries(changed.map((name) => [name, after[name]])));
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

  private notUnique(tableName: string, row: AnyRow): Problem[] {
    const table = tableOf(this.to.schema, tableName);
    return table.unique.flatMap((group): Problem[] => {
      // As in SQL, null is unlike every value, itself included.
      if (group.some((name) => row[name] === null)) return [];
      const text = `SELECT id FROM ${quoteName(tableName)} WHERE ${group.map((name) => `${quoteName(name)} = ?`).join(' AND ')} AND id <> ? LIMIT 1`;
      const values = group.map((name) => toSql(table.columns[name] as Column, row[name]));
      const twin = this.to.database.statement(text).get(...values, row.id) as { id: string } | undefined;
      if (twin === undefined) return [];
      const rule = `unique (${group.join(', ')})`;
      const message = `${tableName} ${row.id}: ${group.join(', ')} ${group.map((name) => shown(row[name])).join(', ')} is taken by ${tableName} ${twin.id}.`;
      return [{ code: 'duplicate-value', table: tableName, id: row.id, column: group[0] as string, rule, message }];
    });
  }

  private pointingNowhere(tableName: string, row: AnyRow): Problem[] {
    return Object.entries(tableOf(this.to.schema, tableName).columns).flatMap(([name, { target }]): Problem[] => {
      if (target === undefined || row[name] === null || this.to.rows.get(target, row[name] as string) !== null)
        return [];
      const message = `${tableName}.${name} ${shown(row[name])}: there is no ${target} of that id on this device.`;
      return [
        {
          code: 'no-such-reference',
          table: tableName,
          id: row.id,
          column: name,
          rule: `references ${target}`,
          message,
        },
      ];
    });
  }

  private stillReferenced(tableName: string, id: string): Problem[] {
    return Object.entries(this.to.schema.tables).flatMap(([otherName, other]) =>
      Object.entries(other.columns).flatMap(([name, { target }]): Problem[] => {
        if (target !== tableName) return [];
        const found = this.to.database
          .statement(`SELECT id FROM ${quoteName(otherName)} WHERE ${quoteName(name)} = ? LIMIT 1`)
          .get(id);
        if (found === undefined) return [];
        const message = `${tableName} ${id} cannot be deleted: ${otherName} ${(found as { id: string }).id} refers to it by ${name}.`;
        return [{ code: 'row-referenced', table: tableName, id, rule: `referenced by ${otherName}.${name}`, message }];
      }),
    );
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
