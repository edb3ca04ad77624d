import { KoinonError, type ToCome, type TrashedRow, type TrashRequest } from '@koinon/core';
import { clockOffset, meta } from '../database/layout.ts';
import type { Engine } from '../engine/steps.ts';
import type { UnlinkChoices, UnlinkReport } from '../link/unlink.ts';
import type { Result } from '../live/result.ts';
import type { Question } from '../on-server/question.ts';
import type { Direction, SyncState } from '../sync/state.ts';
import type { SyncReport } from '../sync/step.ts';

/** How work of the sync gets its turn in the replica. */
export interface Doing {
  readonly exclusive: <T>(work: () => T | Promise<T>) => Promise<T>;
  /** In a local transaction of its own, as a change that comes from the server. */
  readonly change: <T>(work: (engine: Engine) => T) => Promise<T>;
}

/** The state of the sync, as a live query tells it. */
export type StateSnapshot = Result<SyncState & { readonly id: string }>;

/** The part of an open replica that syncs; see {@link Unlinked} for one without a server. */
export interface SyncPart {
  /** Begins to sync by itself, if it is to. */
  start(): void;
  byHand(direction: Direction, signal: AbortSignal | undefined): Promise<SyncReport>;
  pause(): void;
  resume(): void;
  /** The device has written something. */
  noticeWrite(): void;
  /** Tells whoever shows the state, a little later: many things change it at once. */
  notify(): void;
  /** Tells the numbers of what is unsent, in conflict and refused with the commit that has changed them, or a little later. Runs in a turn. */
  notifyCounts(): void;
  /** Tries again now. */
  retry(): void;
  follow(deliver: (state: StateSnapshot) => void, fail: (error: unknown) => void): () => void;
  /** Somebody has signed in. */
  authChanged(): void;
  /** The rows that a pull would bring, or that are on the server. */
  estimatePull(asked?: { readonly from: string; readonly where?: unknown }): Promise<ToCome>;
  /** Asks for rows to be here, and no longer. */
  hold(name: string, from: string, where: unknown): Promise<void>;
  letGo(name: string): Promise<void>;
  /** The server's answer to a query. */
  ask(question: Question): Promise<unknown>;
  /** The same, whenever it changes. */
  followOnServer(
    question: Question,
    deliver: (result: Result<unknown>) => void,
    fail: (error: unknown) => void,
  ): () => void;
  /** Deleted rows on the server. */
  trash(request: TrashRequest): Promise<readonly TrashedRow[]>;
  /** Ends the tie to the server, and ties it again. */
  unlink(choices: UnlinkChoices): Promise<UnlinkReport>;
  link(): Promise<void>;
  /** Ends for good. */
  stop(): Promise<void>;
}

/** Milliseconds by which a device's clock may be wrong before a person is to be told. */
const mostClockDifference = 5 * 60_000;

/** The state of the sync: what its loop says, and what the file holds. */
export function stateSnapshot(
  { database, outbox, conflicts }: Omit<Engine, 'commit'>,
  loop: Pick<SyncState, 'phase' | 'error' | 'nextAttempt' | 'progress' | 'contentsStored'>,
): StateSnapshot {
  const number = (name: 'position' | 'server position') => {
    const text = meta(database, name);
    return text === undefined ? null : Number(text);
  };
  const state = {
    id: 'sync',
    ...loop,
    pending: outbox.count('pending', 'attempted'),
    conflicted: conflicts.count(),
    rejected: outbox.count('rejected'),
    syncedAt: meta(database, 'synced at') ?? null,
    syncedTables: JSON.parse(meta(database, 'synced tables') ?? '{}') as Record<string, string>,
    position: number('position'),
    serverPosition: number('server position'),
    isComplete: meta(database, 'complete') !== undefined,
    clockDifference: meta(database, 'clock offset') === undefined ? null : clockOffset(database),
    isClockWrong: Math.abs(clockOffset(database)) > mostClockDifference,
  };
  return { rows: [state], added: [], updated: [], removed: [], origin: 'start', ready: true };
}

/** A replica without a server: nothing syncs, and whoever asks for it is told. */
export class Unlinked implements SyncPart {
  readonly byHand = refused;
  readonly unlink = refused;
  readonly link = refused;
  readonly estimatePull = refused;
  readonly hold = refused;
  readonly letGo = refused;
  readonly trash = refused;
  readonly ask = refused;
  readonly authChanged = fail;
  readonly pause = fail;
  readonly resume = fail;
  readonly retry = fail;
  private readonly engine: Omit<Engine, 'commit'>;
  private readonly doing: Doing;

  constructor(engine: Omit<Engine, 'commit'>, doing: Doing) {
    this.engine = engine;
    this.doing = doing;
  }

  start(): void {}
  noticeWrite(): void {}
  notify(): void {}
  notifyCounts(): void {}
  async stop(): Promise<void> {}

  followOnServer(_question: Question, _deliver: unknown, fail: (error: unknown) => void): () => void {
    refused().catch(fail);
    return () => undefined;
  }

  follow(deliver: (state: StateSnapshot) => void, fail: (error: unknown) => void): () => void {
    let isOver = false;
    const loop = { phase: 'stopped', error: null, nextAttempt: null, progress: null, contentsStored: 0 } as const;
    this.doing.exclusive(() => isOver || deliver(stateSnapshot(this.engine, loop))).catch(fail);
    return () => {
      isOver = true;
    };
  }
}

const fail = (): never => {
  throw new KoinonError('not-linked', 'This replica has no server; open it with `server` to sync.');
};

const refused = async (): Promise<never> => fail();
