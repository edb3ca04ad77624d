import { vi } from 'vitest';

/** Waits until a check holds. A machine that is busy takes its time: what takes longer than this does not come. */
export function waitFor<T>(
  check: () => T | Promise<T>,
  options: { readonly timeout?: number; readonly interval?: number } = {},
): Promise<T> {
  return vi.waitFor(check, { timeout: 30_000, ...options });
}
