import { KoinonError } from '@koinon/core';

/** Lets so many of those who ask work at once; others wait, up to a number. */
export class Turns {
  private readonly most: number;
  private readonly mostWaiting: number;
  private readonly waiting: (() => void)[] = [];
  private running = 0;

  constructor(most: number, mostWaiting: number) {
    this.most = most;
    this.mostWaiting = mostWaiting;
  }

  /** @throws KoinonError `too-many-requests` where too many wait already. */
  async take<T>(work: () => Promise<T>): Promise<T> {
    if (this.running >= this.most) await this.turn();
    else this.running++;
    try {
      return await work();
    } finally {
      const next = this.waiting.shift();
      // The turn goes on to the next one, who counts from then on.
      if (next) next();
      else this.running--;
    }
  }

  private turn(): Promise<void> {
    if (this.waiting.length >= this.mostWaiting)
      throw new KoinonError('too-many-requests', 'Many queries wait for the server already; ask again a little later.');
    return new Promise((next) => this.waiting.push(next));
  }
}
