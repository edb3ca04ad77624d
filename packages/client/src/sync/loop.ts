import { KoinonError } from '@koinon/core';
import type { Host } from '../host/host.ts';
import type { Live } from './live.ts';
import {
  type Direction,
  noteState,
  type SyncOptions,
  type SyncPhase,
  type SyncReason,
  type SyncState,
  syncDefaults,
} from './state.ts';
import type { SyncReport } from './step.ts';

/** The parts that a loop works with. */
export interface LoopParts {
  readonly host: Host;
  /** One run. The loop never has two at once. */
  readonly run: (direction: Direction, reason: SyncReason, signal: AbortSignal) => Promise<SyncReport>;
  /** The connection that keeps the replica up between runs; undefined where nothing does. */
  readonly live: Live | undefined;
  /** Tells whether something waits to be sent. */
  readonly hasPending: () => Promise<boolean>;
  /** Called whenever what the loop says of itself has changed. */
  readonly onChange: () => void;
}

/**
 * Over so many intervals of the timer a replica does not pull while it is live and has nothing to send: whatever it were told then has
 * come by itself, and ten thousand replicas would ask that each minute.
 */
const liveIntervals = 10;

const unless = (given: boolean | undefined) => given !== false;

/**
 * The actor behind a replica's syncs: one run at a time, begun by hand or by what the options name; failures are tried
 * again after a growing, jittered time, for ever.
 */
export class SyncLoop {
  private readonly parts: LoopParts;
  private readonly options: SyncOptions | undefined;
  private phase: SyncPhase = 'idle';
  private error: SyncState['error'] = null;
  private nextAttempt: number | undefined;
  private failures = 0;
  private running: { readonly abort: AbortController; readonly ended: Promise<unknown> } | undefined;
  /** The reason that called for a sync while one was running. */
  private due: SyncReason | undefined;
  /** An edit waits for a live connection that is on its way, or has waited for one. */
  private liveWait: 'waiting' | 'over' | undefined;
  /** When a run last ended well that pulled. */
  private pulledAt = Number.NEGATIVE_INFINITY;
  private isPaused = false;
  private isStopped = false;
  private wasOnline: boolean;
  private wasVisible: boolean;
  private cancelTimer: (() => void) | undefined;
  private cancelDebounce: (() => void) | undefined;
  private readonly stopListening: () => void;

  /** @param options when syncs begin by themselves; without them, only by hand. */
  constructor(parts: LoopParts, options: SyncOptions | undefined) {
    this.parts = parts;
    this.options = options;
    this.wasOnline = parts.host.isOnline();
    this.wasVisible = parts.host.isVisible();
    this.stopListening = options ? parts.host.onChange(() => this.hostChanged()) : () => undefined;
  }

  /** The state of the loop. */
  get state(): Pick<SyncState, 'phase' | 'error' | 'nextAttempt'> {
    const { error, nextAttempt } = this;
    const phase = this.phase === 'idle' && this.isLive ? 'live' : this.phase;
    return { phase, error, nextAttempt: nextAttempt === undefined ? null : new Date(nextAttempt).toISOString() };
  }

  private get isLive(): boolean {
    return this.parts.live?.isJoined === true;
  }

  /** The server has something that did not come by itself. */
  callFor(): void {
    this.wake('live');
  }

  /** Other rows are to be here than before. */
  holdingsChanged(): void {
    if (this.options && unless(this.options.when?.change)) this.wake('holdings');
  }

  /** Somebody has signed in. */
  authChanged(): void {
    this.failures = 0;
    if (this.options) this.wake('sign-in');
    else if (this.phase === 'needs-auth') this.set('idle');
  }

  /** Begins to sync by itself, if it is to. */
  start(): void {
    if (this.options === undefined) return;
    if (unless(this.options.when?.open)) this.wake('open');
    else this.rest();
  }

  /** The replica was written: a sync follows when no more is written for a moment. */
  noticeChange(): void {
    if (this.options === undefined || !unless(this.options.when?.change) || this.isStopped) return;
    const wait = this.options.debounce ?? (this.isLive ? syncDefaults.liveDebounce : syncDefaults.debounce);
    const changed = () => {
      this.cancelDebounce = undefined;
      void this.parts.hasPending().then(
        (has) => has && this.wake('change'),
        () => undefined,
      );
    };
    if (wait === 0) changed();
    else this.cancelDebounce ??= this.parts.host.after(wait, changed);
  }

  /** One run by hand, after the one under way. @throws KoinonError what the run threw; `sync-busy` when another one by hand waits. */
  async byHand(direction: Direction, signal?: AbortSignal): Promise<SyncReport> {
    while (this.running) await this.running.ended;
    return this.run(direction, 'by hand', signal);
  }

  /** Stops the run under way, and lets none begin by itself. */
  pause(): void {
    this.isPaused = true;
    this.rest();
    this.parts.live?.stop();
    this.running?.abort.abort();
    this.set('paused');
  }

  /** Syncs by itself again, beginning at once. */
  resume(): void {
    if (!this.isPaused) return;
    this.isPaused = false;
    this.failures = 0;
    this.set('idle');
    if (this.options) this.wake('resumed');
  }

  /** Does not wait for the next attempt any longer. */
  retry(): void {
    if (this.options === undefined || this.phase === 'needs-upgrade') return;
    this.failures = 0;
    this.wake('retry');
  }

  /** Waits for the end of a run that was stopped. */
  async settled(): Promise<void> {
    await this.running?.ended;
    await this.parts.live?.stopped();
  }

  /** Ends for good. */
  async stop(): Promise<void> {
    this.isStopped = true;
    this.stopListening();
    this.cancelDebounce?.();
    this.rest();
    this.parts.live?.stop();
    this.running?.abort.abort();
    await this.running?.ended;
    await this.parts.live?.stopped();
    this.set('stopped');
  }

  /** Says where the run under way is. */
  enter(phase: 'resending' | 'pulling' | 'pushing'): void {
    if (this.running && !this.isPaused) this.set(phase);
  }

  private hostChanged(): void {
    const { host } = this.parts;
    const [cameOnline, cameInSight] = [host.isOnline() && !this.wasOnline, host.isVisible() && !this.wasVisible];
    this.wasOnline = host.isOnline();
    this.wasVisible = host.isVisible();
    if (!this.wasOnline) this.parts.live?.stop();
    if (!this.wasOnline && !this.running && !this.isPaused) this.set('offline');
    if (cameOnline && unless(this.options?.when?.online)) this.wake('online');
    else if (cameInSight && unless(this.options?.when?.visible)) this.wake('visible');
  }

  private wake(reason: SyncReason): void {
    if (this.isPaused || this.isStopped || this.phase === 'needs-upgrade') return;
    if (this.running) {
      this.due ??= reason;
      return;
    }
    // Each letter typed must not become an attempt on a server that does not answer.
    const isWaiting = this.phase === 'waiting' || this.phase === 'held-back';
    if (isWaiting && (reason === 'change' || reason === 'live')) return;
    // A token does not come from typing; it may have come when the app is opened, looked at, or back online.
    if (this.phase === 'needs-auth' && (reason === 'change' || reason === 'live' || reason === 'timer')) return;
    if (!this.parts.host.isOnline()) {
      this.rest();
      this.set('offline');
      return;
    }
    if (reason === 'change' && this.waitsForLive()) return;
    void this.attempt(reason);
  }

  /** Tells whether an edit waits for a live connection that is on its way. */
  private waitsForLive(): boolean {
    const { live } = this.parts;
    if (live?.isComing !== true || this.liveWait === 'over') return false;
    if (this.liveWait === undefined) {
      this.liveWait = 'waiting';
      live.whenSettled(() => {
        this.liveWait = 'over';
        this.wake('change');
        this.liveWait = undefined;
      });
    }
    return true;
  }

  private async attempt(reason: SyncReason): Promise<void> {
    const allowed = await Promise.resolve(this.options?.allow?.() ?? true).catch(() => false);
    if (this.running || this.isPaused || this.isStopped) return;
    if (!allowed) {
      this.later(this.options?.interval ?? syncDefaults.interval, 'timer', 'held-back');
      return;
    }
    await this.run(this.options?.direction ?? 'both', reason).catch(() => undefined);
  }

  private async run(direction: Direction, reason: SyncReason, signal?: AbortSignal): Promise<SyncReport> {
    this.rest();
    const abort = new AbortController();
    const stop = () => abort.abort();
    signal?.addEventListener('abort', stop);
    if (signal?.aborted) stop();
    const { live } = this.parts;
    // Changes that arrive by themselves need not be fetched: an own change then only goes up.
    const pulls = !(reason === 'change' && live?.bringsChanges === true);
    live?.hold(pulls);
    const running = this.parts.run(direction, reason, abort.signal);
    this.running = { abort, ended: running.catch(() => undefined) };
    try {
      const report = await running;
      this.failures = 0;
      if (pulls && direction !== 'push') this.pulledAt = this.parts.host.now();
      this.ended(null);
      // What begins to join here is not begun once more by the release.
      if (this.options && direction !== 'push' && !this.isPaused && !this.isStopped) live?.begin();
      live?.release();
      return report;
    } catch (error) {
      this.ended(error as Error);
      live?.release();
      throw error;
    } finally {
      signal?.removeEventListener('abort', stop);
      const { due } = this;
      this.due = undefined;
      if (due !== undefined) this.wake(due);
    }
  }

  private ended(error: Error | null): void {
    this.running = undefined;
    const code = error instanceof KoinonError ? error.code : 'unknown';
    const cause = error?.cause;
    this.error = error && { code, message: error.message, cause: cause === undefined ? null : String(cause) };
    const { options } = this;
    if (this.isStopped) this.set('stopped');
    else if (this.isPaused) this.set('paused');
    else if (code === 'upgrade-needed') this.set('needs-upgrade');
    else if (code === 'not-authenticated' || code === 'other-user') this.needsAuth();
    else if (error === null || options === undefined) {
      if (options && unless(options.when?.timer))
        this.later(options.interval ?? syncDefaults.interval, 'timer', 'idle');
      else this.set('idle');
    } else {
      const { minDelay, maxDelay } = { ...syncDefaults, ...options };
      const full = Math.min(maxDelay, minDelay * 2 ** this.failures++);
      // Jittered, so that devices that lost the same server do not all come back at once.
      this.later(Math.round(Math.max(minDelay, full * (0.5 + this.parts.host.random() / 2))), 'retry', 'waiting');
    }
  }

  private needsAuth(): void {
    this.parts.live?.stop();
    this.set('needs-auth');
  }

  private later(milliseconds: number, reason: SyncReason, phase: SyncPhase): void {
    this.rest();
    this.nextAttempt = this.parts.host.now() + milliseconds;
    this.cancelTimer = this.parts.host.after(milliseconds, () => {
      if (reason === 'timer') void this.timer(milliseconds);
      else this.wake(reason);
    });
    this.set(phase);
  }

  /** The interval is over. */
  private async timer(interval: number): Promise<void> {
    const isRecent = this.parts.host.now() - this.pulledAt < interval * liveIntervals;
    const hasAll =
      this.parts.live?.bringsAll === true && isRecent && !(await this.parts.hasPending().catch(() => true));
    if (hasAll && this.phase === 'idle') this.later(interval, 'timer', 'idle');
    else this.wake('timer');
  }

  private rest(): void {
    this.cancelTimer?.();
    this.cancelTimer = undefined;
    this.nextAttempt = undefined;
  }

  private set(phase: SyncPhase): void {
    if (phase !== this.phase) noteState(this.parts.host, `sync: ${phase}`);
    this.phase = phase;
    this.parts.onChange();
  }
}
