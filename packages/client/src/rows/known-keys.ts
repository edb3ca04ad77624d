import type { AssignedKey } from '@koinon/core';

/** The keys that the database gave to rows which were made here, by their provisional ids. */
export interface KnownKeys {
  /** Counts up with each key that comes to be known. */
  readonly revision: number;
  /** The id by which a row goes now: late calls have the one under which it was made. */
  idOf(table: string, id: string): string;
  note(key: AssignedKey, now: number): void;
  forget(key: AssignedKey): void;
  /** Those whose row was inserted by a transaction that is in the outbox. */
  ofUnsentRows(): readonly AssignedKey[];
  /** Forgets what came to be known before a time. */
  forgetBefore(time: number): void;
}

/** None: the database gives the keys of no table. */
export const noKeys: KnownKeys = {
  revision: 0,
  idOf: (_table, id) => id,
  note: () => undefined,
  forget: () => undefined,
  ofUnsentRows: () => [],
  forgetBefore: () => undefined,
};
