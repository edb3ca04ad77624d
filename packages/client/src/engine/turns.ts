/** Gives turns one after the other: work that awaits in the middle is never interleaved with other work. */
export class Turns {
  private last: Promise<unknown> = Promise.resolve();

  /** Runs the work when all work given before has ended. */
  take<T>(work: () => T | Promise<T>): Promise<T> {
    const turn = this.last.then(work);
    this.last = turn.catch(() => undefined);
    return turn;
  }
}
