import { KoinonError } from '@koinon/core';

/**
 * Milliseconds that a request waits at most before it is begun. A device gives a request up after ten seconds without an answer, and asks
 * again: whatever were done for it after that would be done for nobody, while those who still wait give up as well.
 */
const devicePatience = 6_000;

/** The part of the average that the last request makes up. */
const weight = 0.05;

/** A request that waits. */
interface Waiting {
  readonly since: number;
  begin(): void;
  refuse(error: KoinonError): void;
}

/**
 * Lets so many requests work at once, and the others wait while there is a chance that they are answered in time. Those for whom
 * there is none are told so at once, which costs next to nothing.
 */
export class WaitingLine {
  private readonly atOnce: number;
  private readonly patience: number;
  private readonly now: () => number;
  private waiting: Waiting[] = [];
  private running = 0;
  /** Milliseconds that a request takes, on the average. */
  private average = 0;

  /** @param patience milliseconds that one waits at most. @param now milliseconds of a clock that goes evenly. */
  constructor(atOnce: number, patience = devicePatience, now: () => number = () => performance.now()) {
    this.atOnce = atOnce;
    this.patience = patience;
    this.now = now;
  }

  /**
   * Does work when its turn comes.
   *
   * @param isGone tells whether nobody waits for the answer any more.
   * @throws KoinonError `too-many-requests` where the wait is too long. Nothing was done then.
   */
  async take<T>(isGone: () => boolean, work: () => Promise<T>): Promise<T> {
    if (this.running >= this.atOnce) {
      if (((this.waiting.length + 1) * this.average) / this.atOnce > this.patience) throw busy();
      await new Promise<void>((begin, refuse) => this.waiting.push({ since: this.now(), begin, refuse }));
      // The turn was given to this one, who has to give it on.
      if (isGone()) {
        this.next();
        throw busy();
      }
    } else this.running++;
    const began = this.now();
    try {
      return await work();
    } finally {
      this.average += weight * (this.now() - began - this.average);
      this.next();
    }
  }

  private next(): void {
    let next = this.waiting.shift();
    for (; next !== undefined && this.now() - next.since > this.patience; next = this.waiting.shift())
      next.refuse(busy());
    if (next !== undefined) next.begin();
    else this.running--;
  }
}

const busy = () =>
  new KoinonError(
    'too-many-requests',
    'More devices ask than the server can answer in time. Nothing of this request was done; send it again a little later.',
  );
