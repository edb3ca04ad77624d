import type { KoinonError } from '@koinon/core';
import type { Origin } from './commit.ts';

/** A result as a subscriber of a live query gets it, at once and then whenever it changes. */
export interface Result<R> {
  /** The whole result, in order. A new array each time; rows that did not change are the same objects. */
  readonly rows: readonly R[];
  readonly added: readonly R[];
  readonly updated: readonly R[];
  readonly removed: readonly R[];
  /** The source of the change; `start` for the first result and after something else wrote the file. */
  readonly origin: Origin | 'start';
  /** False until the first result is there: then `rows` is empty because it is not known yet. */
  readonly ready: boolean;
  /** Why the rows may be old: the server that answers the query could not be asked. It is asked again by itself. */
  readonly error?: KoinonError;
}

/** The side of a live query that is told its results, its failure, and its end. */
export interface Follower<R> {
  readonly deliver: (result: Result<R>) => void;
  readonly fail: (error: unknown) => void;
  /** The replica was closed: nothing more will come. */
  readonly end: () => void;
}

/** Begins to deliver results; the function it returns ends that. */
export type Source<R> = (follower: Follower<R>) => () => void;

/** An observer as standard Observables take it. */
export interface Observer<R> {
  /** Called with each result. */
  next?(result: Result<R>): void;
  /** Called when the query cannot be run, or the database fails. */
  error?(error: unknown): void;
  /** Called when the replica was closed. */
  complete?(): void;
}

/** The name of the conversion, as the Observable proposal has it and as libraries write it without that. */
const observableKey: unique symbol = ((Symbol as { observable?: symbol }).observable ?? '@@observable') as never;

/** A subscription, as standard Observables give it. */
export interface Subscription {
  /** Ends it. */
  unsubscribe(): void;
}

/** A live query as a standard Observable. */
export interface ObservableResult<R> {
  /** Begins to deliver results to an observer, or to a function. */
  subscribe(observer: Observer<R> | ((result: Result<R>) => void)): Subscription;
  /** Itself: libraries ask each Observable for itself by this name. */
  [observableKey](): ObservableResult<R>;
}

const notReady: Result<never> = { rows: [], added: [], updated: [], removed: [], origin: 'start', ready: false };

/**
 * A query whose subscribers get each new result. Nothing runs until somebody subscribes, and nothing is kept after the
 * last one left.
 *
 * @example
 * const stop = replica.live({ from: 'hive', where: { site } }).subscribe(({ rows }) => draw(rows))
 */
export class LiveQuery<R> implements AsyncIterable<Result<R>> {
  private readonly source: Source<R>;
  private readonly subscribers = new Set<Follower<R>>();
  private last: Result<R> = notReady;
  private stop: (() => void) | undefined;

  constructor(source: Source<R>) {
    this.source = source;
  }

  /** The result as it was last delivered; not ready before that, or without subscribers. */
  get current(): Result<R> {
    return this.last;
  }

  /**
   * Calls at once with what is known, then with each new result. A query that cannot be run, or a database that fails,
   * reaches `fail`; without one it is thrown where nobody catches it, so that it is seen. `end` is called when the replica
   * was closed.
   *
   * @returns a function that ends the subscription.
   */
  subscribe(
    next: (result: Result<R>) => void,
    fail: (error: unknown) => void = throwLater,
    end: () => void = () => undefined,
  ): () => void {
    const subscriber: Follower<R> = { deliver: next, fail, end };
    const begun = this.last;
    this.subscribers.add(subscriber);
    this.stop ??= this.source({
      deliver: (result) => {
        this.last = result;
        for (const each of [...this.subscribers]) if (this.subscribers.has(each)) call(each.deliver, result);
      },
      fail: (error) => {
        for (const each of [...this.subscribers]) each.fail(error);
      },
      end: () => {
        const ended = [...this.subscribers];
        this.forget();
        for (const each of ended) call(each.end);
      },
    });
    // The result came at once, and has been told already.
    if (this.last === begun) call(next, { ...begun, added: begun.rows, updated: [], removed: [], origin: 'start' });
    return () => {
      if (!this.subscribers.delete(subscriber) || this.subscribers.size > 0) return;
      this.stop?.();
      this.forget();
    };
  }

  private forget(): void {
    this.subscribers.clear();
    this.stop = undefined;
    this.last = notReady;
  }

  /**
   * Results one after the other, from the first that is ready, until the replica is closed. A slow reader gets the latest,
   * not every one between.
   */
  async *[Symbol.asyncIterator](): AsyncGenerator<Result<R>> {
    let latest: Result<R> | undefined;
    let failure: { readonly error: unknown } | undefined;
    let isOver = false;
    let wake = () => {};
    const stop = this.subscribe(
      (result) => {
        if (!result.ready) return;
        latest = latest === undefined ? result : joined(latest, result);
        wake();
      },
      (error) => {
        failure = { error };
        wake();
      },
      () => {
        isOver = true;
        wake();
      },
    );
    try {
      for (;;) {
        if (failure) throw failure.error;
        if (latest === undefined) {
          if (isOver) return;
          await new Promise<void>((done) => {
            wake = done;
          });
          continue;
        }
        const result = latest;
        latest = undefined;
        yield result;
      }
    } finally {
      stop();
    }
  }

  /** The mark by which libraries of Observables take this for one: `from(replica.live(…))` works. */
  [observableKey](): ObservableResult<R> {
    return this.asObservable();
  }

  /** As a standard Observable: `subscribe(observer)` returns an object with `unsubscribe()`. */
  asObservable(): ObservableResult<R> {
    return {
      [observableKey]() {
        return this;
      },
      subscribe: (observer) => {
        const { next, error, complete }: Observer<R> = typeof observer === 'function' ? { next: observer } : observer;
        const stop = this.subscribe(
          (result) => next?.call(observer, result),
          error && ((failure) => error.call(observer, failure)),
          complete && (() => complete.call(observer)),
        );
        return { unsubscribe: stop };
      },
    };
  }
}

/** Two results as one, for a reader that slept through the first. */
function joined<R>(first: Result<R>, second: Result<R>): Result<R> {
  const idOf = (row: R) => (row as { id?: unknown }).id;
  const here = new Set(second.rows);
  const removedIds = new Set([...first.removed, ...second.removed].map(idOf));
  const addedIds = new Set([...first.added, ...second.added].map(idOf));
  const changed = [...first.added, ...first.updated, ...second.added, ...second.updated].filter((row) => here.has(row));
  return {
    ...second,
    added: changed.filter((row) => addedIds.has(idOf(row)) && !removedIds.has(idOf(row))),
    updated: changed.filter((row) => !addedIds.has(idOf(row)) || removedIds.has(idOf(row))),
    removed: [...first.removed, ...second.removed].filter((row) => !addedIds.has(idOf(row))),
  };
}

function call<Given extends readonly unknown[]>(subscriber: (...given: Given) => void, ...given: Given): void {
  try {
    subscriber(...given);
  } catch (error) {
    // One subscriber's mistake must not keep the others from being told.
    throwLater(error);
  }
}

/** Throws where nobody catches: the runtime reports it as it does any uncaught error. */
export function throwLater(error: unknown): void {
  queueMicrotask(() => {
    throw error;
  });
}
