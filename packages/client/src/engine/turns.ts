/** Gives turns one after the other: work that awaits in the middle is never interleaved with other work. */
export class Turns {
  private last: Promise<unknown> | undefined;

  /** Runs the work when all work given before has ended; at once, if there is none. */
  async take<T>(work: () => T | Promise<T>): Promise<T> {
    const before = this.last;
    if (before !== undefined) return this.follow(before.then(work));
    const result = work();
    return result instanceof Promise ? this.follow(result) : result;
  }

  private follow<T>(turn: Promise<T>): Promise<T> {
    const ended: Promise<void> = turn.then(
      () => this.end(ended),
      () => this.end(ended),
    );
    this.last = ended;
    return turn;
  }

  private end(ended: Promise<unknown>): void {
    if (this.last === ended) this.last = undefined;
  }
}
