import type { CallContext } from './call-context.ts';

/** A browser does not tell what called a function: a call in the middle of a transaction is found out when that comes to nothing. */
export const callContext: CallContext = {
  canTell: false,
  run: (_transaction, work) => work(),
  current: () => undefined,
};
