import type pg from 'pg';

/** The name under which processes on one database tell each other that the feed has gone on. */
export const channel = 'koinon_feed';

/** Milliseconds in which several notices become one. */
export const announceAfter = 5;

/**
 * Milliseconds between two looks for what other programs have written, while somebody writes and while nobody does. One is a
 * query without any table.
 */
const lookEvery = { busy: 20, quiet: 150 };

/** Milliseconds after the last thing that was written until it counts as quiet. */
const quietAfter = 5_000;

const lookSql = 'SELECT pg_snapshot_xmax(pg_current_snapshot())::text || pg_current_snapshot()::text AS next';

/** Milliseconds until a connection that broke is made anew. */
const reconnectAfter = 1_000;

/**
 * Wakes those who follow the feed: at once when another process of ours says so, and soon after any program has written,
 * which shows in the newest transaction id. No trigger notifies: that would cost every writer its commit.
 */
export class Watcher {
  private readonly pool: pg.Pool;
  private readonly listeners = new Set<() => void>();
  private client: pg.PoolClient | undefined;
  private timer: NodeJS.Timeout | undefined;
  private seen = '';
  private movedAt = Number.NEGATIVE_INFINITY;
  private isClosed = false;
  private connecting: Promise<void> | undefined;

  constructor(pool: pg.Pool) {
    this.pool = pool;
  }

  /** Wakes this one too, until the returned function is called. */
  add(wake: () => void): () => void {
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
    client?.on('notification', () => this.wake());
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
      client
        .query<{ next: string }>({ name: 'koinon_look', text: lookSql })
        .then(({ rows }) => {
          if (this.client !== client) return;
          const next = rows[0]?.next ?? '';
          if (next !== this.seen) {
            this.movedAt = performance.now();
            this.wake();
          }
          this.seen = next;
          this.look(client);
        })
        .catch(() => this.lost(client));
    }, every).unref();
  }

  private wake(): void {
    for (const listener of [...this.listeners]) listener();
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
