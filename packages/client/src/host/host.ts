import { timeId } from './time-id.ts';

/** What differs between the places Koinon runs in. A shell of your own brings one of these and a storage driver. */
export interface Host {
  /** The device's clock, in milliseconds since 1970. It may be wrong. */
  now(): number;
  /** A new UUIDv7 (RFC 9562). */
  newId(): string;
  /** Calls back after this many milliseconds; the returned function cancels. */
  after(milliseconds: number, callback: () => void): () => void;
}

/** The host every JavaScript runtime can be: its own clock, randomness and timers. */
export const systemHost: Host = {
  now: () => Date.now(),
  newId: () => timeId(Date.now()),
  after(milliseconds, callback) {
    const timer: unknown = setTimeout(callback, milliseconds);
    // A pending timer alone must not keep a Node process alive.
    (timer as { unref?: () => void }).unref?.();
    return () => clearTimeout(timer as Parameters<typeof clearTimeout>[0]);
  },
};
