import type { Cursor, Position } from '@koinon/core';
import { sealCursor } from '../cursor/seal.ts';
import type { FeedEntry, Store, StoreReader } from '../stores/store.ts';

/** A stretch of the feed, made once for all who follow. */
export interface Window {
  readonly from: string;
  readonly cursor: string;
  readonly position: number;
  readonly entries: readonly FeedEntry[];
  readonly applied: readonly string[];
  /** As JSON without the braces, for those who send it as it is. */
  readonly json: string;
}

/** Somebody who follows the feed. */
export interface Follower {
  /** Takes the first stretch, from the position it came with; it may be empty. */
  joined(window: Window): void;
  /** Takes the next one, which begins where the one before ended. */
  window(window: Window): void;
  /** There is more than is sent this way, or the position is none of this feed's: it follows no longer. */
  behind(): void;
  /** The tables it waits for; all without it. */
  readonly tables?: ReadonlySet<string> | undefined;
}

/** Rows in one window at most. */
const windowRows = 2_000;

/** Milliseconds after which a feed without changes moves its followers on: positions must not grow old. */
const renewEvery = 3_600_000;

/**
 * Reads the feed once per wake-up for everybody who follows it in this process. All who follow stand at one position; who
 * joins is brought there by a read of its own, in the same snapshot.
 */
export class Hub {
  private readonly store: Store;
  private readonly followers = new Set<Follower>();
  /** Those who are yet to be brought to where the others are. */
  private readonly joining = new Map<Follower, Position>();
  private known: Position | undefined;
  private movedAt = 0;
  private running: Promise<void> | undefined;
  private isDue = false;
  private isClosed = false;
  private stopWatching: (() => void) | undefined;

  constructor(store: Store) {
    this.store = store;
  }

  /** How many follow. */
  get size(): number {
    return this.followers.size + this.joining.size;
  }

  /** Follows from a position on, until the returned function is called. */
  follow(follower: Follower, from: Position): () => void {
    this.followers.delete(follower);
    this.joining.set(follower, from);
    this.stopWatching ??= this.store.watch(() => this.wake());
    this.wake();
    return () => this.leave(follower);
  }

  /** Something may have changed. */
  wake(): void {
    if (this.isClosed) return;
    if (this.running) {
      this.isDue = true;
      return;
    }
    if (this.size === 0) return;
    this.running = this.read()
      .catch(() => {
        // The database is away for a moment: they are asked to pull, which tells them what is the matter.
        this.dismissAll();
      })
      .finally(() => {
        this.running = undefined;
        if (!this.isDue) return;
        this.isDue = false;
        this.wake();
      });
  }

  /** Ends for good, when what is under way has ended. */
  async close(): Promise<void> {
    this.isClosed = true;
    this.stopWatching?.();
    await this.running;
    this.followers.clear();
    this.joining.clear();
  }

  private leave(follower: Follower): void {
    this.followers.delete(follower);
    this.joining.delete(follower);
    if (this.size > 0) return;
    // Nobody listens: the feed is not read until somebody does, and then from where it is by then.
    this.stopWatching?.();
    this.stopWatching = undefined;
    this.known = undefined;
  }

  private dismissAll(): void {
    for (const follower of [...this.followers, ...this.joining.keys()]) {
      this.leave(follower);
      follower.behind();
    }
  }

  /** Reads the feed up to its end, window by window, each in a snapshot of its own. */
  private async read(): Promise<void> {
    for (let more = true; more; ) {
      const tell: (() => void)[] = [];
      more = await this.store.read((reader) => this.readWindow(reader, tell));
      for (const each of tell) each();
    }
  }

  private async readWindow(reader: StoreReader, tell: (() => void)[]): Promise<boolean> {
    this.known ??= await reader.position();
    const from = this.known;
    const page = await reader.changesSince(from, windowRows);
    const isOld = Date.now() - this.movedAt > renewEvery;
    if (page.entries.length > 0 || isOld) {
      this.known = page.to;
      this.movedAt = Date.now();
      const window = this.made(from, page.to, page.entries, await reader.receiptsBetween(from, page.to));
      for (const follower of [...this.followers]) {
        if (page.entries.length === 0 || isConcerned(follower, page.entries)) tell.push(() => follower.window(window));
        else {
          // What it does not wait for comes along with what it does.
          this.followers.delete(follower);
          this.lagging.set(follower, from);
        }
      }
      for (const [follower, since] of this.lagging)
        if (isConcerned(follower, page.entries)) {
          this.lagging.delete(follower);
          this.joining.set(follower, since);
        }
    }
    if (page.more) return true;
    for (const [follower, since] of [...this.joining]) await this.bringUp(reader, follower, since, tell);
    return false;
  }

  /** Brings one who joins to where the others are. In the snapshot in which they got there. */
  private async bringUp(
    reader: StoreReader,
    follower: Follower,
    since: Position,
    tell: (() => void)[],
  ): Promise<void> {
    const known = this.known as Position;
    if (this.joining.get(follower) !== since) return;
    this.joining.delete(follower);
    const reach = await reader.reach(since);
    const page = reach === 'known' ? await reader.changesSince(since, windowRows) : undefined;
    if (page === undefined || page.more) {
      tell.push(() => {
        this.leave(follower);
        follower.behind();
      });
      return;
    }
    this.followers.add(follower);
    // What lies between this position and the present is nothing: both come to the same.
    const window = this.made(since, known, page.entries, await reader.receiptsBetween(since, page.to));
    tell.push(() => follower.joined(window));
  }

  private made(from: Position, to: Position, entries: readonly FeedEntry[], applied: readonly string[]): Window {
    const { store } = this;
    const cursor = (known: Position): string => {
      const content: Cursor = { feed: store.feed, known, schemaVersion: store.schema.version };
      return sealCursor(content, store.secret);
    };
    const window = { from: cursor(from), cursor: cursor(to), position: store.ordinal(to), entries, applied };
    const time = new Date().toISOString();
    const { entries: rows, ...rest } = window;
    return { ...window, json: JSON.stringify({ ...rest, rows, time }).slice(1, -1) };
  }

  /** Those who wait for tables that have not changed, with where they stand. */
  private readonly lagging = new Map<Follower, Position>();
}

function isConcerned({ tables }: Follower, entries: readonly FeedEntry[]): boolean {
  return tables === undefined || entries.some(({ table }) => tables.has(table));
}
