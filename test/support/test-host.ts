import { type Host, systemHost } from '@koinon/client';

/** A shell whose time, network and visibility the test decides. */
export class TestHost implements Host {
  readonly newId = systemHost.newId;
  readonly storage = systemHost.storage;
  readonly process = systemHost.process;
  readonly isAlive = (process: string) => process === this.process;
  /** The next random numbers. */
  chance = 0.5;
  private time = Date.UTC(2026, 5, 1);
  private online = true;
  private visible = true;
  private timers: { readonly at: number; readonly callback: () => void }[] = [];
  private readonly listeners = new Set<() => void>();

  now = () => this.time;
  random = () => this.chance;
  isOnline = () => this.online;
  isVisible = () => this.visible;

  after(milliseconds: number, callback: () => void): () => void {
    const timer = { at: this.time + milliseconds, callback };
    this.timers.push(timer);
    return () => {
      this.timers = this.timers.filter((each) => each !== timer);
    };
  }

  onChange(listener: () => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  set(change: { readonly online?: boolean; readonly visible?: boolean }): void {
    this.online = change.online ?? this.online;
    this.visible = change.visible ?? this.visible;
    for (const listener of this.listeners) listener();
  }

  /** Lets time pass: timers call back in their order. */
  async pass(milliseconds: number): Promise<void> {
    const until = this.time + milliseconds;
    for (;;) {
      const [next] = [...this.timers].sort((a, b) => a.at - b.at);
      if (next === undefined || next.at > until) break;
      this.timers = this.timers.filter((each) => each !== next);
      this.time = Math.max(this.time, next.at);
      next.callback();
      // The callback's own work goes on in promises, not in time.
      await new Promise((done) => setTimeout(done, 0));
    }
    this.time = until;
  }
}
