/** Gives turns one after the other: work that awaits in the middle is never interleaved with other work. */
export class Mutex {
  private busy = false;
  private draining = false;
  private readonly waiting: { readonly begin: () => void; readonly refuse: (error: unknown) => void }[] = [];

  /** Runs the work when all work given before has ended; at once, if there is none. */
  runExclusive<T>(work: () => T | Promise<T>): Promise<T> {
    if (!this.busy) return this.run(work);
    return new Promise<T>((resolve, refuse) => {
      this.waiting.push({ begin: () => resolve(this.run(work)), refuse });
    });
  }

  /** Refuses all that waits for its turn. */
  refuse(error: unknown): void {
    for (const { refuse } of this.waiting.splice(0)) refuse(error);
  }

  private run<T>(work: () => T | Promise<T>): Promise<T> {
    // Busy from here on: what the work itself calls must wait for its end, and so must what it awaits.
    this.busy = true;
    let result: T | Promise<T>;
    try {
      result = work();
    } catch (error) {
      this.end();
      return Promise.reject(error);
    }
    if (result instanceof Promise) return result.finally(() => this.end());
    this.end();
    return Promise.resolve(result);
  }

  private end(): void {
    this.busy = false;
    if (this.draining) return;
    this.draining = true;
    while (!this.busy && this.waiting.length > 0) this.waiting.shift()?.begin();
    this.draining = false;
  }
}
