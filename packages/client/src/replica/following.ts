import { sameValue } from '@koinon/core';
import type { Engine } from '../engine/steps.ts';
import { Commit, type Origin } from '../live/commit.ts';
import { type Watcher, Watchers } from '../live/watchers.ts';
import { noKeys } from '../rows/known-keys.ts';
import { OtherWrites } from './other-writes.ts';

/** The queries, lists and listeners that are followed: by the writes of this replica, and those of other processes. */
export class Following {
  private readonly engine: Omit<Engine, 'commit'>;
  private readonly watchers = new Watchers();
  private readonly otherWrites: OtherWrites;
  /** Begins anew for each of them in which a row that has another id now may be named. */
  private readonly renewals = new Set<() => void>();

  /** @param exclusive runs work when no transaction of the app is open. */
  constructor(engine: Omit<Engine, 'commit'>, exclusive: (work: () => void) => Promise<void>) {
    this.engine = engine;
    this.otherWrites = new OtherWrites(engine, exclusive, () => {
      this.renew();
      this.watchers.refresh();
    });
  }

  /** Begins to collect what one transaction does. */
  commit(): Commit {
    return new Commit(this.watchers.watches);
  }

  /** Tells of what one transaction has done. */
  publish(commit: Commit, origin: Origin): void {
    this.watchers.publish(commit.changes(), origin);
  }

  /** Rows may have been given other ids: what names them is followed under those. */
  renew(): void {
    for (const again of [...this.renewals]) again();
  }

  /**
   * Follows what is asked for, with the ids that its rows have, until the function is called that it returns.
   *
   * @param current what is asked for with the ids of now.
   * @param begin begins to follow it; returns what ends that.
   */
  follow(
    request: unknown,
    current: (request: unknown) => unknown,
    begin: (request: unknown) => () => void,
  ): () => void {
    let asked = current(request);
    let stop = begin(asked);
    const again = () => {
      const next = current(request);
      if (sameValue(next, asked)) return;
      asked = next;
      stop();
      stop = begin(asked);
    };
    if (this.engine.keys !== noKeys) this.renewals.add(again);
    return () => {
      this.renewals.delete(again);
      stop();
    };
  }

  /** Tells a watcher of what is written from now on. */
  watch(watcher: Watcher): () => void {
    if (this.watchers.isEmpty) this.otherWrites.start();
    this.watchers.add(watcher);
    return () => {
      this.watchers.remove(watcher);
      if (this.watchers.isEmpty) this.otherWrites.stop();
    };
  }

  /** Ends: the file is closed. */
  end(): void {
    this.otherWrites.stop();
  }
}
