import { KoinonError } from '@koinon/core';
import type { Store } from '../store/store.ts';

/** Milliseconds between two looks at which replicas are blocked: the operator does it from a process of his own. */
const lookEvery = 5_000;

/** The replicas that the operator has blocked. */
export class Blocklist {
  private readonly store: Store;
  private ids: ReadonlySet<string> = new Set();
  private readonly listeners = new Set<() => void>();
  private timer: NodeJS.Timeout | undefined;

  constructor(store: Store) {
    this.store = store;
  }

  /** Looks now, and from time to time until it is stopped. */
  async start(): Promise<void> {
    await this.look();
    this.timer = setInterval(() => void this.look().catch(() => undefined), lookEvery).unref();
  }

  stop(): void {
    clearInterval(this.timer);
  }

  /** Calls when another replica is blocked, until the returned function is called. */
  onChange(listener: () => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  /** @throws KoinonError `replica-blocked`. */
  refuse(replica: string): void {
    if (this.ids.has(replica))
      throw new KoinonError('replica-blocked', `The replica ${replica} was blocked by the server's operator.`, {
        value: replica,
      });
  }

  private async look(): Promise<void> {
    const ids = new Set(await this.store.read((reader) => reader.blockedReplicas()));
    const isMore = [...ids].some((id) => !this.ids.has(id));
    this.ids = ids;
    if (isMore) for (const listener of [...this.listeners]) listener();
  }
}
