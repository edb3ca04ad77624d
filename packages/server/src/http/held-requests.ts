import { KoinonError } from '@koinon/core';

/** The long requests that are held open: those that wait, and feeds that are followed. */
export class HeldRequests {
  private readonly releases = new Set<() => void>();
  private readonly most: number;

  /** @param most at once. */
  constructor(most: number) {
    this.most = most;
  }

  /** @throws KoinonError `too-many-requests` where no more are held. */
  refuseFull(): void {
    if (this.releases.size >= this.most)
      throw new KoinonError('too-many-requests', `${this.most} requests are held open already; pull instead.`);
  }

  /** Holds a request until it is over. @param release ends it, as where the server stops. */
  add(release: () => void): void {
    this.releases.add(release);
  }

  delete(release: () => void): void {
    this.releases.delete(release);
  }

  /** Ends all of them. */
  releaseAll(): void {
    for (const release of [...this.releases]) release();
  }
}
