import type { AnyRow, Condition } from '@koinon/core';
import type { Origin, RowChange } from './commit.ts';
import { Matching } from './matching.ts';
import { throwLater } from './result.ts';

/** One row's change, as a listener gets it. */
export interface ChangeEvent<R> {
  /** `leave`: the row is no longer one of this user's; it is not deleted for that. */
  readonly kind: 'insert' | 'update' | 'delete' | 'leave';
  readonly id: string;
  /** The row before; null for an insert. */
  readonly before: R | null;
  /** The row now; null for a delete, and for one that has left. */
  readonly after: R | null;
  readonly origin: Origin;
}

/** Tells a listener of each changed row that fulfils a condition, or did before. Asks the database nothing. */
export class Listener extends Matching {
  private readonly notify: (events: readonly ChangeEvent<AnyRow>[]) => void;

  constructor(table: string, condition: Condition, notify: (events: readonly ChangeEvent<AnyRow>[]) => void) {
    super(table, condition);
    this.notify = notify;
  }

  /** Another process's writes cannot be told row by row. */
  override refresh(): void {}

  protected override take(changes: readonly RowChange[], origin: Origin): void {
    const events = changes.map(({ id, before, after, hasLeft }): ChangeEvent<AnyRow> => {
      const gone = hasLeft ? 'leave' : 'delete';
      const kind = before === null ? 'insert' : after === null ? gone : 'update';
      return { kind, id, before, after, origin };
    });
    try {
      this.notify(events);
    } catch (error) {
      throwLater(error);
    }
  }
}
