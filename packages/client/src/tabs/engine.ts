import type { Schema } from '@koinon/core';
import type { TabHost } from '../host/host.ts';
import { hostReplica } from '../remote/host-replica.ts';
import type { Answer } from '../remote/messages.ts';
import type { Port } from '../remote/port.ts';
import type { Replica } from '../replica/replica.ts';
import { Channel, type TabMessage, tabLock } from './tab-bus.ts';

/** The parts that the owner runs the database with. */
export interface OpenDatabase<S extends Schema> {
  readonly replica: Replica<S>;
  /** Tells whether another tab has taken the database over. */
  isLost(): boolean;
  /** Lets go of the files at once. */
  abandon(): void;
  /** Tells whether the data goes with this tab. */
  readonly isMemory: boolean;
}

/** The port on which answers to one tab go, and its requests come in. */
class TabPort implements Port {
  private readonly send: Port['postMessage'];
  private readonly listeners = new Map<string, ((message: unknown) => void)[]>();

  constructor(send: Port['postMessage']) {
    this.send = send;
  }

  postMessage(message: unknown, transfer: ArrayBuffer[]): void {
    this.send(message, transfer);
  }

  on(event: string, listener: (message: unknown) => void): void {
    this.listeners.set(event, [...(this.listeners.get(event) ?? []), listener]);
  }

  fire(event: 'message' | 'close', message?: unknown): void {
    for (const listener of this.listeners.get(event) ?? []) listener(message);
  }
}

/** The replica as the owner runs it: for its own page, and for the other tabs by a channel each. */
export class TabEngine<S extends Schema> {
  readonly term: string;
  private readonly name: string;
  private readonly host: TabHost;
  private readonly opening: Promise<OpenDatabase<S>>;
  private readonly onLost: () => void;
  private readonly own: TabPort;
  private readonly tabs = new Map<string, { readonly port: TabPort; readonly channel: Channel<TabMessage> }>();
  private database: OpenDatabase<S> | undefined;
  private isLeaving = false;
  private isOver = false;

  /**
   * @param open opens the database; what it throws is what every tab's calls get.
   * @param post where answers for the owner's own page go.
   * @param onLost called once it turns out that another tab has the database.
   */
  constructor(
    name: string,
    term: string,
    host: TabHost,
    open: () => Promise<OpenDatabase<S>>,
    post: Port['postMessage'],
    onLost: () => void,
  ) {
    this.name = name;
    this.term = term;
    this.host = host;
    this.onLost = onLost;
    this.opening = open();
    this.opening.then(
      (database) => {
        this.database = database;
        if (this.isOver) database.abandon();
      },
      () => undefined,
    );
    this.own = this.serve(post);
  }

  /** Tells whether another tab has taken the database over; looks. */
  isLost(): boolean {
    return this.isOver || this.database?.isLost() === true;
  }

  /** Tells whether handing over would lose the data. */
  get isMemory(): boolean {
    return this.database?.isMemory === true;
  }

  /** Takes a request of the owner's own page. */
  take(message: unknown): void {
    this.deliver(this.own, message);
  }

  /** Lets another tab in; safe to repeat. */
  admit(tab: string): void {
    const known = this.tabs.get(tab);
    if (known) {
      known.channel.post({ type: 'welcome', term: this.term });
      return;
    }
    const channel = new Channel<TabMessage>(tabLock(this.name, tab), (received) => {
      if (received.type === 'up' && received.term === this.term) this.deliver(port, received.message);
    });
    const port = this.serve((message) => channel.post({ type: 'down', term: this.term, message }));
    this.tabs.set(tab, { port, channel });
    channel.post({ type: 'welcome', term: this.term });
    // A tab that is gone lets go of its lock, however it went: what it left open is rolled back.
    void this.host.locks.take(tabLock(this.name, tab)).then((release) => {
      release();
      port.fire('close');
      channel.close();
      this.tabs.delete(tab);
    });
  }

  /** Ends when what has begun is done; what is asked meanwhile is left for the next owner. */
  async handOver(): Promise<void> {
    this.isLeaving = true;
    await this.opening.then(({ replica }) => replica.close()).catch(() => this.database?.abandon());
    this.end();
  }

  /** Ends at once, with nothing written any more. */
  drop(): void {
    this.database?.abandon();
    this.end();
    void this.database?.replica.close().catch(() => undefined);
  }

  private end(): void {
    this.isOver = true;
    for (const { port, channel } of this.tabs.values()) {
      port.fire('close');
      channel.close();
    }
    this.own.fire('close');
    this.tabs.clear();
  }

  private serve(send: Port['postMessage']): TabPort {
    const port = new TabPort((message, transfer) => {
      // What a tab follows goes on with the next engine: that this one closes its replica is no end of it.
      const answer = withoutEnds(message as Answer);
      if (this.isOver || answer === undefined) return;
      // An answer of a dispossessed engine no longer counts; the next owner is asked again.
      if (this.isLost()) this.onLost();
      else send(answer, transfer);
    });
    void hostReplica(port, async () => (await this.opening).replica);
    return port;
  }

  private deliver(port: TabPort, message: unknown): void {
    const belongsToOpen = (message as { readonly transaction?: number }).transaction !== undefined;
    if (!this.isOver && (!this.isLeaving || belongsToOpen)) port.fire('message', message);
  }
}

function withoutEnds(answer: Answer): Answer | undefined {
  if (answer.type === 'end') return undefined;
  if (answer.type !== 'batch') return answer;
  const answers = answer.answers.filter(({ type }) => type !== 'end');
  return answers.length > 0 ? { type: 'batch', answers } : undefined;
}
