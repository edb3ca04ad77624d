import type { JsonValue } from '@koinon/core';
import { messageOf } from '@koinon/core/internal';
import type { DueEffect, Store } from '../store/store.ts';
import type { Effects } from './effects.ts';

/** How effects are carried out. */
export interface EffectOptions {
  /** Milliseconds one effect may take. Default 30,000. */
  readonly effectTimeLimit?: number;
  /** The clock, in milliseconds since 1970. */
  readonly now?: () => number;
}

/** Effects that are carried out at once. */
const atOnce = 10;

/** Milliseconds between two looks for effects that are due, and between two tries of one: twice as long each time. */
const lookEvery = 5_000;
const delays = { min: 1_000, max: 3_600_000 };

/**
 * Carries out what actions have asked for, at least once each: whatever was committed and is not done. A process takes an effect for as long
 * as it may take; one that a killed process had taken is due again then. An effect whose function is not there waits for a server that has it.
 */
export class EffectJob {
  private readonly store: Store;
  private readonly effects: Effects;
  private readonly timeLimit: number;
  private readonly now: () => number;
  private readonly report: (error: unknown, effect: DueEffect) => void;
  private readonly stopping = new AbortController();
  private timer: NodeJS.Timeout | undefined;
  private running: Promise<void> | undefined;
  private isAskedAgain = false;

  /** @param report is told of each try that failed. */
  constructor(
    store: Store,
    effects: Effects,
    { effectTimeLimit = 30_000, now = Date.now }: EffectOptions = {},
    report: (error: unknown, effect: DueEffect) => void = () => undefined,
  ) {
    this.store = store;
    this.effects = effects;
    this.timeLimit = effectTimeLimit;
    this.now = now;
    this.report = report;
  }

  /** Looks from now on, until it is stopped. */
  start(): void {
    if (Object.keys(this.effects).length === 0) return;
    this.wake();
    this.timer = setInterval(() => this.wake(), lookEvery).unref();
  }

  /** An effect may have been added. */
  wake(): void {
    if (this.stopping.signal.aborted || Object.keys(this.effects).length === 0) return;
    if (this.running !== undefined) {
      this.isAskedAgain = true;
      return;
    }
    this.running = this.run()
      // A database that cannot be reached is asked again with the next look.
      .catch(() => undefined)
      .finally(() => {
        this.running = undefined;
        if (!this.isAskedAgain) return;
        this.isAskedAgain = false;
        this.wake();
      });
  }

  /** Carries out what is due; returns when nothing is left that is due now. */
  async run(): Promise<void> {
    const names = Object.keys(this.effects);
    while (!this.stopping.signal.aborted) {
      const now = this.now();
      const due = await this.store.write((writer) =>
        writer.takeEffects(names, { most: atOnce, now, until: now + 2 * this.timeLimit }),
      );
      if (due.length === 0) return;
      await Promise.all(due.map((effect) => this.carryOut(effect)));
    }
  }

  private async carryOut(effect: DueEffect): Promise<void> {
    const { id, name, key, payload, attempt } = effect;
    const over = new AbortController();
    const signal = AbortSignal.any([over.signal, this.stopping.signal]);
    let timer: NodeJS.Timeout | undefined;
    try {
      // The server may have stopped while it was taken.
      signal.throwIfAborted();
      const limit = new Promise<never>((_, reject) => {
        const late = () => reject(new Error(`took longer than ${this.timeLimit} ms`));
        timer = setTimeout(late, this.timeLimit);
        signal.addEventListener('abort', () => reject(new Error('the server stopped')));
      });
      // One that fails at once does not wait for it.
      limit.catch(() => undefined);
      await Promise.race([this.effects[name]?.(JSON.parse(payload) as JsonValue, { key, attempt, signal }), limit]);
      await this.store.write((writer) => writer.endEffect(id, 'done'));
    } catch (error) {
      if (!this.stopping.signal.aborted) this.report(error, effect);
      const delay = Math.min(delays.min * 2 ** (attempt - 1), delays.max);
      const failed = { error: messageOf(error).slice(0, 500), dueAt: this.now() + delay };
      await this.store.write((writer) => writer.endEffect(id, failed)).catch(() => undefined);
    } finally {
      clearTimeout(timer);
      over.abort();
    }
  }

  /** Stops: what is under way is given up, and carried out again later. */
  async stop(): Promise<void> {
    clearInterval(this.timer);
    this.stopping.abort();
    await this.running;
  }
}
