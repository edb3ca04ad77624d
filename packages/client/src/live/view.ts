import { type AnyRow, sameValue } from '@koinon/core';
import { comparatorOf, frozenRow, type Plan } from '@koinon/core/internal';
import type { Origin, RowChange } from './commit.ts';
import { Matching } from './matching.ts';
import type { Result } from './result.ts';
import type { Watcher } from './watchers.ts';

/** Runs the query of a view and returns whole rows, in order. */
export type Refill = () => AnyRow[];

/** This many changes at once, and over a tenth of the rows, are quicker read anew than patched one by one. */
const patchLimit = 200;

/**
 * The result of one live query, patched in place: each changed row leaves, enters, moves or stays by the predicate and
 * the order, without asking the database. Only a LIMIT window that lost a row, or might have, is filled again by SQL.
 */
export class View extends Matching {
  private readonly plan: Plan;
  private readonly refill: Refill;
  private readonly deliver: (result: Result<AnyRow>) => void;
  private readonly fail: (error: unknown) => void;
  private readonly compare: (a: AnyRow, b: AnyRow) => number;
  private readonly showsAll: boolean;
  private readonly shown = new WeakMap<AnyRow, AnyRow>();
  private rows: AnyRow[] = [];
  private byId = new Map<string, AnyRow>();

  constructor(plan: Plan, refill: Refill, deliver: (result: Result<AnyRow>) => void, fail: (error: unknown) => void) {
    super(plan.tableName, plan.condition);
    this.plan = plan;
    this.refill = refill;
    this.deliver = deliver;
    this.fail = fail;
    this.compare = comparatorOf(plan.order);
    this.showsAll = plan.columns.length === Object.keys(plan.table.columns).length;
  }

  /** Reads the result from the database and delivers what differs from before. */
  override refresh(): void {
    this.forget();
    this.readAnew('start');
  }

  protected override take(changes: readonly RowChange[], origin: Origin): void {
    const tooMany = changes.length > patchLimit && changes.length * 10 > this.rows.length;
    if (tooMany || this.plan.offset > 0) this.readAnew(origin);
    else this.patch(changes, origin);
  }

  private patch(changes: readonly RowChange[], origin: Origin): void {
    const { limit } = this.plan;
    // A full window is known up to its last row only: a row that leaves it, or moves, may let another in.
    const isFull = limit !== undefined && this.rows.length >= limit;
    if (isFull && changes.some(({ id, after }) => this.byId.has(id) && !this.staysInPlace(id, after))) {
      this.readAnew(origin);
      return;
    }

    const added = new Map<string, AnyRow>();
    const updated: AnyRow[] = [];
    const removed: AnyRow[] = [];
    for (const { id, after } of changes) {
      const before = this.byId.get(id);
      const enters = after !== null && this.matches(after);
      if (before !== undefined) this.rows.splice(this.indexOf(before), 1);
      if (enters) this.rows.splice(this.indexOf(after), 0, after);
      if (before !== undefined && !enters) {
        this.byId.delete(id);
        removed.push(before);
      } else if (enters) {
        this.byId.set(id, after);
        if (before === undefined) added.set(id, after);
        else updated.push(after);
      }
    }
    for (const row of limit === undefined ? [] : this.rows.splice(limit)) {
      this.byId.delete(row.id);
      if (!added.delete(row.id)) removed.push(row);
    }
    this.notify({
      added: [...added.values()],
      updated: updated.filter(({ id }) => this.byId.has(id)),
      removed,
      origin,
    });
  }

  private staysInPlace(id: string, after: AnyRow | null): boolean {
    return after !== null && this.matches(after) && this.compare(this.byId.get(id) as AnyRow, after) === 0;
  }

  /** The whole result from the database, compared with the present one. */
  private readAnew(origin: Result<AnyRow>['origin']): void {
    let rows: AnyRow[];
    try {
      rows = this.refill();
    } catch (error) {
      this.fail(error);
      return;
    }
    const before = this.byId;
    const added: AnyRow[] = [];
    const updated: AnyRow[] = [];
    this.byId = new Map();
    this.rows = rows.map((row) => {
      const known = before.get(row.id);
      const kept = known !== undefined && sameValue(known, row) ? known : row;
      this.byId.set(row.id, kept);
      if (known === undefined) added.push(row);
      else if (kept !== known) updated.push(row);
      return kept;
    });
    const removed = [...before.values()].filter(({ id }) => !this.byId.has(id));
    this.notify({ added, updated, removed, origin });
  }

  private notify({ added, updated, removed, origin }: Omit<Result<AnyRow>, 'rows' | 'ready'>): void {
    if (origin !== 'start' && added.length + updated.length + removed.length === 0) return;
    const show = (rows: readonly AnyRow[]) => (this.showsAll ? [...rows] : rows.map((row) => this.show(row)));
    this.deliver({
      rows: show(this.rows),
      added: show(added),
      updated: show(updated),
      removed: show(removed),
      origin,
      ready: true,
    });
  }

  /** A row with the columns the query asks for; the same object for the same row. */
  private show(row: AnyRow): AnyRow {
    let shown = this.shown.get(row);
    if (shown === undefined) {
      shown = frozenRow(row.id, row, this.plan.columns);
      this.shown.set(row, shown);
    }
    return shown;
  }

  /** The place where a row is, or belongs: the order is whole, so there is one. */
  private indexOf(row: AnyRow): number {
    let low = 0;
    let high = this.rows.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (this.compare(this.rows[middle] as AnyRow, row) < 0) low = middle + 1;
      else high = middle;
    }
    return low;
  }
}

/** The content of a row without an id, as a text. */
const contentOf = (row: unknown) =>
  JSON.stringify(row, (_name, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value));

/** A live query that is run again whenever a row of its tables changes: SQL templates, groups, joins. */
export class Rerun<R> implements Watcher {
  readonly tables: readonly string[];
  private readonly refill: () => R[];
  private readonly deliver: (result: Result<R>) => void;
  private readonly fail: (error: unknown) => void;
  private rows: R[] = [];

  constructor(
    tables: readonly string[],
    refill: () => R[],
    deliver: (result: Result<R>) => void,
    fail: (error: unknown) => void,
  ) {
    this.tables = tables;
    this.refill = refill;
    this.deliver = deliver;
    this.fail = fail;
  }

  offer(): void {}

  flush(origin: Origin): void {
    this.run(origin);
  }

  refresh(): void {
    this.run('start');
  }

  private run(origin: Result<R>['origin']): void {
    let rows: R[];
    try {
      rows = this.refill();
    } catch (error) {
      this.fail(error);
      return;
    }
    // Rows of a free query have no identity but their content, or their id where they show one.
    const keyed = (row: R) => {
      const { id, column } = row as { readonly id?: unknown; readonly column?: unknown };
      // A row may be in conflict with several columns.
      return id === undefined ? contentOf(row) : column === undefined ? id : JSON.stringify([id, column]);
    };
    const before = new Map(this.rows.map((row) => [keyed(row), row]));
    const added: R[] = [];
    const updated: R[] = [];
    const next = rows.map((row) => {
      const known = before.get(keyed(row));
      before.delete(keyed(row));
      if (known === undefined) added.push(row);
      else if (sameValue(known, row)) return known;
      else updated.push(row);
      return row;
    });
    const moved = next.length !== this.rows.length || next.some((row, i) => row !== this.rows[i]);
    this.rows = next;
    if (moved || origin === 'start')
      this.deliver({ rows: next, added, updated, removed: [...before.values()], origin, ready: true });
  }
}
