import type { Cursor, Position } from '@koinon/core';
import { sealCursor } from '../cursor/seal.ts';
import type { FeedEntry, Store, StoreReader } from '../stores/store.ts';

/** A stretch of the feed, made once for all who follow. */
export interface Window {
  readonly from: string;
  readonly cursor: string;
  readonly position: number;
  readonly entries: readonly FeedEntry[];
  /** Its members as the protocol's JSON has them, without the braces. */
  readonly json: string;
}

/** Somebody who follows the feed. */
export interface Follower {
  /** Takes the stretch from where it stood to where all who follow stand; it may be empty. */
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

/** Where a follower stands that is not where the others are. */
interface Apart {
  readonly known: Position;
  /** The cursor as it was given. */
  readonly token: string;
}

/**
 * Reads the feed once per wake-up for everybody who follows it in this process. All who follow stand at one position; who
 * joins is brought there by a read of its own, in the same snapshot.
 */
export class Hub {
  private readonly store: Store;
  private readonly told: (rows: number, followers: number) => void;
  private readonly followers = new Set<Follower>();
  /** Those who are yet to be brought to where the others are. */
  private readonly joining = new Map<Follower, Apart>();
  /** Those who wait for tables that have not changed. */
  private readonly waiting = new Map<Follower, Apart>();
  private known: Position | undefined;
  private movedAt = 0;
  private running: Promise<void> | undefined;
  private isDue = false;
  private isClosed = false;
  private stopWatching: (() => void) | undefined;

  /** @param told of each window: its rows, and how many follow. */
  constructor(store: Store, told: (rows: number, followers: number) => void = () => undefined) {
    this.store = store;
    this.told = told;
  }

  /** How many follow. */
  get size(): number {
    return this.followers.size + this.joining.size + this.waiting.size;
  }

  /** Follows from a cursor on, until the returned function is called. */
  follow(follower: Follower, cursor: Cursor, token: string): () => void {
    this.forget(follower);
    this.joining.set(follower, { known: cursor.known, token });
    this.stopWatching ??= this.store.watch(() => this.wake());
    this.wake();
    return () => this.leave(follower);
  }

  /** Something may have changed. */
  wake(): void {
    if (this.isClosed || this.size === 0) return;
    if (this.running) {
      this.isDue = true;
      return;
    }
    this.running = this.read()
      // The database is away for a moment: they are asked to pull, which tells them what is the matter.
      .catch(() => this.dismissAll())
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
  }

  private leave(follower: Follower): void {
    this.forget(follower);
    if (this.size > 0) return;
    // Nobody listens: the feed is not read until somebody does, and then from where it is by then.
    this.stopWatching?.();
    this.stopWatching = undefined;
    this.known = undefined;
  }

  private forget(follower: Follower): void {
    this.followers.delete(follower);
    this.joining.delete(follower);
    this.waiting.delete(follower);
  }

  private dismissAll(): void {
    for (const follower of [...this.followers, ...this.joining.keys(), ...this.waiting.keys()]) {
      this.leave(follower);
      follower.behind();
    }
  }

  /** Reads the feed up to its end, window by window, each in a snapshot of its own. */
  private async read(): Promise<void> {
    for (let more = true; more && !this.isClosed; ) {
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
      const token = this.sealed(from);
      const window = await this.made(reader, { known: from, token }, page.to, page.to, page.entries);
      tell.push(() => this.told(page.entries.length, this.followers.size));
      for (const follower of [...this.followers]) {
        if (isOld || isConcerned(follower, page.entries)) tell.push(() => follower.window(window));
        else {
          // What it does not wait for comes along with what it does.
          this.followers.delete(follower);
          this.waiting.set(follower, { known: from, token });
        }
      }
      for (const [follower, apart] of this.waiting)
        if (isOld || isConcerned(follower, page.entries)) {
          this.waiting.delete(follower);
          this.joining.set(follower, apart);
        }
    }
    if (page.more) return true;
    for (const [follower, apart] of [...this.joining]) await this.bringUp(reader, follower, apart, tell);
    return false;
  }

  /** Brings one who joins to where the others are; in the snapshot in which they got there. */
  private async bringUp(reader: StoreReader, follower: Follower, apart: Apart, tell: (() => void)[]): Promise<void> {
    const page =
      (await reader.reach(apart.known)) === 'known' ? await reader.changesSince(apart.known, windowRows) : undefined;
    // It may have gone, or joined anew, while this was read.
    if (this.joining.get(follower) !== apart) return;
    this.joining.delete(follower);
    if (page === undefined || page.more) {
      tell.push(() => {
        this.leave(follower);
        follower.behind();
      });
      return;
    }
    // What lies between the others' position and the present is nothing: both come to the same.
    const window = await this.made(reader, apart, this.known as Position, page.to, page.entries);
    this.followers.add(follower);
    tell.push(() => follower.joined(window));
  }

  private async made(
    reader: StoreReader,
    from: Apart,
    to: Position,
    present: Position,
    entries: readonly FeedEntry[],
  ): Promise<Window> {
    const applied = await reader.receiptsBetween(from.known, present);
    const window = { from: from.token, cursor: this.sealed(to), position: this.store.ordinal(to), entries };
    const { entries: rows, ...rest } = window;
    return { ...window, json: JSON.stringify({ ...rest, rows, applied, time: new Date().toISOString() }).slice(1, -1) };
  }

  private sealed(known: Position): string {
    const { feed, schema, secret } = this.store;
    return sealCursor({ feed, known, schemaVersion: schema.version }, secret);
  }
}

function isConcerned({ tables }: Follower, entries: readonly FeedEntry[]): boolean {
  return tables === undefined || entries.some(({ table }) => tables.has(table));
}
