import { KoinonError, type Schema } from '@koinon/core';
import { openMemory, openPrivateFile } from '../driver/wasm.ts';
import { hear, type Port } from '../remote/port.ts';
import type { ReplicaOptions } from '../replica/open.ts';
import { openLocal } from '../replica/open-local.ts';
import { type OpenDatabase, TabEngine } from './engine.ts';
import { type FromPage, isFromPage, PageHost } from './page-host.ts';
import {
  Channel,
  databaseLock,
  isBetter,
  type TabBroadcast,
  type TabMessage,
  type TabState,
  tabLock,
} from './tab-bus.ts';

/** The options of the worker of an app's tabs. */
export interface TabOptions<S extends Schema>
  extends Pick<
    ReplicaOptions<S>,
    'schema' | 'seed' | 'migrations' | 'server' | 'token' | 'only' | 'sync' | 'stallLimit'
  > {
  /** The name of the database on this origin. */
  readonly name: string;
  /** A database that ships with the app, made by `copy` or `copyTo`: what a new one starts from. An address, or the bytes. */
  readonly prebuilt?: string | Blob;
}

/** How long an owner may be silent, in milliseconds, before it is asked, and then before it counts as frozen or gone. */
const silence = 1_000;
const patience = 3_000;

/** How long, in milliseconds, the files of an owner that is gone may stay open, and how often they are tried. */
const filesLinger = 15_000;
const tryEvery = 50;

/**
 * Runs the replica for all tabs of an app: the two lines of an app's worker file. One tab's worker has the database, the
 * others reach it; when that tab is closed, crashes, is frozen or hidden, another takes over.
 *
 * @example
 * // worker.ts
 * import { hostTabs } from '@koinon/client/browser'
 * hostTabs({ schema: cooperative, name: 'hives' })
 */
export function hostTabs<S extends Schema>(options: TabOptions<S>): void {
  void new Tab(options, self as unknown as Port, new PageHost()).begin();
}

/** Drafts are held by the page that edits. */
const noDraft = () => {
  throw new Error('a draft belongs to a page, not to its worker');
};

/** The bytes of a database that ships with an app. @throws KoinonError `storage-refused`. */
async function bytesOf(prebuilt: string | Blob): Promise<Uint8Array> {
  const refused = (why: string) =>
    new KoinonError('storage-refused', `The prebuilt database cannot be fetched (${why}). No replica was made.`);
  if (typeof prebuilt !== 'string') return new Uint8Array(await prebuilt.arrayBuffer());
  const response = await fetch(prebuilt).catch((error: Error) => Promise.reject(refused(error.message)));
  if (!response.ok) throw refused(`HTTP status ${response.status}`);
  return new Uint8Array(await response.arrayBuffer());
}

/** A tab's worker: it has the database, or passes what its page asks on to the tab that has. */
class Tab<S extends Schema> {
  private readonly id: string;
  private readonly options: TabOptions<S>;
  private readonly page: Port;
  private readonly host: PageHost;
  private readonly all: Channel<TabBroadcast>;
  private readonly toOwner: Channel<TabMessage>;
  /** The term of the owner that this tab has been let in by. */
  private term: string | undefined;
  private engine: TabEngine<S> | undefined;
  private release: (() => void) | undefined;
  private request: AbortController | undefined;
  private cancelWatch: (() => void) | undefined;
  private isClosed = false;

  constructor(options: TabOptions<S>, page: Port, host: PageHost) {
    this.options = options;
    this.page = page;
    this.host = host;
    this.id = host.newId();
    hear(page, (message) => this.fromPage(message as FromPage));
    this.all = new Channel(databaseLock(options.name), (word) => this.heard(word));
    this.toOwner = new Channel(tabLock(options.name, this.id), (received) => this.fromOwner(received));
  }

  async begin(): Promise<void> {
    this.post({ type: 'tab', name: this.options.name, term: null });
    // Held as long as this worker lives: the owner learns by it that the tab is gone.
    await this.host.locks.take(tabLock(this.options.name, this.id));
    this.host.onChange(() => {
      this.hello();
      this.yieldTo(undefined);
      if (this.host.isVisible()) this.watch();
    });
    this.hello();
    this.stand();
    this.watch();
  }

  private post(message: unknown, transfer: ArrayBuffer[] = []): void {
    this.page.postMessage(message, transfer);
  }

  private get mine(): TabState {
    return { version: this.options.schema.version, visible: this.host.isVisible() };
  }

  private hello(): void {
    this.all.post({ type: 'hello', tab: this.id, ...this.mine });
  }

  /** Waits in the queue for the database. */
  private stand(steal = false): void {
    this.request?.abort();
    const request = new AbortController();
    this.request = request;
    const lost = () => this.lose();
    const options = steal ? { steal, onLost: lost } : { signal: request.signal, onLost: lost };
    this.host.locks.take(databaseLock(this.options.name), options).then(
      (release) => {
        if (this.isClosed || this.engine) release();
        else this.own(release);
      },
      () => undefined,
    );
  }

  private own(release: () => void): void {
    const { name } = this.options;
    const term = this.host.newId();
    this.release = release;
    this.unwatch();
    this.engine = new TabEngine<S>(
      name,
      term,
      this.host,
      () => this.open(term),
      (message, transfer) => this.post(message, transfer),
      () => this.lose(),
    );
    this.term = term;
    this.post({ type: 'tab', name, term });
    this.post({ type: 'owner-changed' });
    this.all.post({ type: 'owner', term });
  }

  private async open(term: string): Promise<OpenDatabase<S>> {
    const { name, prebuilt, ...rest } = this.options;
    const giveUpAt = this.host.now() + filesLinger;
    for (;;) {
      try {
        const file = await openPrivateFile(name, term, prebuilt === undefined ? undefined : () => bytesOf(prebuilt));
        const replica = await openLocal<S>({ ...rest, driver: file.driver, host: this.host }, noDraft);
        return { replica, isMemory: false, isLost: file.isLost, abandon: file.abandon };
      } catch (error) {
        const { code, message } = error as KoinonError;
        if (code === 'storage-unavailable') {
          const replica = await openLocal<S>({ ...rest, driver: await openMemory(message), host: this.host }, noDraft);
          return { replica, isMemory: true, isLost: () => false, abandon: () => undefined };
        }
        // The files of an owner that was killed are set free a moment after its lock.
        if (code !== 'replica-busy') throw error;
        if (this.host.now() > giveUpAt) {
          // Somebody frozen holds them, in a browser that lets nobody take them over: whoever asks later tries anew.
          this.host.after(0, () => this.lose());
          throw error;
        }
        await new Promise<void>((done) => this.host.after(tryEvery, done));
      }
    }
  }

  /** Another tab has the database: what is under way here comes to nothing, and the page asks the other one. */
  private lose(): void {
    this.leave((engine) => engine.drop());
  }

  /** Lets a tab have the database that is better placed. */
  private yieldTo(other: TabState | undefined): void {
    const { engine } = this;
    if (engine === undefined || engine.isMemory) return;
    if (other === undefined) {
      // A tab that is there answers with its own state.
      if (!this.mine.visible) this.all.post({ type: 'owner', term: engine.term });
      return;
    }
    if (!isBetter(other, this.mine)) return;
    this.leave((leaving) => leaving.handOver());
  }

  private leave(end: (engine: TabEngine<S>) => Promise<void> | void): void {
    const { engine, release } = this;
    if (engine === undefined) return;
    this.engine = undefined;
    this.release = undefined;
    void Promise.resolve(end(engine)).then(() => {
      // Until then the page says that this tab is alive: what has begun may take its time.
      this.post({ type: 'tab', name: this.options.name, term: null });
      release?.();
      if (this.isClosed) return;
      this.hello();
      this.stand();
      this.watch();
    });
  }

  private heard(word: TabBroadcast): void {
    if (this.isClosed) return;
    const { engine } = this;
    if (word.type === 'hello' && engine) {
      if (engine.isLost()) {
        this.lose();
        return;
      }
      engine.admit(word.tab);
      this.yieldTo(word);
    } else if (word.type === 'owner') {
      if (engine === undefined) this.hello();
      else if (engine.isLost()) this.lose();
    } else if (word.type === 'pong' && this.cancelWatch) {
      this.unwatch();
      this.watch();
    }
  }

  private fromOwner(received: TabMessage): void {
    if (this.engine || received.type === 'up') return;
    if (received.type === 'welcome') {
      this.unwatch();
      if (received.term === this.term) return;
      this.term = received.term;
      this.post({ type: 'owner-changed' });
    } else if (received.term === this.term) {
      this.unwatch();
      this.post(received.message);
    }
  }

  private fromPage(message: FromPage): void {
    if (isFromPage(message)) this.host.set(message.shell);
    else if (message.ask === 'call' && message.name === 'close') this.close(message.number);
    else if (this.engine) this.engine.take(message);
    // Without an owner the page is told later that there is one, and asks again.
    else if (this.term !== undefined) {
      this.toOwner.post({ type: 'up', term: this.term, message });
      this.watch();
    }
  }

  private close(number: number): void {
    this.isClosed = true;
    this.request?.abort();
    this.unwatch();
    const { engine, release } = this;
    this.engine = undefined;
    void Promise.resolve(engine?.handOver()).then(() => {
      release?.();
      this.post({ type: 'done', number, value: undefined });
      this.all.close();
      this.toOwner.close();
      // The worker's locks go with it.
      (self as unknown as { close?(): void }).close?.();
    });
  }

  /** Waits for a word of the owner; one that stays silent, even when asked, is frozen or gone without a trace. */
  private watch(): void {
    if (this.cancelWatch || this.engine || this.isClosed) return;
    this.cancelWatch = this.host.after(silence, () => {
      this.all.post({ type: 'ping' });
      this.cancelWatch = this.host.after(patience, () => {
        // A tab nobody sees has time.
        this.cancelWatch = undefined;
        if (this.host.isVisible()) this.stand(true);
        this.watch();
      });
    });
  }

  private unwatch(): void {
    this.cancelWatch?.();
    this.cancelWatch = undefined;
  }
}
