import type { Host } from '@koinon/client';

let runs = 0;

/** Time that passes only when the simulation says so. */
export class Clock {
  now: number;
  private timers: { readonly at: number; readonly order: number; readonly callback: () => void }[] = [];
  private order = 0;
  /** The processes of this simulation, by their names. */
  readonly processes = new Map<string, { readonly isDead: boolean }>();
  /** How many simulations began before this one. */
  readonly number = runs++;
  /** Calls of the server that are under way: time stands still for them. */
  private busy = 0;

  constructor(now: number) {
    this.now = now;
  }

  after(milliseconds: number, callback: () => void): () => void {
    const timer = { at: this.now + Math.max(0, milliseconds), order: this.order++, callback };
    this.timers.push(timer);
    return () => {
      this.timers = this.timers.filter((each) => each !== timer);
    };
  }

  /** Lets a call of the server take no time. */
  async during<T>(call: Promise<T>): Promise<T> {
    this.busy++;
    try {
      return await call;
    } finally {
      this.busy--;
    }
  }

  /** Lets everything go on that waits for nothing but its turn. */
  protected async settled(): Promise<void> {
    for (let n = 0; n < 3 || this.busy > 0; n++) await new Promise<void>((done) => setImmediate(done));
  }

  /** Lets time pass; what the timers begin goes on as far as it can at each of them. */
  async pass(milliseconds: number): Promise<void> {
    const until = this.now + milliseconds;
    await this.settled();
    for (let next = this.next(); next !== undefined && next.at <= until; next = this.next()) {
      this.run(next);
      await this.settled();
    }
    this.now = Math.max(this.now, until);
  }

  /**
   * Lets time pass until a promise is settled, or nobody waits for it any more: then it is undefined.
   *
   * @throws where that takes more than `most` timers.
   */
  async until<T>(promise: Promise<T>, isAbandoned: () => boolean, most = 3_000): Promise<T | undefined> {
    let isOver = false;
    const end = () => {
      isOver = true;
    };
    promise.then(end, end);
    for (let n = 0; ; n++) {
      await this.settled();
      if (isOver) return promise;
      if (isAbandoned()) {
        promise.catch(() => undefined);
        return undefined;
      }
      const next = this.next();
      if (n > most) throw new Error('nothing comes to an end: something waits for ever');
      if (next !== undefined) this.run(next);
      // Something outside the simulation, a module that is loaded say.
      else await new Promise((done) => setTimeout(done, 1));
    }
  }

  private next() {
    let first = this.timers[0];
    for (const timer of this.timers)
      if (first && (timer.at < first.at || (timer.at === first.at && timer.order < first.order))) first = timer;
    return first;
  }

  private run(timer: { readonly at: number; readonly callback: () => void }): void {
    this.timers = this.timers.filter((each) => each !== timer);
    this.now = Math.max(this.now, timer.at);
    timer.callback();
  }
}

let processes = 0;

/** One run of an app on a device: killed, nothing of it happens any more. */
export class SimulatedProcess implements Host {
  readonly process = `simulated ${++processes}`;
  isDead = false;
  isConnected = true;
  private readonly clock: Clock;
  private readonly draw: () => number;
  private readonly listeners = new Set<() => void>();
  private readonly name: string;
  private ids = 0;
  /** Milliseconds by which the device's clock is wrong. */
  readonly skew: number;

  constructor(clock: Clock, draw: () => number, name: string, skew: number) {
    this.clock = clock;
    this.draw = draw;
    this.name = name;
    this.skew = skew;
    clock.processes.set(this.process, this);
  }

  now = () => this.clock.now + this.skew;
  random = () => this.draw();
  isOnline = () => this.isConnected;
  isVisible = () => true;
  storage = async () => ({ usage: null, quota: null, isPersistent: null });
  isAlive = (name: string) => this.clock.processes.get(name)?.isDead === false;

  /** A UUID. The server may have met those of an earlier run of the same history: they differ. */
  newId = () => {
    const part = (n: number, length: number) => n.toString(16).padStart(length, '0').slice(-length);
    const random = () => Math.floor(this.draw() * 0x1_0000);
    return `${part(this.clock.number, 8)}-${part(random(), 4)}-7${part(this.ids++, 3)}-8${part(random(), 3)}-${part(random(), 4)}${part(random(), 4)}${part(random(), 4)}`;
  };

  after(milliseconds: number, callback: () => void): () => void {
    return this.clock.after(milliseconds, () => {
      if (!this.isDead) callback();
    });
  }

  onChange(listener: () => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  connect(isConnected: boolean): void {
    this.isConnected = isConnected;
    for (const listener of [...this.listeners]) listener();
  }

  /** The name of this device, for messages. */
  toString(): string {
    return this.name;
  }
}
