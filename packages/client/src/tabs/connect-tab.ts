import { KoinonError, type Schema } from '@koinon/core';
import { timeId } from '../host/time-id.ts';
import { throwLater } from '../live/result.ts';
import { ConnectedReplica } from '../remote/connect-replica.ts';
import type { Answer, Request } from '../remote/messages.ts';
import { Wire } from '../remote/wire.ts';
import type { Replica } from '../replica/replica.ts';
import { Channel, databaseLock, type TabBroadcast } from './tab-bus.ts';
import { forgetUnfinished, keepUnfinished, unfinished } from './unfinished.ts';

/** Options of {@link connectTab}. */
export interface ConnectTabOptions {
  /** Tells whether the browser is asked not to clear the data when room is short; some ask the person. Default true. */
  readonly persist?: boolean;
}

/**
 * Reaches the app's replica from a page. Its worker runs `hostTabs`; all tabs share one database.
 *
 * A write that is made while the page is being left is kept: what the worker had no time for is done when the app is next opened.
 *
 * @throws KoinonError whatever opening the database threw; `replica-closed` when the worker cannot be started.
 * @example
 * const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' })
 * const replica = await connectTab(worker, cooperative)
 */
export async function connectTab<S extends Schema>(
  worker: Worker,
  schema: S,
  { persist = true }: ConnectTabOptions = {},
): Promise<Replica<S>> {
  const wire = new Wire(worker, () => timeId());
  const page = new Page(worker, wire);
  // Some browsers ask the user, who may take his time.
  if (persist) void navigator.storage?.persist?.().catch(() => undefined);
  await wire.open();
  await page.finishWhatWasLeft();
  return new ConnectedReplica<S>(schema, wire);
}

/** The page's end: tells the worker what only a page sees, and keeps what is unanswered when the page goes. */
class Page {
  private readonly worker: Worker;
  private readonly wire: Wire;
  private readonly key = timeId();
  private name: string | undefined;
  private term: string | null = null;

  constructor(worker: Worker, wire: Wire) {
    this.worker = worker;
    this.wire = wire;
    let all: Channel<TabBroadcast> | undefined;
    worker.addEventListener('message', ({ data }: MessageEvent<Answer>) => {
      if (data.type !== 'tab') return;
      this.name = data.name;
      this.term = data.term;
      // The worker may be busy for long; whether the tab is alive, the page can tell.
      all ??= new Channel<TabBroadcast>(databaseLock(data.name), ({ type }) => {
        if (type === 'ping' && this.term !== null) all?.post({ type: 'pong', term: this.term });
      });
    });
    worker.addEventListener('error', (event) => {
      wire.end(
        new KoinonError(
          'replica-closed',
          `The replica's worker cannot run: ${event.message || 'its script failed to load'}.`,
        ),
      );
    });
    const tell = () => this.tellShell();
    for (const event of ['visibilitychange', 'freeze', 'resume']) document.addEventListener(event, tell);
    for (const event of ['online', 'offline', 'focus']) addEventListener(event, tell);
    addEventListener('pagehide', () => {
      const keep = () => {
        if (this.name !== undefined) keepUnfinished(this.name, this.key, wire.unanswered());
      };
      keep();
      // The app may hear of it after this, and save only then.
      wire.onAsked = keep;
    });
    addEventListener('pageshow', (event) => {
      if (!event.persisted) return;
      // Back from where it was kept: the answers still come.
      wire.onAsked = undefined;
      if (this.name !== undefined) forgetUnfinished(this.name, this.key);
    });
    tell();
  }

  /** Does what pages that were left had no time for. Each call carries its id: what was done after all is not done twice. */
  async finishWhatWasLeft(): Promise<void> {
    if (this.name === undefined) return;
    for (const { key, requests } of unfinished(this.name)) {
      for (const request of requests) {
        const { number: _, ...again } = request as Request & { readonly ask: 'step' };
        // Nobody waits for the outcome any more: a refusal must still be seen.
        await this.wire.ask(again).catch(throwLater);
      }
      forgetUnfinished(this.name, key);
    }
  }

  private tellShell(): void {
    const { onLine: online } = navigator;
    const visible = document.visibilityState === 'visible';
    this.worker.postMessage({ shell: { online, visible } });
  }
}
