import { timeId } from './time-id.ts';

/** The differences between the places Koinon runs in. A shell of your own brings one of these and a storage driver. */
export interface Host {
  /** The device's clock, in milliseconds since 1970. It may be wrong. */
  now(): number;
  /** A new UUIDv7 (RFC 9562). */
  newId(): string;
  /** A random number from 0 up to 1. */
  random(): number;
  /** Calls back after this many milliseconds; the returned function cancels. */
  after(milliseconds: number, callback: () => void): () => void;
  /** Tells whether there is a network, as far as the shell knows. */
  isOnline(): boolean;
  /** Tells whether a person can see the app. */
  isVisible(): boolean;
  /** Calls whenever one of these two changes. Returns a function that ends that. */
  onChange(listener: () => void): () => void;
  /** The room that the storage allows: how much is used of how many bytes, and whether the shell may clear it when room is short. */
  storage(): Promise<StorageRoom>;
  /** The name of this process among those that may open the same file. */
  readonly process: string;
  /** Tells whether a process of that name still runs. */
  isAlive(process: string): boolean;
  /** Is told each state that the sync and its live connection enter, for those who look for a fault: `console.debug`, say. */
  debug?(message: string): void;
}

/** The host of a shell in which several tabs share one engine. */
export interface TabHost extends Host {
  /** Locks among all tabs that may open the same data. */
  readonly locks: Locks;
}

/** Named locks; whoever holds one loses it only by release, by ending, or to one who steals it. */
export interface Locks {
  /** Waits for a lock; resolves with the function that releases it. @throws an `AbortError` when the signal ends the waiting. */
  take(name: string, options?: LockOptions): Promise<() => void>;
}

/** How a lock is taken. */
export interface LockOptions {
  /** Takes it at once, from whoever holds it. */
  readonly steal?: boolean;
  readonly signal?: AbortSignal;
  /** Called when somebody stole it. */
  readonly onLost?: () => void;
}

/** The room that a storage has, in bytes; null where it cannot tell. */
export interface StorageRoom {
  readonly usage: number | null;
  readonly quota: number | null;
  /** False where the shell may clear the data by itself when room is short. */
  readonly isPersistent: boolean | null;
}

type NodeProcess = { readonly pid: number; kill(pid: number, signal: 0): void };
const node = (globalThis as { process?: NodeProcess }).process;

/** This process by its number and its beginning: in a container the number is the same after each restart. */
const nodeProcess = node && `process ${node.pid} since ${new Date(performance.timeOrigin).toISOString()}`;

/** The host every JavaScript runtime can be: its own clock, randomness and timers. */
export const systemHost: Host = {
  now: () => Date.now(),
  newId: () => timeId(Date.now()),
  random: () => Math.random(),
  after(milliseconds, callback) {
    const timer: unknown = setTimeout(callback, milliseconds);
    // A pending timer alone must not keep a Node process alive.
    (timer as { unref?: () => void }).unref?.();
    return () => clearTimeout(timer as Parameters<typeof clearTimeout>[0]);
  },
  isOnline: () => true,
  isVisible: () => true,
  onChange: () => () => undefined,
  storage: async () => ({ usage: null, quota: null, isPersistent: null }),
  process: node?.pid === undefined || nodeProcess === undefined ? `page ${timeId(Date.now())}` : nodeProcess,
  isAlive(name) {
    const pid = /^process (\d+) since /.exec(name)?.[1];
    if (pid === undefined || node?.pid === undefined || Number(pid) === node.pid) return name === this.process;
    try {
      node.kill(Number(pid), 0);
      return true;
    } catch (error) {
      // Not ours to signal, but there.
      return (error as { code?: string }).code === 'EPERM';
    }
  },
};
