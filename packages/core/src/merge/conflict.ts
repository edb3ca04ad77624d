import type { AnyRow, Table } from '../table/table.ts';
import { sameValue } from '../values/compare.ts';

/**
 * A column on which local and remote disagree and no rule decides. `column` is null where the whole row is at stake:
 * one side deleted it and the other changed it; the values are then rows, null for the deleted side.
 */
export interface Disagreement {
  readonly column: string | null;
  readonly base: unknown;
  readonly local: unknown;
  readonly remote: unknown;
}

/** The columns in which two images of a row differ. */
export function changedColumns(table: Table, before: AnyRow, after: AnyRow): string[] {
  return Object.keys(table.columns).filter((name) => !sameValue(before[name] ?? null, after[name] ?? null));
}

/** A disagreement as people and programs read it. */
export interface Conflict {
  readonly table: string;
  readonly id: string;
  /** Null: the whole row; one side deleted it. */
  readonly column: string | null;
  /** The value that both sides began with, and what each has made of it: values of the column, or rows. */
  readonly base: unknown;
  readonly local: unknown;
  readonly remote: unknown;
  /** When each side was edited, RFC 3339, as far as it is known. */
  readonly localAt: string | null;
  readonly remoteAt: string | null;
  /** The user who edited it there, as far as it is known. */
  readonly remoteBy: string | null;
  /** Why the column's rule could not decide; null where it is to ask. */
  readonly reason: string | null;
}
