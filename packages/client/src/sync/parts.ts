import type { Only, Schema } from '@koinon/core';
import type { Host } from '../host/host.ts';
import type { Local } from './attempt.ts';
import type { CheckedTransport } from './checked.ts';
import type { Upload } from './state.ts';
import type { Traffic } from './traffic.ts';

/** The parts that a sync step works with. */
export interface SyncParts {
  readonly transport: Pick<CheckedTransport, 'pull' | 'applied'>;
  /** Sends these exact bytes; returns the parsed answer. */
  readonly push: (body: string, signal: AbortSignal | undefined) => Promise<unknown>;
  readonly upload: Upload;
  readonly requestBytes: number;
  /** Tells whether what changes on the server arrives by itself, so that nothing need be fetched. */
  readonly isLive: () => boolean;
  /** Tells whether the server has called for this sync: it has something that is newer than what this replica was told last. */
  readonly isCalledFor: boolean;
  /** Runs local work in a transaction of its own, when no transaction of the app is open. */
  readonly change: <T>(work: (local: Local) => T) => Promise<T>;
  /** Says what the step does next. */
  readonly enter: (phase: 'resending' | 'pulling' | 'pushing') => void;
  /** The rows that it has moved so far. */
  readonly traffic: Traffic;
  /** The part that is always asked for of what the user may have; holdings come on top. */
  readonly only: Only;
  readonly host: Host;
  readonly schema: Schema;
  /** The state of the server as known since the file was opened. */
  readonly server: { isKnown: boolean };
  /** Tells whether something goes up before anything has come down: what was never answered, or what does not wait for a first download. */
  readonly sendsFirst: () => Promise<boolean>;
}
