import type { Position } from '@koinon/core';
import type { StoreReader } from './store.ts';

/** Something that is read from a standby, as long as it is what the database itself would say of the one who asks. */
export interface StandbyRead<Facts, Result> {
  /** Positions that the standby must have passed: whoever stands there knows what came before them. */
  readonly passed: readonly Position[];
  /** Read on the standby and in the database itself: where the two differ the standby is behind, and is not used. */
  readonly facts: (reader: StoreReader) => Promise<Facts>;
  readonly isSame: (one: Facts, other: Facts) => boolean;
  /** The reading itself, in the snapshot of the standby in which the facts were read. */
  readonly read: (reader: StoreReader, facts: Facts) => Promise<Result>;
}

/** A database that follows another one, and that may be read where it has come far enough. */
export interface Standby {
  /** Reads from the standby; undefined where it is to be read from the database itself. Throws nothing. */
  read<Facts, Result>(reading: StandbyRead<Facts, Result>): Promise<Result | undefined>;
  /** Called with the reason when the standby cannot be used any more, and with nothing when it can be used again. */
  onChange: ((fault: string | undefined) => void) | undefined;
}
