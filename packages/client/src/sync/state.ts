import type { ErrorCode } from '@koinon/core';
import type { Host } from '../host/host.ts';
import { throwLater } from '../live/result.ts';

/** Which way a sync step goes. */
export type Direction = 'both' | 'push' | 'pull';

/**
 * The form in which changes go up: every transaction as it was made, or of consecutive ones that were never sent only what each row came to
 * in the end, as one transaction.
 */
export type Upload = 'every step' | 'latest state';

/**
 * The phase of the sync loop. `stopped`: there is no server, or the replica is closed; `unlinked` from its server; `paused` by the app; `offline`;
 * `resending` what has no answer yet; `pulling`; `pushing`; `live`: what changes on the server arrives by itself; `idle` until something calls for a sync; `waiting` after a
 * failure; `held-back` because the app's `allow` said no; `needs-auth`: the server does not know who asks, or the replica is
 * another user's; `needs-upgrade`: the server refuses this app's version.
 */
export type SyncPhase =
  | 'stopped'
  | 'unlinked'
  | 'paused'
  | 'offline'
  | 'resending'
  | 'pulling'
  | 'pushing'
  | 'live'
  | 'idle'
  | 'waiting'
  | 'held-back'
  | 'needs-auth'
  | 'needs-upgrade';

/** Why a sync began. */
export type SyncReason =
  | 'by hand'
  | 'open'
  | 'change'
  | 'online'
  | 'visible'
  | 'timer'
  | 'retry'
  | 'resumed'
  | 'live'
  | 'holdings'
  | 'sign-in';

/** The state of the sync, for an app to show. */
export interface SyncState {
  readonly phase: SyncPhase;
  /** Transactions the server has not confirmed. */
  readonly pending: number;
  /** Rows with a conflict. */
  readonly conflicted: number;
  /** Transactions the server refused. */
  readonly rejected: number;
  /** Rows of the run under way: done so far, and of how many where that is known. Null between runs. */
  readonly progress: SyncProgress | null;
  /** When the last run ended well, RFC 3339. */
  readonly syncedAt: string | null;
  /** The same by table: a table that was not asked for has no time, or an older one. */
  readonly syncedTables: Readonly<Record<string, string>>;
  /** Why the last run failed; null after one that ended well. */
  readonly error: {
    readonly code: ErrorCode | 'unknown';
    readonly message: string;
    /** The message of its cause, where there is one. */
    readonly cause: string | null;
  } | null;
  /** When the next attempt is made by itself, RFC 3339. */
  readonly nextAttempt: string | null;
  /** The feed's position this replica has reached, and the server's own when it was last heard. */
  readonly position: number | null;
  readonly serverPosition: number | null;
  /** Tells whether the first download is complete: before that, what is not here may only not have come yet. */
  readonly isComplete: boolean;
  /** Milliseconds by which the server's clock is ahead of this device's, as far as it is known; null before the first sync. */
  readonly clockDifference: number | null;
  /** Changes when contents of files may have come to the server, as far as a live connection says so. */
  readonly contentsStored: number;
  /** Tells whether that is more than five minutes: times of edits are corrected by it, and a person should set the clock. */
  readonly isClockWrong: boolean;
}

/** How far a run is. */
export interface SyncProgress {
  /** Rows that came down, and how many are to come in this run; null where that is not known. */
  readonly down: { readonly done: number; readonly of: number | null };
  /** Transactions that went up, of those that were to. */
  readonly up: { readonly done: number; readonly of: number };
  /** Bytes that came down and went up, and about how many are to come down; null where that is not known. */
  readonly bytes: { readonly down: number; readonly up: number; readonly of: number | null };
}

/** When and how a replica syncs by itself. */
export interface SyncOptions {
  /** Default `both`. */
  readonly direction?: Direction;
  /** Tells whether every transaction goes up as it was made, or only what each row came to. Default `every step`. */
  readonly upload?: Upload;
  /**
   * Bytes of one request to aim for when something goes up; a transaction of more goes in parts. Default 524,288; less where
   * long requests seldom get through.
   */
  readonly requestBytes?: number;
  /** The events that call for a sync; each is on unless it is switched off. */
  readonly when?: {
    readonly open?: boolean;
    readonly change?: boolean;
    readonly online?: boolean;
    readonly visible?: boolean;
    readonly timer?: boolean;
  };
  /**
   * Tells whether the server's changes arrive by themselves: over a WebSocket, or long requests where there is none to be had.
   * For some tables only: changes of the others then come along with those, or with the next sync. Default true.
   */
  readonly live?: boolean | { readonly tables: readonly string[] };
  /** Milliseconds between two syncs that only the timer calls for; ten times that while the replica is live and has nothing to send. Default 60,000. */
  readonly interval?: number;
  /** Milliseconds a change waits for more of them. Default 500; 20 while the connection is live. */
  readonly debounce?: number;
  /** Least and greatest milliseconds between attempts after failures. Defaults 1,000 and 300,000. */
  readonly minDelay?: number;
  readonly maxDelay?: number;
  /** Asked before each sync that is not by hand: false on a link that is too slow or too dear, say. Asked again later. */
  readonly allow?: () => boolean | Promise<boolean>;
}

/** The options that hold where an app says nothing. */
export const syncDefaults = {
  upload: 'every step',
  /** A poor link gets one through, and so does a proxy that is set up to take 1 MB, as many are. */
  requestBytes: 512 * 1024,
  interval: 60_000,
  debounce: 500,
  /** The same while the connection is live. */
  liveDebounce: 20,
  minDelay: 1_000,
  maxDelay: 300_000,
} as const;

/** Tells a host which state was entered. What its function throws is the app's own, and stops no sync. */
export function noteState(host: Host, state: string): void {
  try {
    host.debug?.(state);
  } catch (error) {
    throwLater(error);
  }
}
