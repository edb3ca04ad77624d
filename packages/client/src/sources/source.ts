import { type AnyRow, KoinonError, type NewRow, type Schema, sameValue, type TableName, tableOf } from '@koinon/core';
import { systemHost } from '../host/host.ts';
import { DataApi } from '../replica/data-api.ts';
import type { Replica } from '../replica/replica.ts';

/** What a service is asked: for conditional requests (RFC 9110, 13) it is told what the rows here came with. */
export interface SourceRequest {
  /** The validators of the last answer; undefined before the first one, and where it had none. */
  readonly etag: string | undefined;
  readonly lastModified: string | undefined;
  /** Ends the request: nobody waits for it any more, or it took too long. */
  readonly signal: AbortSignal;
}

/** The answer of a service: all rows of the table, or that they are the same as before. */
export type SourceAnswer<R> =
  | 'unchanged'
  | { readonly rows: readonly R[]; readonly etag?: string | undefined; readonly lastModified?: string | undefined };

/** How a table is filled. */
export interface SourceOptions<R> {
  /** Asks the service. */
  readonly refresh: (request: SourceRequest) => Promise<SourceAnswer<R>>;
  /** Milliseconds between two requests; without it only {@link Source.refresh} asks, and the return of the network. */
  readonly interval?: number;
  /** Milliseconds after which the rows count as stale. Default: three times `interval`; never without one. */
  readonly maxAge?: number;
  /** Milliseconds in which the service answers. Default 30,000. */
  readonly timeout?: number;
  /** Asked before the service is asked by itself: false on a link that costs, say. */
  readonly allow?: () => boolean;
}

/** The state of a source. */
export interface SourceState {
  /** `waiting` after a failure, until the next attempt; `held-back` because `allow` said no. */
  readonly phase: 'idle' | 'refreshing' | 'waiting' | 'held-back';
  /** When the service said last that the rows are these, RFC 3339; null: never. */
  readonly checkedAt: string | null;
  /** Tells whether that is longer ago than `maxAge`. */
  readonly isStale: boolean;
  /** The last failure; null after a success. The rows of before are still there. */
  readonly error: Error | null;
}

/** What the file keeps of a source. */
interface Note {
  readonly etag?: string | undefined;
  readonly lastModified?: string | undefined;
  readonly checkedAt: number;
}

const usualTimeout = 30_000;

/** The shortest and the longest milliseconds between attempts after a failure. */
const [firstRetry, longestRetry] = [5_000, 600_000];

/** A table of this device that a service of others fills. */
export class Source<S extends Schema, T extends TableName<S>> {
  private readonly replica: Replica<S>;
  private readonly table: T;
  private readonly options: SourceOptions<NewRow<S, T>>;
  private readonly listeners = new Set<() => void>();
  private readonly closing = new AbortController();
  private note: Note | undefined;
  private phase: SourceState['phase'] = 'idle';
  private error: Error | null = null;
  private failures = 0;
  private running: Promise<void> | undefined;
  private cancelTimer: (() => void) | undefined;

  /** Made by {@link openSource}. */
  constructor(replica: Replica<S>, table: T, options: SourceOptions<NewRow<S, T>>) {
    this.replica = replica;
    this.table = table;
    this.options = options;
  }

  /** Reads what is known, and begins to ask. */
  async open(): Promise<void> {
    const { interval } = this.options;
    await this.readNote();
    const onOnline = () => this.byItself();
    const target = globalThis as Partial<Pick<EventTarget, 'addEventListener' | 'removeEventListener'>>;
    target.addEventListener?.('online', onOnline);
    this.closing.signal.addEventListener('abort', () => target.removeEventListener?.('online', onOnline));
    if (interval !== undefined) this.later(Math.max(0, this.checkedAt + interval - systemHost.now()));
  }

  /** The state of the source. */
  get state(): SourceState {
    const { phase, error, note } = this;
    const { interval, maxAge = interval === undefined ? Number.POSITIVE_INFINITY : 3 * interval } = this.options;
    return {
      phase,
      error,
      checkedAt: note === undefined ? null : new Date(note.checkedAt).toISOString(),
      isStale: note === undefined || systemHost.now() - note.checkedAt > maxAge,
    };
  }

  /** Calls when the state has changed. Returns a function that ends that. */
  subscribe(listener: () => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  /**
   * Asks the service now. Rows that are the same stay untouched; all others change in one transaction.
   *
   * @throws what `refresh` threw; KoinonError `source-timeout`, or what is wrong with a row: then nothing of the answer is kept.
   */
  async refresh(): Promise<void> {
    await (this.running ?? this.run());
  }

  /** Ends what is under way. The rows stay. */
  async close(): Promise<void> {
    this.closing.abort();
    this.cancelTimer?.();
    await this.running?.catch(() => undefined);
  }

  private get checkedAt(): number {
    return this.note?.checkedAt ?? Number.NEGATIVE_INFINITY;
  }

  private async readNote(): Promise<void> {
    const text = (await DataApi.executeStep(this.replica, 'sourceNote', [this.table])) as string | undefined;
    this.note = text === undefined ? undefined : (JSON.parse(text) as Note);
  }

  private later(milliseconds: number): void {
    this.cancelTimer?.();
    if (!this.closing.signal.aborted) this.cancelTimer = systemHost.after(milliseconds, () => this.byItself());
  }

  private byItself(): void {
    const { interval, allow } = this.options;
    if (this.closing.signal.aborted || this.running) return;
    if (allow?.() === false) {
      this.set('held-back');
      if (interval !== undefined) this.later(interval);
    } else this.run().catch(() => undefined);
  }

  private run(): Promise<void> {
    this.cancelTimer?.();
    this.running = this.ask().finally(() => {
      this.running = undefined;
    });
    return this.running;
  }

  private async ask(): Promise<void> {
    const { interval, timeout = usualTimeout } = this.options;
    this.set('refreshing');
    try {
      // Another tab may have asked since.
      await this.readNote();
      const answer = await this.answer(timeout);
      await this.take(answer);
      this.failures = 0;
      this.error = null;
      this.set('idle');
      if (interval !== undefined) this.later(interval);
    } catch (error) {
      this.error = error as Error;
      this.set('waiting');
      const wait = Math.min(longestRetry, firstRetry * 2 ** this.failures++);
      if (interval !== undefined) this.later(Math.round(wait * (0.5 + systemHost.random() / 2)));
      throw error;
    }
  }

  /** The service's answer, or a failure when there is none in time: a function of the app need not heed the signal. */
  private async answer(timeout: number): Promise<SourceAnswer<NewRow<S, T>>> {
    const cut = new AbortController();
    const { etag, lastModified } = this.note ?? {};
    return new Promise((done, failed) => {
      const tooLate = () =>
        failed(
          new KoinonError('source-timeout', `The source of ${this.table} did not answer within ${timeout} ms.`, {
            table: this.table,
          }),
        );
      const stop = systemHost.after(timeout, () => {
        tooLate();
        cut.abort();
      });
      const close = () => {
        failed(new KoinonError('cancelled', 'The source was closed.'));
        cut.abort();
      };
      this.closing.signal.addEventListener('abort', close, { once: true });
      Promise.resolve(this.options.refresh({ etag, lastModified, signal: cut.signal }))
        .then(done, failed)
        .finally(() => {
          stop();
          this.closing.signal.removeEventListener('abort', close);
        });
    });
  }

  /** Makes the table what the answer says, in one transaction. */
  private async take(answer: SourceAnswer<NewRow<S, T>>): Promise<void> {
    const { table } = this;
    const isSame = answer === 'unchanged';
    const checkedAt = systemHost.now();
    const note: Note = isSame
      ? { ...this.note, checkedAt }
      : { etag: answer.etag, lastModified: answer.lastModified, checkedAt };
    await this.replica.transaction(async (transaction) => {
      if (!isSame) {
        // A column that an answer leaves out is empty, where it may be.
        const { entries } = tableOf(this.replica.schema, table);
        const empty = Object.fromEntries(entries.flatMap(([name, { optional }]) => (optional ? [[name, null]] : [])));
        const before = new Map(
          ((await transaction.rows({ from: table })) as unknown as readonly AnyRow[]).map((row) => [row.id, row]),
        );
        for (const row of answer.rows) {
          const { id } = row as { readonly id?: unknown };
          if (typeof id !== 'string')
            throw new KoinonError('value-missing', `A row of the source of ${table} has no id.`, {
              table,
              column: 'id',
            });
          const known = before.get(id);
          before.delete(id);
          const given = row as Readonly<Record<string, unknown>>;
          if (known === undefined) await transaction.insert(table as never, row as never);
          else {
            const patch = Object.entries({ ...empty, ...given }).filter(
              ([name, value]) => name !== 'id' && !sameValue(known[name], value),
            );
            if (patch.length > 0) await transaction.update(table as never, id, Object.fromEntries(patch) as never);
          }
        }
        for (const id of before.keys()) await transaction.delete(table as never, id);
      }
      await DataApi.executeStep(transaction, 'noteSource', [table, JSON.stringify(note)]);
    });
    this.note = note;
  }

  private set(phase: SourceState['phase']): void {
    this.phase = phase;
    for (const listener of [...this.listeners]) listener();
  }
}

/**
 * Fills a table of this device from a service of others: a weather service, a price list. Its rows are queried, joined and followed like all others, and
 * are there without a network; the app sees how old they are.
 *
 * @param table a table whose `home` is `device`; the app itself writes nothing into it.
 * @throws KoinonError `argument-invalid` for another table.
 * @example
 * const source = await openSource(replica, 'forecast', {
 *   interval: 3_600_000,
 *   async refresh({ etag, signal }) {
 *     const answer = await fetch('https://weather.example.org/sites', { signal, headers: etag ? { 'if-none-match': etag } : {} })
 *     if (answer.status === 304) return 'unchanged'
 *     return { rows: await answer.json(), etag: answer.headers.get('etag') ?? undefined }
 *   },
 * })
 */
export async function openSource<S extends Schema, T extends TableName<S>>(
  replica: Replica<S>,
  table: T,
  options: SourceOptions<NewRow<S, T>>,
): Promise<Source<S, T>> {
  if (tableOf(replica.schema, table).home !== 'device')
    throw new KoinonError(
      'argument-invalid',
      `${table} is a table that the server keeps. A source fills a table of the device: table({ … }, { home: 'device' }).`,
      { table },
    );
  const source = new Source(replica, table, options);
  await source.open();
  return source;
}
