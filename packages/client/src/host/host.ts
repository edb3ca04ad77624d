import { timeId } from './time-id.ts';

/** What differs between the places Koinon runs in. A shell of your own brings one of these and a storage driver. */
export interface Host {
  /** The device's clock, in milliseconds since 1970. It may be wrong. */
  now(): number;
  /** A new UUIDv7 (RFC 9562). */
  newId(): string;
  /** Calls back after this many milliseconds; the returned function cancels. */
  after(milliseconds: number, callback: () => void): () => void;
  /** What this process is called among those that may open the same file. */
  readonly process: string;
  /** Whether a process of that name still runs. */
  isAlive(process: string): boolean;
}

type NodeProcess = { readonly pid: number; kill(pid: number, signal: 0): void };
const node = (globalThis as { process?: NodeProcess }).process;

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
  process: node?.pid === undefined ? `page ${timeId(Date.now())}` : `process ${node.pid}`,
  isAlive(name) {
    const pid = /^process (\d+)$/.exec(name)?.[1];
    if (pid === undefined || node?.pid === undefined) return name === this.process;
    try {
      node.kill(Number(pid), 0);
      return true;
    } catch (error) {
      // Not ours to signal, but there.
      return (error as { code?: string }).code === 'EPERM';
    }
  },
};
