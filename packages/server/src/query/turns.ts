import { KoinonError } from '@koinon/core';

/** How many work at once, and how many wait: of all, and of one who asks. */
export interface TurnLimits {
  readonly atOnce: number;
  readonly waiting: number;
  readonly ofOne: number;
}

/** Lets so many of those who ask work at once; the others wait, up to a number. */
export class Turns {
  private readonly limits: TurnLimits;
  private readonly waiting: { readonly go: () => void; readonly refuse: (error: KoinonError) => void }[] = [];
  private readonly asking = new Map<string, number>();
  private running = 0;

  constructor(limits: TurnLimits) {
    this.limits = limits;
  }

  /**
   * Does work when its turn comes.
   *
   * @param who asks: nobody takes all turns.
   * @throws KoinonError `too-many-requests` where too many wait already, of him or of all.
   */
  async take<T>(who: string, work: () => Promise<T>): Promise<T> {
    const { atOnce, ofOne } = this.limits;
    const asking = this.asking.get(who) ?? 0;
    if (asking >= ofOne) throw busy();
    this.asking.set(who, asking + 1);
    try {
      if (this.running >= atOnce) await this.turn();
      else this.running++;
      return await work().finally(() => this.next());
    } finally {
      const left = (this.asking.get(who) ?? 1) - 1;
      if (left === 0) this.asking.delete(who);
      else this.asking.set(who, left);
    }
  }

  /** Refuses those who wait: the server stops. */
  close(): void {
    for (const { refuse } of this.waiting.splice(0))
      refuse(new KoinonError('too-many-requests', 'The server stops; ask again a little later.'));
  }

  private next(): void {
    const next = this.waiting.shift();
    // The turn goes on to the next one, who counts from then on.
    if (next) next.go();
    else this.running--;
  }

  private turn(): Promise<void> {
    if (this.waiting.length >= this.limits.waiting) throw busy();
    return new Promise((go, refuse) => this.waiting.push({ go, refuse }));
  }
}

const busy = () =>
  new KoinonError('too-many-requests', 'Many queries wait for the server already; ask again a little later.');
