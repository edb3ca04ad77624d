import {
  type AnyRow,
  type Change,
  type Problem,
  type RowKey,
  type Schema,
  sameValue,
  type Table,
  tableOf,
  withDefaults,
} from '@koinon/core';
import { rowKey, rowOfKey, rowParameters, serverProblemOf } from '@koinon/core/internal';
import type { User } from '../auth/authenticate.ts';
import { rowsByKey, type Stamp, type StoreWriter } from '../store/store.ts';
import type { Evaluated, ScopeSet } from './evaluate.ts';
import { type View, whole } from './view.ts';

/** The rights of one user to see and write, inside one database transaction. */
export class Guard {
  readonly scopes: ScopeSet;
  readonly user: User | undefined;
  private readonly schema: Schema;
  private readonly writer: StoreWriter;
  private evaluated: Evaluated | undefined;

  constructor(schema: Schema, writer: StoreWriter, scopes: ScopeSet, user: User | undefined) {
    this.schema = schema;
    this.writer = writer;
    this.scopes = scopes;
    this.user = user;
  }

  /** The view of the user as things stand. */
  async view(): Promise<View> {
    if (this.scopes.isOpen) return whole;
    this.evaluated ??= await this.scopes.evaluate(this.user, this.writer);
    return this.evaluated.view;
  }

  /** The app's own rules have written whatever they wanted. */
  forget(): void {
    this.evaluated = undefined;
  }

  /** Rows of these tables have been written: what he may see may be another thing now. */
  wrote(keys: readonly RowKey[]): void {
    const consulted = new Set(this.evaluated?.consulted.map(({ table }) => table));
    if (keys.some(({ table }) => consulted.has(table))) this.evaluated = undefined;
  }

  /**
   * The stamps of rows as the user may know of them: of one that is not in his scope there is none, as if it had never been.
   * Returns also which of those are there nevertheless.
   */
  async stamps(keys: readonly RowKey[], stamps: readonly (Stamp | undefined)[]) {
    const view = await this.view();
    const hidden = new Set<string>();
    if (view.isWhole) return { stamps, hidden };
    const rows = await rowsByKey(
      this.writer,
      keys.filter((_key, i) => stamps[i]?.deleted === false),
    );
    const seen = keys.map((key, i) => {
      const stamp = stamps[i];
      const { table, id } = key;
      if (stamp === undefined) return undefined;
      const row = stamp.deleted ? stamp.image : rows.get(rowKey(key));
      // The values that a deleted row held may not be known any more: then nobody can say whose it was.
      const isSeen = row === undefined ? view.scope[table]?.where === undefined : view.has(table, id, row);
      if (isSeen) return stamp;
      if (!stamp.deleted) hidden.add(rowKey(key));
      return undefined;
    });
    return { stamps: seen, hidden };
  }

  /**
   * An insert with the columns that its sender left out, being an older app, or does not get: where the row was deleted, as
   * it last had them; else by default.
   */
  completed(change: Change, stamp: Stamp | undefined, view: View): Change {
    if (change.kind !== 'insert') return change;
    const table = tableOf(this.schema, change.table);
    const without = view.without(change.table);
    // Nothing was left out, nearly always.
    if (without === undefined && table.names.every((name) => change.columns[name] !== undefined)) return change;
    const columns: Record<string, unknown> = { ...change.columns };
    for (const name of table.names) {
      const isGiven = Object.hasOwn(columns, name) && !(without?.has(name) && isUnset(table, name, columns[name]));
      if (!isGiven) columns[name] = stamp?.image?.[name];
    }
    return { ...change, columns: withDefaults(table, columns) };
  }

  /** The problems of changes before anything is written: ids that are taken, columns that are none of the user's. */
  async problems(
    changes: readonly Change[],
    stamps: ReadonlyMap<string, Stamp | undefined>,
    hidden: ReadonlySet<string>,
  ) {
    const view = await this.view();
    const problems: Problem[] = [];
    if (view.isWhole && hidden.size === 0) return problems;
    for (const change of changes) {
      const { table, id } = change;
      if (change.kind === 'insert' && hidden.has(rowKey(change)))
        problems.push(serverProblemOf(this.schema, 'duplicate-id', { table, id, column: 'id' }, 'id-taken'));
      if (change.kind === 'delete') continue;
      const image = stamps.get(rowKey(change))?.image;
      const names =
        change.kind === 'update'
          ? [...Object.keys(change.columns), ...Object.keys(change.operations)]
          : Object.keys(change.columns);
      for (const column of names) {
        if (!view.without(table)?.has(column)) continue;
        const value = change.columns[column];
        const definition = tableOf(this.schema, table);
        const isOwn =
          change.kind === 'insert' && (isUnset(definition, column, value) || sameValue(value, image?.[column]));
        if (!isOwn)
          problems.push(serverProblemOf(this.schema, 'not-permitted', { table, id, column }, 'column-not-permitted'));
      }
    }
    return problems;
  }

  /** For rows that no rule of the app's own has looked at: whether they are still where the user may read them. */
  async misplaced(intended: ReadonlyMap<string, AnyRow | null>): Promise<Problem[]> {
    const view = await this.view();
    const problems: Problem[] = [];
    for (const [key, row] of intended) {
      const { table, id } = rowOfKey(key);
      if (row === null || this.scopes.writeRule(table) !== undefined || view.has(table, id, row)) continue;
      const name = rowParameters(this.schema, table, row);
      problems.push(serverProblemOf(this.schema, 'not-permitted', { table, id }, 'row-not-permitted', name));
    }
    return problems;
  }
}

/** Tells whether a new row says nothing about a column: it holds what it holds if nothing is given, as far as that can be told. */
function isUnset(table: Table, name: string, value: unknown): boolean {
  const initial = table.columns[name]?.default;
  return value === null || value === undefined || typeof initial === 'function' || sameValue(value, initial);
}
