import type { LockOptions, Locks } from './host.ts';

interface Holder {
  readonly onLost: (() => void) | undefined;
}

/** Locks among everything in this process, for shells that have none of their own. */
export function processLocks(): Locks {
  const holders = new Map<string, Holder>();
  const waiting = new Map<string, (() => void)[]>();
  return {
    take(name, { steal = false, signal, onLost }: LockOptions = {}) {
      return new Promise((done, fail) => {
        const hold = () => {
          const holder: Holder = { onLost };
          holders.set(name, holder);
          done(() => {
            if (holders.get(name) !== holder) return;
            holders.delete(name);
            waiting.get(name)?.shift()?.();
          });
        };
        const held = holders.get(name);
        if (signal?.aborted) return fail(signal.reason);
        if (held === undefined) return hold();
        if (steal) {
          held.onLost?.();
          return hold();
        }
        const queue = waiting.get(name) ?? [];
        waiting.set(name, queue);
        queue.push(hold);
        signal?.addEventListener('abort', () => {
          const at = queue.indexOf(hold);
          if (at < 0) return;
          queue.splice(at, 1);
          fail(signal.reason);
        });
      });
    },
  };
}
