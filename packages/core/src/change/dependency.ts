import { rowKey } from '../schema/row-key.ts';
import type { Schema } from '../schema/schema.ts';
import { type Change, type Referring, referencesOf } from './change.ts';

/**
 * Which transactions depend on one that is held: those that touch one of its rows, or refer to one. The order of the outbox,
 * the status of rows and the server's push ask the same question in the order of the transactions.
 *
 * @typeParam Cause what holds a transaction: its id, or the row to look at.
 */
export class HeldRows<Cause> {
  private readonly schema: Schema;
  private readonly causes = new Map<string, Cause>();

  constructor(schema: Schema) {
    this.schema = schema;
  }

  /** The same, to be gone on with apart. */
  copy(): HeldRows<Cause> {
    const copy = new HeldRows<Cause>(this.schema);
    for (const [key, cause] of this.causes) copy.causes.set(key, cause);
    return copy;
  }

  /** Notes a transaction that is held. */
  add(changes: readonly Pick<Change, 'table' | 'id'>[], cause: Cause): void {
    for (const change of changes) this.causes.set(rowKey(change), cause);
  }

  /** The cause for which a later transaction with these changes has to wait; undefined for nothing. */
  causeOf(changes: readonly (Pick<Change, 'table' | 'id'> & Referring)[]): Cause | undefined {
    if (this.causes.size === 0) return undefined;
    for (const change of changes) {
      const table = Object.hasOwn(this.schema.tables, change.table) ? this.schema.tables[change.table] : undefined;
      const cause = this.causes.get(rowKey(change));
      if (cause !== undefined) return cause;
      if (table === undefined) continue;
      for (const target of referencesOf(table, change)) {
        const held = this.causes.get(rowKey(target));
        if (held !== undefined) return held;
      }
    }
    return undefined;
  }
}
