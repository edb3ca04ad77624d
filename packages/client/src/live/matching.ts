import type { AnyRow, Condition } from '@koinon/core';
import type { Predicate } from '@koinon/core/internal';
import { predicateOf } from '@koinon/core/internal';
import type { Origin, RowChange } from './commit.ts';
import type { Watcher } from './watchers.ts';

/** A watcher of the rows of one table that fulfil a condition, or did before a change: it gathers the changes of a commit. */
export abstract class Matching implements Watcher {
  readonly tables: readonly string[];
  readonly condition: Condition;
  protected readonly matches: Predicate;
  private pending: RowChange[] = [];

  constructor(table: string, condition: Condition) {
    this.tables = [table];
    this.condition = condition;
    this.matches = predicateOf(condition);
  }

  offer(change: RowChange): void {
    if (this.concerns(change.before) || this.concerns(change.after)) this.pending.push(change);
  }

  flush(origin: Origin): void {
    const changes = this.pending;
    this.pending = [];
    if (changes.length > 0) this.take(changes, origin);
  }

  abstract refresh(): void;

  /** Takes the changes of one commit that concern it. */
  protected abstract take(changes: readonly RowChange[], origin: Origin): void;

  /** Forgets what has been gathered. */
  protected forget(): void {
    this.pending = [];
  }

  private concerns(row: AnyRow | null): boolean {
    return row !== null && this.matches(row);
  }
}
