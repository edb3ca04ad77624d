import type { AnyRow, KoinonError } from '@koinon/core';
import type { Origin } from '../live/commit.ts';
import type { Result } from '../live/result.ts';
import { type CarriedError, carryError, errorOf } from './messages.ts';

/**
 * A live result on its way to another thread: whole, or as the difference to the one before, so that what crosses
 * follows the change and not the size of the result. Rows are told by their index in the new result.
 */
export interface CarriedResult {
  /** All rows; or only the new and changed ones, in the order of \`added\` and \`updated\` together. */
  readonly rows: readonly unknown[];
  readonly isWhole: boolean;
  readonly added: readonly number[];
  readonly updated: readonly number[];
  /** Rows of a whole result, else ids. */
  readonly removed: readonly unknown[];
  readonly origin: Origin | 'start';
  readonly ready: boolean;
  /** Why the rows may be old. */
  readonly error?: CarriedError;
}

const idOf = (row: unknown) => (row as { readonly id?: unknown } | null)?.id;

/** The sender's end: remembers the last result of one live query. */
export class Carrier {
  private last: readonly unknown[] = [];
  private hasIds = false;

  /** The result as it goes out. */
  carry(result: Result<unknown>): CarriedResult {
    const { ready, error } = result;
    const carried = (result.origin !== 'start' && this.hasIds && this.difference(result)) || this.whole(result);
    this.last = result.rows;
    return { ...carried, ready, ...(error && { error: carryError(error) }) };
  }

  private whole({ rows, added, updated, removed, origin }: Result<unknown>): Omit<CarriedResult, 'ready'> {
    const ids = rows.map(idOf);
    this.hasIds = ids.every((id) => typeof id === 'string') && new Set(ids).size === ids.length;
    const index = new Map(rows.map((row, i) => [row, i]));
    const indexes = (some: readonly unknown[]) => some.map((row) => index.get(row) as number);
    return { rows, isWhole: true, added: indexes(added), updated: indexes(updated), removed, origin };
  }

  /** The changed rows; undefined where rows have changed places that are not told as changed. */
  private difference({
    rows,
    added,
    updated,
    removed,
    origin,
  }: Result<unknown>): Omit<CarriedResult, 'ready'> | undefined {
    const gone = new Set([...updated, ...removed].map(idOf));
    const fresh = new Map<unknown, number>();
    for (const row of [...added, ...updated]) fresh.set(row, -1);
    let i = 0;
    for (const [j, row] of rows.entries()) {
      if (fresh.has(row)) {
        fresh.set(row, j);
        continue;
      }
      while (i < this.last.length && gone.has(idOf(this.last[i]))) i++;
      if (this.last[i++] !== row) return undefined;
    }
    const indexes = (some: readonly unknown[]) => some.map((row) => fresh.get(row) as number);
    const at = { added: indexes(added), updated: indexes(updated) };
    if (at.added.includes(-1) || at.updated.includes(-1)) return undefined;
    return { rows: [...added, ...updated], isWhole: false, ...at, removed: removed.map(idOf), origin };
  }
}

/** The receiver's end: puts each result together again; rows that did not change are the same objects. */
export class Receiver {
  private last: readonly unknown[] = [];
  private readonly refrozen: (row: unknown) => unknown;

  /** @param refrozen freezes a row again, which the way here has thawed. */
  constructor(refrozen: (row: unknown) => unknown) {
    this.refrozen = refrozen;
  }

  /** The result as it was sent. */
  receive(carried: CarriedResult): Result<unknown> {
    const { added, updated, removed, origin, ready, error } = carried;
    const fresh = carried.rows.map(this.refrozen);
    const gone = carried.isWhole ? removed.map(this.refrozen) : this.named(removed);
    const rows = carried.isWhole ? fresh : this.patched(carried, fresh);
    this.last = rows;
    const at = (indexes: readonly number[]) => indexes.map((i) => rows[i]);
    return {
      ...{ rows, added: at(added), updated: at(updated), removed: gone, origin, ready },
      ...(error && { error: errorOf(error) as KoinonError }),
    };
  }

  private named(ids: readonly unknown[]): unknown[] {
    if (ids.length === 0) return [];
    const wanted = new Set(ids);
    return this.last.filter((row) => wanted.has(idOf(row)));
  }

  private patched({ added, updated, removed }: CarriedResult, fresh: readonly unknown[]): readonly unknown[] {
    const gone = new Set([...removed, ...fresh.map(idOf)]);
    const placed = [...added, ...updated].map((index, i) => [index, fresh[i]] as const).sort(([a], [b]) => a - b);
    const rows: unknown[] = [];
    let next = 0;
    const place = () => {
      while (placed[next]?.[0] === rows.length) rows.push((placed[next++] as readonly [number, AnyRow])[1]);
    };
    for (const row of this.last) {
      if (gone.has(idOf(row))) continue;
      place();
      rows.push(row);
    }
    place();
    return rows;
  }
}
