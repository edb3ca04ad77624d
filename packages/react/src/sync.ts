import type { LiveQuery, Replica, SyncState } from '@koinon/client';
import type { Schema } from '@koinon/core';
import { useLive } from './live.ts';

const states = new WeakMap<object, LiveQuery<SyncState & { readonly id: string }>>();

/**
 * The state of the sync, kept up; undefined until it is known.
 *
 * @example
 * const sync = useSyncState(replica)
 * <p>{sync?.phase === 'offline' ? 'No signal' : `${sync?.pending ?? 0} unsent`}</p>
 */
export function useSyncState<S extends Schema>(replica: Replica<S>): SyncState | undefined {
  let live = states.get(replica);
  if (live === undefined) {
    live = replica.syncState();
    states.set(replica, live);
  }
  return useLive(live).rows[0];
}
