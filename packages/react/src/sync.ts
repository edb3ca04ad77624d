import type {
  ConflictOf,
  Holding,
  InvocationOf,
  LiveQuery,
  QueuedTransaction,
  Rejection,
  Replica,
  SyncState,
} from '@koinon/client';
import type { Schema, TableName } from '@koinon/core';
import { type Shown, useLive } from './live.ts';

/** The live lists of each replica, by kind: every component shows the same. */
const lists = new WeakMap<object, Map<string, unknown>>();

function listOf<R>(replica: object, kind: string, make: () => LiveQuery<R>): LiveQuery<R> {
  const known = lists.get(replica) ?? new Map<string, unknown>();
  lists.set(replica, known);
  const live = (known.get(kind) as LiveQuery<R> | undefined) ?? make();
  known.set(kind, live);
  return live;
}

/**
 * The state of the sync, kept up; undefined until it is known.
 *
 * @example
 * const sync = useSyncState(replica)
 * <p>{sync?.phase === 'offline' ? 'No signal' : `${sync?.pending ?? 0} unsent`}</p>
 */
export function useSyncState<S extends Schema>(replica: Replica<S>): SyncState | undefined {
  return useLive(listOf(replica, 'state', () => replica.syncState())).rows[0];
}

/**
 * The conflicts, kept up.
 *
 * @example
 * const { rows } = useConflicts(replica)
 * <p>{rows.length} to decide</p>
 */
export function useConflicts<S extends Schema>(replica: Replica<S>): Shown<ConflictOf<S>> {
  return useLive(listOf(replica, 'conflicts', () => replica.liveConflicts()));
}

/**
 * The transactions that the server refused, kept up.
 *
 * @example
 * const { rows } = useRejections(replica)
 * <p>{rows.length} refused</p>
 */
export function useRejections<S extends Schema>(replica: Replica<S>): Shown<Rejection<TableName<S>>> {
  return useLive(listOf(replica, 'rejections', () => replica.liveRejections()));
}

/**
 * The rows that were asked for by `hold`, and whether they are here, kept up.
 *
 * @example
 * const { rows } = useHoldings(replica)
 * <p>{rows.filter(({ state }) => state === 'arriving').length} still coming</p>
 */
export function useHoldings<S extends Schema>(replica: Replica<S>): Shown<Holding> {
  return useLive(listOf(replica, 'holdings', () => replica.liveHoldings()));
}

/**
 * The calls of actions and what became of them, kept up.
 *
 * @example
 * const { rows } = useInvocations(replica)
 * <p>{rows.filter(({ state }) => state === 'waiting').length} actions wait for a network</p>
 */
export function useInvocations<S extends Schema>(replica: Replica<S>): Shown<InvocationOf<S>> {
  return useLive(listOf(replica, 'invocations', () => replica.liveInvocations()));
}

/**
 * The transactions that the server has not confirmed, kept up.
 *
 * @example
 * const { rows } = useOutbox(replica)
 * <p>{rows.length} not sent yet</p>
 */
export function useOutbox<S extends Schema>(replica: Replica<S>): Shown<QueuedTransaction> {
  return useLive(listOf(replica, 'outbox', () => replica.liveOutbox()));
}
