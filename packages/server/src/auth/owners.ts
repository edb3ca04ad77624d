import { KoinonError } from '@koinon/core';
import type { Store } from '../store/store.ts';
import type { User } from './authenticate.ts';

/** Replicas known in memory at most; the others are asked for in the database. */
const mostKnown = 100_000;

/** Whose replica is whose: the first user who comes with one keeps it. */
export class Owners {
  private readonly store: Store;
  private readonly known = new Map<string, string>();

  private readonly perUser: number;

  /** @param perUser replicas that one user may have. */
  constructor(store: Store, perUser: number) {
    this.store = store;
    this.perUser = perUser;
  }

  /** @throws KoinonError `other-user` where a replica is another one's, `too-many-replicas` where it is one too many. */
  async check(replica: string, { id }: User): Promise<void> {
    let owner: string | undefined = this.known.get(replica);
    if (owner === undefined) {
      // Written down before anything is done: two users who come at once with one replica cannot both have it.
      owner = await this.store.write((writer) => writer.claimReplica(replica, id, this.perUser));
      if (owner === undefined)
        throw new KoinonError(
          'too-many-replicas',
          `This user has ${this.perUser} replicas already. Use one of them, or ask the operator of the server to remove those that are gone.`,
        );
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
