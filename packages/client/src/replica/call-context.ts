import { AsyncLocalStorage } from 'node:async_hooks';

/** Which transaction a call is made in. */
export interface CallContext {
  /** Tells whether the platform can tell. */
  readonly canTell: boolean;
  /** Runs a transaction's function; whatever it calls and awaits is in it. The process stays alive until it has ended. */
  run<T>(transaction: object, work: () => Promise<T>): Promise<T>;
  /** The transaction that this call is made in. */
  current(): object | undefined;
}

const storage = new AsyncLocalStorage<object>();

/** Node follows what a function calls, also after it has awaited something. */
export const callContext: CallContext = {
  canTell: true,
  async run(transaction, work) {
    // Without it a script that waits for nothing but its transaction would end in the middle, and say nothing.
    const alive = setInterval(() => undefined, 2 ** 30);
    try {
      return await storage.run(transaction, work);
    } finally {
      clearInterval(alive);
    }
  },
  current: () => storage.getStore(),
};
