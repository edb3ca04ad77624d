import { KoinonError } from '@koinon/core';
import { systemHost } from '../host/host.ts';

/** Milliseconds until something that failed is tried again: the first time, and at most. */
export const [firstRetry, longestRetry] = [1_000, 60_000];

/** The contents whose way has failed, and when each is tried again: after twice as long each time. */
export class Retries {
  private readonly failures = new Map<string, { readonly code: string; readonly tries: number; readonly at: number }>();

  /** It has failed once more. */
  failed(id: string, error: unknown): void {
    const code = error instanceof KoinonError ? error.code : 'internal-failure';
    const tries = (this.failures.get(id)?.tries ?? 0) + 1;
    const wait = Math.min(firstRetry * 2 ** (tries - 1), longestRetry);
    this.failures.set(id, { code, tries, at: systemHost.now() + wait });
  }

  /** It has gone well, or nobody wants it any more. */
  over(id: string): void {
    this.failures.delete(id);
  }

  /** All are tried at once. */
  clear(): void {
    this.failures.clear();
  }

  /** The code of the last error. */
  codeOf(id: string): string | undefined {
    return this.failures.get(id)?.code;
  }

  /** Tells whether it has to wait. */
  waits(id: string): boolean {
    return (this.failures.get(id)?.at ?? 0) > systemHost.now();
  }

  /** Milliseconds until the first of them is tried again; undefined where none waits. */
  next(): number | undefined {
    if (this.failures.size === 0) return undefined;
    return Math.min(...[...this.failures.values()].map(({ at }) => at)) - systemHost.now();
  }
}
