import type { JoinRequest, LiveMessage, LiveWindow } from '@koinon/core';
import { silence } from '@koinon/core/internal';
import type { Host } from '../host/host.ts';
import type { CheckedTransport } from './checked.ts';
import { noteState } from './state.ts';
import type { LiveChannel } from './transport.ts';

/** The state of a replica, for joining. */
export type JoinState = Omit<JoinRequest, 'join' | 'tables' | 'files'>;

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
  /** Contents of files were stored on the server, or may have been while there was no connection. Undefined where no table has files. */
  readonly contentStored: (() => void) | undefined;
  /** The server says that rows have changed which the replica queries; without tables, that some may have. */
  readonly moved: (tables?: readonly string[]) => void;
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

/**
 * Milliseconds for which an edit waits for a connection that is on its way. Over it an edit is one message; before it, a sync would pull as
 * well, and the replica would have to join anew.
 */
const connectPatience = 5_000;

/** Long requests after which a WebSocket is tried again. */
const waitsBetween = 10;

/** The states of the live connection. A push, and windows that come by themselves, belong to `joined` alone. */
export type LiveState =
  /** Nothing is open, until {@link Live.begin}. */
  | { readonly name: 'stopped' }
  /** A WebSocket is being opened. */
  | { readonly name: 'connecting'; readonly channel: LiveChannel }
  /** The WebSocket is open. A pull is needed before the replica can join. */
  | { readonly name: 'open'; readonly channel: LiveChannel }
  /** The replica has said where it stands. */
  | { readonly name: 'joining'; readonly channel: LiveChannel; readonly join: number }
  /** Changes come by themselves. @param pushBytes bytes that a push over the connection may have. */
  | { readonly name: 'joined'; readonly channel: LiveChannel; readonly join: number; readonly pushBytes: number }
  /** The connection was lost. Another one is opened after a growing time. */
  | { readonly name: 'resting'; readonly cancelTimer: () => void }
  /** No WebSocket is to be had: the server is asked by long requests. */
  | { readonly name: 'asking'; readonly requests: AbortController };

/**
 * Keeps a replica up with its server between runs: by a WebSocket, whose windows are applied onto the cursor that they
 * lead away from and onto no other; or, where the network lets none through, by requests that are answered when there is
 * something new. Windows that arrive during a run wait for its end.
 */
export class Live {
  private readonly parts: LiveParts;
  private state: LiveState = { name: 'stopped' };
  /** Joins and pushes so far: each has its number, and an answer names it. */
  private joins = 0;
  private pushes = 0;
  private windows: LiveWindow[] = [];
  private heldRows = 0;
  private isHeld = false;
  private isPulling = false;
  private pumping: Promise<void> | undefined;
  /** Connections in a row that were lost before the replica had joined. */
  private failures = 0;
  /** Tells whether the replica wants to be told of other things than it last said. */
  private isOutdated = false;
  private heardAt = 0;
  /** Signs of life so far: two may come in one millisecond. */
  private heardSigns = 0;
  /** Tells whether the replica is about to say where it stands. */
  private isRejoining = false;
  /** How often in a row nothing was heard after a join. */
  private unheard = 0;
  private cancelSilence: (() => void) | undefined;
  /** Called when the connection that is on its way has come to something. */
  private settled: (() => void) | undefined;
  /** The milliseconds within which the server that has stopped wants to be asked again. */
  private returnWithin: number | undefined;
  /** Takes the answer to the push under way; without one, it is to be sent another way. */
  private answered: ((answer?: unknown) => void) | undefined;

  constructor(parts: LiveParts) {
    this.parts = parts;
  }

  /** Tells whether changes arrive by themselves, so that there is no need to pull. */
  get isJoined(): boolean {
    return this.state.name === 'joined';
  }

  /** A run has ended well: joins from where the replica stands now, unless it stands where it stood. */
  begin(): void {
    const isDead = this.parts.host.now() - this.heardAt > silence;
    if (this.channel === undefined || isDead) this.connect();
    // A join that is under way goes on: another one would go to the end of those who wait for the server.
    else if (this.state.name !== 'open') return;
    else if (this.isRejoining) this.isOutdated = true;
    else void this.rejoin();
  }

  /** Tells whether a WebSocket is open, on which the replica joins after each run. */
  get isOpen(): boolean {
    return this.channel !== undefined && this.state.name !== 'connecting';
  }

  /** Tells whether a connection is on its way, as it is right after one was lost. */
  get isComing(): boolean {
    const { name } = this.state;
    if (name === 'open') return this.isRejoining;
    return name === 'connecting' || name === 'joining' || (name === 'resting' && this.failures <= 1);
  }

  /** Tells whether all changes arrive by themselves, whatever table they are of. */
  get bringsAll(): boolean {
    return this.isJoined && this.parts.tables === undefined;
  }

  /** Tells whether changes arrive by themselves, or are about to, so that an edit need only be sent. */
  get bringsChanges(): boolean {
    return this.isJoined || this.isComing;
  }

  /** Calls once when the replica has joined, or has to do without for now. One who waits does not rest any longer. */
  whenSettled(then: () => void): void {
    const cancelTimer = this.parts.host.after(connectPatience, () => this.settled?.());
    this.settled = () => {
      this.settled = undefined;
      cancelTimer();
      then();
    };
    if (this.state.name === 'resting') this.connect();
  }

  /** Joins again, to be told of other things than before. */
  joinAnew(): void {
    this.isOutdated = true;
    // A long request that is under way tells of what it was asked for.
    if (this.state.name === 'asking') void this.ask();
    if (!this.isJoined && this.state.name !== 'joining') return;
    this.unjoin();
    void this.rejoin();
  }

  /** A run begins. @param pulls whether it moves the cursor itself. */
  hold(pulls: boolean): void {
    this.isHeld = true;
    this.isPulling = pulls;
    // Windows that arrive from now on lead away from where the replica will not be any more.
    if (pulls) this.unjoin();
  }

  /** The run has ended: what has arrived meanwhile is applied. */
  release(): void {
    this.isHeld = false;
    this.isPulling = false;
    this.pump();
    // A connection that was opened meanwhile has waited for the cursor. Should the run have failed, it may bring what that did not.
    if (this.state.name === 'open' && !this.isRejoining) void this.rejoin();
  }

  /**
   * Sends a small push over the connection, which costs less than a request. Without an answer, or where there is no way to
   * send it, the same bytes are to be sent over HTTP: what was done is done once.
   */
  async push(body: string, signal: AbortSignal | undefined): Promise<unknown> {
    const { state } = this;
    // A character has three bytes at most.
    if (state.name !== 'joined' || state.channel.push === undefined || body.length * 3 > state.pushBytes)
      return undefined;
    state.channel.push(++this.pushes, body);
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
    this.enter({ name: 'stopped' });
  }

  /** Waits for what is being applied. */
  async stopped(): Promise<void> {
    await this.pumping;
  }

  private get channel(): LiveChannel | undefined {
    return channelOf(this.state);
  }

  /** Every transition: what belongs to the state before ends with it. */
  private enter(state: LiveState): void {
    const before = this.state;
    this.state = state;
    if (before.name === 'resting') before.cancelTimer();
    if (before.name === 'asking') before.requests.abort();
    if (before.name === 'joined') {
      this.windows = [];
      this.heldRows = 0;
    }
    const left = channelOf(before);
    if (left !== undefined && left !== channelOf(state)) {
      this.cancelSilence?.();
      this.answered?.();
      left.close();
    }
    if ((before.name === 'joined') !== (state.name === 'joined')) this.parts.onChange();
    if (state.name !== before.name) noteState(this.parts.host, `live connection: ${state.name}`);
    if (!this.isComing) this.settled?.();
  }

  private connect(): void {
    if (this.parts.transport.live === undefined) return;
    const channel = this.parts.transport.live({
      open: () => {
        if (this.channel !== channel) return;
        this.isRejoining = true;
        this.enter({ name: 'open', channel });
        this.heard();
        void this.rejoin();
      },
      message: (message) => this.channel === channel && this.hear(message),
      closed: () => this.channel === channel && this.lost(),
    });
    this.enter({ name: 'connecting', channel });
    this.heard();
  }

  private async rejoin(): Promise<void> {
    this.isRejoining = true;
    // Something may have changed while the join was made ready.
    do await this.join();
    while (this.isOutdated && !this.isPulling);
    this.isRejoining = false;
    if (!this.isComing) this.settled?.();
  }

  private async join(): Promise<void> {
    const { channel } = this;
    this.isOutdated = false;
    const joinState = await this.parts.joinState().catch(() => undefined);
    if (channel === undefined || channel !== this.channel || this.state.name === 'connecting') return;
    // A run that pulls moves the cursor: the replica joins when it has ended, from there.
    if (this.isPulling) this.isOutdated = true;
    if (this.isOutdated || joinState === undefined) return;
    const join = ++this.joins;
    this.enter({ name: 'joining', channel, join });
    const { tables, contentStored } = this.parts;
    channel.say({ join, ...joinState, ...(tables && { tables }), ...(contentStored && { files: true }) });
    // A dead connection says nothing, whatever is asked: another one is opened at once.
    this.unlessHeard(() => {
      this.unheard++;
      this.connect();
    });
  }

  /** Something was said that is answered. @param silent what is done where nothing at all is heard on the connection. */
  private unlessHeard(silent: () => void): void {
    const { host } = this.parts;
    const { channel, heardSigns } = this;
    // On a link so slow that an answer takes longer, the next one is waited for twice as long.
    host.after(Math.min(silence, probePatience * 2 ** this.unheard), () => {
      if (channel !== undefined && this.channel === channel && this.heardSigns === heardSigns) silent();
    });
  }

  private hear(message: LiveMessage): void {
    const { state } = this;
    this.unheard = 0;
    this.heard();
    // The server says it again with the first window for a replica that waits for some tables only.
    if (message.type === 'joined' && 'join' in state && message.join === state.join) {
      const { channel, join } = state;
      this.failures = 0;
      if (state.name === 'joining') this.enter({ name: 'joined', channel, join, pushBytes: message.pushBytes ?? 0 });
      // Another process than the one that was pulled from may know less.
      this.arrived({ ...message, unsupported: message.unsupported ?? {} });
      this.parts.contentStored?.();
      this.parts.moved();
    } else if (message.type === 'moved') this.parts.moved(message.tables);
    else if (message.type === 'content-stored') this.parts.contentStored?.();
    else if (message.type === 'window' && this.isJoined) this.arrived(message);
    else if (message.type === 'pull-required' && this.isJoined) this.fallBehind();
    else if (message.type === 'pull-required') this.parts.pull();
    else if (message.type === 'pushed' && message.push === this.pushes)
      this.answered?.('problem' in message ? undefined : message);
    else if (message.type === 'restarting') this.returnWithin = message.within;
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
    const { state } = this;
    if (state.name === 'joining' || state.name === 'joined') this.enter({ name: 'open', channel: state.channel });
  }

  private lost(): void {
    const wasOpen = this.state.name !== 'connecting';
    if (wasOpen || this.failures + 1 < mostFailures || this.parts.transport.wait === undefined) this.rest();
    else void this.ask();
  }

  private rest(): void {
    const { host, minDelay, maxDelay } = this.parts;
    const full = Math.min(maxDelay, Math.max(minDelay, this.returnWithin ?? 0) * 2 ** this.failures++);
    // A server that has stopped spreads its replicas over a time of its own: all at once would be too many for the others.
    const least = this.returnWithin === undefined ? 0.5 : 0;
    this.returnWithin = undefined;
    const cancelTimer = host.after(Math.round(full * (least + host.random() * (1 - least))), () => this.connect());
    this.enter({ name: 'resting', cancelTimer });
  }

  /** Asks by long requests, for as long as they are answered and no WebSocket is to be had. */
  private async ask(): Promise<void> {
    const { parts } = this;
    const requests = new AbortController();
    this.enter({ name: 'asking', requests });
    for (let times = 0; times < waitsBetween; times++) {
      const joinState = await parts.joinState().catch(() => undefined);
      if (requests.signal.aborted || joinState === undefined || parts.transport.wait === undefined) return;
      // Between two requests something may have changed that no cursor knows of.
      if (joinState.queries !== undefined) parts.moved();
      const moved = await parts.transport.wait(joinState, requests.signal).catch(() => undefined);
      if (requests.signal.aborted) return;
      if (moved === undefined) return this.rest();
      // The run that follows ends in begin, which comes back here by way of another attempt to connect.
      if (moved) return parts.pull();
    }
    this.connect();
  }

  /** A connection on which nothing is heard for long is broken, whatever it says of itself. */
  private heard(): void {
    const { host } = this.parts;
    this.heardAt = host.now();
    this.heardSigns++;
    this.cancelSilence?.();
    this.cancelSilence = host.after(silence, () => this.lost());
  }
}

const channelOf = (state: LiveState): LiveChannel | undefined => ('channel' in state ? state.channel : undefined);
