import { type AnyRow, type Condition, predicateOf } from '@koinon/core';
import type { Origin, RowChange } from './commit.ts';
import { throwLater } from './result.ts';
import type { Watcher } from './watchers.ts';

/** One row's change, as a listener gets it. */
export interface ChangeEvent<R> {
  readonly kind: 'insert' | 'update' | 'delete';
  readonly id: string;
  /** The row before; null for an insert. */
  readonly before: R | null;
  /** The row now; null for a delete. */
  readonly after: R | null;
  readonly origin: Origin;
}

/** Tells a listener of each changed row that fulfils a condition, or did before. Asks the database nothing. */
export class Listener implements Watcher {
  readonly tables: readonly string[];
  readonly condition: Condition;
  private readonly tell: (events: readonly ChangeEvent<AnyRow>[]) => void;
  private readonly matches: (row: AnyRow) => boolean;
  private pending: RowChange[] = [];

  constructor(table: string, condition: Condition, tell: (events: readonly ChangeEvent<AnyRow>[]) => void) {
    this.tables = [table];
    this.condition = condition;
    this.tell = tell;
    this.matches = predicateOf(condition);
  }

  offer(change: RowChange): void {
    const { before, after } = change;
    if ((before !== null && this.matches(before)) || (after !== null && this.matches(after))) this.pending.push(change);
  }

  flush(origin: Origin): void {
    const changes = this.pending;
    this.pending = [];
    if (changes.length === 0) return;
    const events = changes.map(({ id, before, after }): ChangeEvent<AnyRow> => {
      const kind = before === null ? 'insert' : after === null ? 'delete' : 'update';
      return { kind, id, before, after, origin };
    });
    try {
      this.tell(events);
    } catch (error) {
      throwLater(error);
    }
  }

  /** Another process's writes cannot be told row by row. */
  refresh(): void {}
}
