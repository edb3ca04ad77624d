import type { Position } from '@koinon/core';
import type pg from 'pg';
import type { Wake } from '../store.ts';
import { readPosition, Snapshot } from './snapshot.ts';

/** The name under which processes on one database tell each other that the feed has gone on. */
export const channel = 'koinon_feed';

/** Milliseconds in which several notices become one. */
export const announceAfter = 5;

/**
 * Milliseconds between two notices. After one the other processes are busy, and look by themselves: more of them would only cost the database
 * commits, which take their turn where notices are given.
 */
export const announceEvery = 100;

/**
 * Milliseconds between two looks for what other programs have written, while somebody writes and while nobody does. One is a
 * query without any table.
 */
const lookEvery = { busy: 20, quiet: 150 };

/** Milliseconds after the last thing that was written until it counts as quiet. */
const quietAfter = 5_000;

const lookSql = 'SELECT pg_current_snapshot()::text AS now';

/** Milliseconds until a connection that broke is made anew. */
const reconnectAfter = 1_000;

/**
 * Wakes those who follow the feed: at once when another process of ours says so, and soon after any program has written,
 * which shows in the newest transaction id. No trigger notifies: that would cost every writer its commit.
 */
export class Watcher {
  private readonly pool: pg.Pool;
  private readonly name: string;
  private readonly listeners = new Set<Wake>();
  private client: pg.PoolClient | undefined;
  private timer: NodeJS.Timeout | undefined;
  private seen: Snapshot | undefined;
  private movedAt = Number.NEGATIVE_INFINITY;
  private isClosed = false;
  private connecting: Promise<void> | undefined;

  /** @param name of this process: it does not wake itself. */
  constructor(pool: pg.Pool, name: string) {
    this.pool = pool;
    this.name = name;
  }

  /** Wakes this one too, until the returned function is called. */
  add(wake: Wake): () => void {
    this.listeners.add(wake);
    this.begin();
    return () => {
      this.listeners.delete(wake);
      if (this.listeners.size === 0) this.rest();
    };
  }

  async close(): Promise<void> {
    this.isClosed = true;
    await this.connecting;
    this.rest();
  }

  private get isWanted(): boolean {
    return this.listeners.size > 0 && !this.isClosed;
  }

  private begin(): void {
    if (this.isWanted && this.client === undefined) this.connecting ??= this.connect();
  }

  private async connect(): Promise<void> {
    const client = await this.pool.connect().catch(() => undefined);
    client?.on('notification', ({ payload }) => {
      if (payload === this.name) return;
      this.wake();
      // More may follow without a notice.
      this.movedAt = performance.now();
      if (client === undefined || this.client !== client || this.timer === undefined) return;
      clearTimeout(this.timer);
      this.look(client);
    });
    client?.on('error', () => this.lost(client));
    const listens = await client?.query(`LISTEN ${channel}`).catch(() => undefined);
    this.connecting = undefined;
    // Meanwhile everybody may have gone: nobody else would let go of the connection.
    if (client === undefined || listens === undefined || !this.isWanted) {
      client?.release(true);
      this.beginLater();
      return;
    }
    this.client = client;
    this.look(client);
    // Whatever happened while nobody listened.
    this.wake();
  }

  private look(client: pg.PoolClient): void {
    const every = performance.now() - this.movedAt < quietAfter ? lookEvery.busy : lookEvery.quiet;
    this.timer = setTimeout(() => {
      this.timer = undefined;
      client
        .query<{ now: string }>({ name: 'koinon_look', text: lookSql })
        .then(({ rows }) => {
          if (this.client !== client) return;
          const now = Snapshot.parse(rows[0]?.now ?? '') ?? Snapshot.none;
          // A transaction that has only begun has nothing to show yet.
          if (this.seen?.includes(now) !== true) {
            this.movedAt = performance.now();
            this.wake((read) => readPosition(read)?.known.includes(now) === true);
          }
          this.seen = now;
          this.look(client);
        })
        .catch(() => this.lost(client));
    }, every).unref();
  }

  /** Wakes all: something may have been written. */
  wake(isRead?: (position: Position) => boolean): void {
    for (const listener of [...this.listeners]) listener(isRead);
  }

  private lost(client: pg.PoolClient): void {
    if (this.client !== client) return;
    this.rest();
    this.beginLater();
  }

  private beginLater(): void {
    if (this.isWanted) setTimeout(() => this.begin(), reconnectAfter).unref();
  }

  private rest(): void {
    clearTimeout(this.timer);
    // A connection that listens is of no use to others.
    this.client?.release(true);
    this.client = undefined;
  }
}
