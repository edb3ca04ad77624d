import type { Conflict } from '@koinon/core';
import type { Disagreement } from '@koinon/core/internal';

/** A disagreement with what is known of it besides its values. */
export interface Noted extends Disagreement {
  /** Why the column's rule could not decide. */
  readonly reason?: string | null;
  /** When each side was edited, in milliseconds since 1970. */
  readonly localAt?: number | undefined;
  readonly remoteAt?: number | undefined;
  /** The user who edited it there; undefined: what is known of it stands. */
  readonly remoteBy?: string | null | undefined;
}

/** The columns that wait for a person, with what they held before, hold here and hold there. */
export interface ConflictList {
  /** Counted up whenever the list may have changed. */
  readonly revision: number;
  list(): Conflict[];
  /** How many rows have a conflict. */
  count(): number;
  /** The columns of a row that are in conflict, null standing for the whole row. */
  columnsOf(tableName: string, id: string): readonly (string | null)[];
  /** Replaces what is known of a row's conflicts. A part that is not said anew of one that stays is kept. */
  set(tableName: string, id: string, disagreements: readonly Noted[]): void;
  /** Forgets all of them. */
  clear(): void;
  /** A row's conflicts as they stand in the file, to be put back as they were. */
  take(tableName: string, id: string): string;
  /** Puts back what {@link take} returned. */
  putBack(taken: string): void;
}

/** The list of a replica that has never had a conflict and has no server to have one with: most code need not be loaded for it. */
export const noConflicts: ConflictList = {
  revision: 0,
  list: () => [],
  count: () => 0,
  columnsOf: () => [],
  set: () => undefined,
  clear: () => undefined,
  take: () => '[]',
  putBack: () => undefined,
};
