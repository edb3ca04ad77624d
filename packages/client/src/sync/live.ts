import type { JoinRequest, LiveMessage, LiveWindow } from '@koinon/core';
import { silence } from '@koinon/core/internal';
import type { Host } from '../host/host.ts';
import type { CheckedTransport } from './checked.ts';
import type { LiveChannel } from './transport.ts';

/** The state of a replica, for joining. */
export type JoinState = Omit<JoinRequest, 'join' | 'tables'>;

/** The parts that the live side of a sync works with. */
export interface LiveParts {
  readonly host: Host;
  readonly transport: CheckedTransport;
  /** Only changes of these tables need come at once; all without it. */
  readonly tables: readonly string[] | undefined;
  /** The shortest and the longest milliseconds between attempts to connect. */
  readonly minDelay: number;
  readonly maxDelay: number;
  /** The state of the replica; undefined while it cannot join, its first download not being complete, say. */
  readonly joinState: () => Promise<JoinState | undefined>;
  /** Applies a window in one local transaction; false where the replica is not at the cursor it leads away from. */
  readonly take: (window: LiveWindow) => Promise<boolean>;
  /** A pull is needed: it is followed by {@link Live.begin}. */
  readonly pull: () => void;
  /** Tells whether changes arrive by themselves has changed. */
  readonly onChange: () => void;
}

/** Windows that wait for a run to end, in rows. */
const mostHeld = 20_000;

/** So often a WebSocket may fail before it was ever open, until the server is asked by long requests instead. */
const mostFailures = 2;

/** Milliseconds in which a push over the connection is answered, or is sent over HTTP. */
const pushPatience = 10_000;

/**
 * Milliseconds in which something is heard after a join or a push. A device that slept, or whose network has forgotten the
 * connection, has one that is dead and says nothing.
 */
const probePatience = 2_000;

/** Long requests after which a WebSocket is tried again. */
const waitsBetween = 10;

/**
 * Keeps a replica up with its server between runs: by a WebSocket, whose windows are applied onto the cursor that they
 * lead away from and onto no other; or, where the network lets none through, by requests that are answered when there is
 * something new. Windows that arrive during a run wait for its end.
 */
export class Live {
  private readonly parts: LiveParts;
  private channel: LiveChannel | undefined;
  /** The number of the last join; answered once `joined` is the same. */
  private join = 0;
  private joined = -1;
  private windows: LiveWindow[] = [];
  private heldRows = 0;
  private isHeld = false;
  private pumping: Promise<void> | undefined;
  private wasOpen = false;
  private failures = 0;
  private heardAt = 0;
  /** How often in a row nothing was heard after a join. */
  private unheard = 0;
  private cancelTimer: (() => void) | undefined;
  private waiting: AbortController | undefined;
  private isStopped = true;
  /** Bytes a push over the connection may have. */
  private pushBytes = 0;
  private pushes = 0;
  /** Takes the answer to the push under way; without one, it is to be sent another way. */
  private answered: ((answer?: unknown) => void) | undefined;

  constructor(parts: LiveParts) {
    this.parts = parts;
  }

  /** Tells whether changes arrive by themselves, so that there is no need to pull. */
  get isJoined(): boolean {
    return this.channel !== undefined && this.joined === this.join;
  }

  /** A run has ended well: joins from where the replica stands now, unless it stands where it stood. */
  begin(): void {
    this.isStopped = false;
    const isDead = this.channel !== undefined && this.parts.host.now() - this.heardAt > silence;
    if (isDead) this.drop();
    if (this.channel === undefined) this.connect();
    else if (!this.isJoined) void this.rejoin();
  }

  /** A run begins. @param pulls whether it moves the cursor itself. */
  hold(pulls: boolean): void {
    this.isHeld = true;
    // Windows that arrive from now on lead away from where the replica will not be any more.
    if (pulls) this.unjoin();
  }

  /** The run has ended: what has arrived meanwhile is applied. */
  release(): void {
    this.isHeld = false;
    this.pump();
  }

  /**
   * Sends a small push over the connection, which costs less than a request. Without an answer, or where there is no way to
   * send it, the same bytes are to be sent over HTTP: what was done is done once.
   */
  async push(body: string, signal: AbortSignal | undefined): Promise<unknown> {
    const { channel } = this;
    // A character has three bytes at most.
    if (!this.isJoined || channel?.push === undefined || body.length * 3 > this.pushBytes) return undefined;
    channel.push(++this.pushes, body);
    const answer = new Promise<unknown>((done) => {
      this.answered = done;
    });
    const giveUp = () => this.answered?.();
    // The server may be slow with this push, or the connection may be dead: a join tells which.
    this.unlessHeard(() => {
      giveUp();
      void this.rejoin();
    });
    const cancelTimer = this.parts.host.after(pushPatience, giveUp);
    signal?.addEventListener('abort', giveUp);
    return answer.finally(() => {
      cancelTimer();
      signal?.removeEventListener('abort', giveUp);
      this.answered = undefined;
    });
  }

  /** Ends until {@link begin}. */
  stop(): void {
    this.isStopped = true;
    this.cancelTimer?.();
    this.waiting?.abort();
    this.drop();
  }

  /** Waits for what is being applied. */
  async stopped(): Promise<void> {
    await this.pumping;
  }

  private connect(): void {
    this.cancelTimer?.();
    this.waiting?.abort();
    if (this.parts.transport.live === undefined) return;
    this.wasOpen = false;
    const channel = this.parts.transport.live({
      open: () => {
        if (this.channel !== channel) return;
        this.wasOpen = true;
        this.heard();
        void this.rejoin();
      },
      message: (message) => this.channel === channel && this.hear(message),
      closed: () => this.channel === channel && this.lost(),
    });
    this.channel = channel;
    this.heard();
  }

  private async rejoin(): Promise<void> {
    const { channel } = this;
    const joinState = await this.parts.joinState().catch(() => undefined);
    if (joinState === undefined || channel === undefined || channel !== this.channel || !this.wasOpen) return;
    this.unjoin();
    const { tables } = this.parts;
    channel.say({ join: this.join, ...joinState, ...(tables && { tables }) });
    // A dead connection says nothing, whatever is asked: another one is opened at once.
    this.unlessHeard(() => {
      this.unheard++;
      this.drop();
      this.connect();
    });
  }

  /** Something was said that is answered. @param silent what is done where nothing at all is heard on the connection. */
  private unlessHeard(silent: () => void): void {
    const { host } = this.parts;
    const { channel, heardAt } = this;
    // On a link so slow that an answer takes longer, the next one is waited for twice as long.
    host.after(Math.min(silence, probePatience * 2 ** this.unheard), () => {
      if (channel !== undefined && this.channel === channel && this.heardAt === heardAt && !this.isStopped) silent();
    });
  }

  private hear(message: LiveMessage): void {
    this.unheard = 0;
    this.heard();
    if (message.type === 'joined' && message.join === this.join) {
      this.failures = 0;
      const wasJoined = this.isJoined;
      this.joined = message.join;
      this.pushBytes = message.pushBytes ?? 0;
      if (!wasJoined) this.parts.onChange();
      // Another process than the one that was pulled from may know less.
      this.arrived({ ...message, unsupported: message.unsupported ?? {} });
    } else if (message.type === 'window' && this.isJoined) this.arrived(message);
    else if (message.type === 'pull-required' && this.isJoined) this.fallBehind();
    else if (message.type === 'pull-required') this.parts.pull();
    else if (message.type === 'pushed' && message.push === this.pushes)
      this.answered?.('problem' in message ? undefined : message);
    else if (message.type === 'refused') this.fallBehind();
  }

  private arrived(window: LiveWindow): void {
    this.windows.push(window);
    this.heldRows += window.rows.length;
    if (this.heldRows > mostHeld && this.isHeld) this.fallBehind();
    else this.pump();
  }

  /** Applies what has arrived, one window after the other. */
  private pump(): void {
    this.pumping ??= this.applyAll().finally(() => {
      this.pumping = undefined;
      if (this.windows.length > 0 && !this.isHeld) this.pump();
    });
  }

  private async applyAll(): Promise<void> {
    while (!this.isHeld) {
      const window = this.windows.shift();
      if (window === undefined) return;
      this.heldRows -= window.rows.length;
      const isApplied = await this.parts.take(window).catch(() => false);
      if (!isApplied && this.isJoined) this.fallBehind();
    }
  }

  /** The windows that come next would not fit: the replica pulls, and joins anew after that. */
  private fallBehind(): void {
    this.unjoin();
    this.parts.pull();
  }

  private unjoin(): void {
    const wasJoined = this.isJoined;
    this.join++;
    this.windows = [];
    this.heldRows = 0;
    if (wasJoined) this.parts.onChange();
  }

  private lost(): void {
    const hasFailed = !this.wasOpen;
    this.drop();
    if (this.isStopped) return;
    if (hasFailed && this.failures + 1 >= mostFailures && this.parts.transport.wait) void this.waitInstead();
    else this.later(() => this.connect());
  }

  private drop(): void {
    const { channel } = this;
    this.unjoin();
    this.channel = undefined;
    this.answered?.();
    channel?.close();
  }

  /** Asks by long requests, for as long as they are answered and no WebSocket is to be had. */
  private async waitInstead(): Promise<void> {
    const { parts } = this;
    const waiting = new AbortController();
    this.waiting?.abort();
    this.waiting = waiting;
    for (let times = 0; times < waitsBetween; times++) {
      const joinState = await parts.joinState().catch(() => undefined);
      if (joinState === undefined || parts.transport.wait === undefined) return;
      const moved = await parts.transport.wait(joinState, waiting.signal).catch(() => undefined);
      if (waiting.signal.aborted) return;
      if (moved === undefined) {
        this.later(() => this.connect());
        return;
      }
      // The run that follows ends in begin, which comes back here by way of another attempt to connect.
      if (moved) {
        parts.pull();
        return;
      }
    }
    this.connect();
  }

  private later(work: () => void): void {
    const { host, minDelay, maxDelay } = this.parts;
    const full = Math.min(maxDelay, minDelay * 2 ** this.failures++);
    this.cancelTimer?.();
    this.cancelTimer = host.after(Math.round(full * (0.5 + host.random() / 2)), () => {
      if (!this.isStopped && this.channel === undefined) work();
    });
  }

  /** A connection on which nothing is heard for long is broken, whatever it says of itself. */
  private heard(): void {
    const { host } = this.parts;
    this.heardAt = host.now();
    this.cancelTimer?.();
    this.cancelTimer = host.after(silence, () => this.channel && this.lost());
  }
}
