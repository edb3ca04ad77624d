import type { Store } from './store.ts';
import type { TrackingFault } from './tracking.ts';

/** Milliseconds from one look to the next at the least, and how many times as long as the last look took. */
const lookEvery = 1_000;
const restAfter = 20;

/** Keeps the copies of views up to them: no trigger can follow a view, so it is read and compared when the database has changed. */
export class ViewJob {
  private readonly store: Store;
  private readonly report: (fault: TrackingFault) => void;
  private timer: NodeJS.Timeout | undefined;
  private looking: Promise<void> = Promise.resolve();
  private isStopped = false;
  private reported = new Set<string>();

  /** @param report told of views with rows that no device can be given. */
  constructor(store: Store, report: (fault: TrackingFault) => void) {
    this.store = store;
    this.report = report;
  }

  /** Looks from now on, until it is stopped. */
  start(): void {
    if (this.store.hasViews) this.lookAfter(0);
  }

  /** Stops; a look that is under way ends first. */
  async stop(): Promise<void> {
    this.isStopped = true;
    clearTimeout(this.timer);
    await this.looking;
  }

  private lookAfter(rest: number): void {
    this.timer = setTimeout(() => {
      const began = performance.now();
      this.looking = this.look()
        // A database that cannot be reached for a moment is looked at again; whoever asks it for something says so.
        .catch(() => undefined)
        .then(() => {
          if (!this.isStopped) this.lookAfter(Math.max(lookEvery, restAfter * (performance.now() - began)));
        });
    }, rest).unref();
  }

  private async look(): Promise<void> {
    const faults = await this.store.followViews();
    if (faults === undefined) return;
    for (const fault of faults) if (!this.reported.has(fault.message)) this.report(fault);
    this.reported = new Set(faults.map(({ message }) => message));
  }
}
