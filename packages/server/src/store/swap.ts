import { randomUUID } from 'node:crypto';
import type { Change, Table } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
import { ConstraintError } from './store.ts';

/** The parts that applying changes in a workable order needs of a writer. */
export interface Applying {
  table(name: string): Table;
  /** @throws ConstraintError when the table refuses the change. */
  apply(change: Change): Promise<void> | void;
}

/**
 * Applies the changes of one transaction where their own order would break a unique value on the way: uniqueness
 * is checked at every statement. A change that finds its value taken is put off until the others are done; if all that
 * are left wait for each other (two rows swap a value, three pass theirs around), one of them is parked at a value
 * nobody has, and written again when its own is free. Changes of one row keep their order.
 *
 * @throws ConstraintError what a value that stays taken says.
 */
export async function applyInWorkableOrder(changes: readonly Change[], writer: Applying): Promise<void> {
  const parked = new Set<string>();
  for (let left = changes; left.length > 0; ) {
    const { putOff, refusal } = await applyOnce(left, writer);
    if (refusal && putOff.length === left.length) {
      const parking = putOff.find(
        (change) => !parked.has(rowKey(change)) && parkingOf(writer.table(change.table), change) !== undefined,
      );
      if (parking === undefined) throw refusal;
      parked.add(rowKey(parking));
      await writer.apply(parkingOf(writer.table(parking.table), parking) as Change);
    }
    left = putOff;
  }
}

/**
 * Applies those changes of a transaction whose unique values are free by now, where more of its changes are to come; nothing
 * is parked. Returns the others.
 */
export async function applyFree(changes: readonly Change[], writer: Applying): Promise<readonly Change[]> {
  for (let left = changes; ; ) {
    const { putOff } = await applyOnce(left, writer);
    if (putOff.length === 0 || putOff.length === left.length) return putOff;
    left = putOff;
  }
}

/** Tries each change once. Those whose value is taken are put off, with the later ones of the same rows. */
async function applyOnce(changes: readonly Change[], writer: Applying) {
  const putOff: Change[] = [];
  const waiting = new Set<string>();
  let refusal: ConstraintError | undefined;
  for (const change of changes) {
    if (waiting.size > 0 && waiting.has(rowKey(change))) {
      putOff.push(change);
      continue;
    }
    try {
      const applied = writer.apply(change);
      // A store that is done at once is not waited for: thousands of such waits are most of what a long transaction costs.
      if (applied) await applied;
    } catch (error) {
      if (!(error instanceof ConstraintError) || error.problem.code !== 'duplicate-value') throw error;
      refusal ??= error;
      waiting.add(rowKey(change));
      putOff.push(change);
    }
  }
  return { putOff, refusal };
}

/** The update that takes a row's unique value out of the way of others; its own change gives it the final one. */
function parkingOf(table: Table, change: Change): Change | undefined {
  if (change.kind !== 'update') return undefined;
  for (const name of table.unique.flat()) {
    const column = Object.hasOwn(change.columns, name) ? table.columns[name] : undefined;
    if (column === undefined) continue;
    const value = column.optional
      ? null
      : column.type === 'text'
        ? `parked ${randomUUID()}`
        : column.type === 'integer'
          ? -Math.floor(Math.random() * 2 ** 52)
          : undefined;
    if (value !== undefined) return { ...change, columns: { [name]: value }, operations: {} };
  }
  return undefined;
}
