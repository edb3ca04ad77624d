import { KoinonError } from '@koinon/core';
import type { Store } from '../stores/store.ts';
import type { User } from './authenticate.ts';

/** Replicas known in memory at most; the others are asked for in the database. */
const mostKnown = 100_000;

/** Whose replica is whose: the first user who comes with one keeps it. */
export class Owners {
  private readonly store: Store;
  private readonly known = new Map<string, string>();

  constructor(store: Store) {
    this.store = store;
  }

  /** @throws KoinonError `other-user` where a replica is another one's. */
  async check(replica: string, { id }: User): Promise<void> {
    let owner = this.known.get(replica);
    if (owner === undefined) {
      // Written down before anything is done: two users who come at once with one replica cannot both have it.
      owner = await this.store.write((writer) => writer.claimReplica(replica, id));
      if (this.known.size >= mostKnown) this.known.clear();
      this.known.set(replica, owner);
    }
    if (owner === id) return;
    throw new KoinonError(
      'other-user',
      'This replica is another user’s: nothing was sent or fetched. Sign in as that user, or open a replica of your own.',
    );
  }
}
