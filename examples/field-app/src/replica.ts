import { cooperative } from '@koinon/cli';
import type { Replica } from '@koinon/client';
import { connectTab } from '@koinon/client/browser';
import { createContext, useContext } from 'react';

export type FieldReplica = Replica<typeof cooperative>;

/** Opens the field book. `?name=…` opens another one beside it. */
export function openFieldBook(): Promise<FieldReplica> {
  const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module', name: location.search });
  return connectTab(worker, cooperative);
}

const ReplicaContext = createContext<FieldReplica | undefined>(undefined);
export const ReplicaProvider = ReplicaContext.Provider;

/** The replica of the app. */
export function useReplica(): FieldReplica {
  const replica = useContext(ReplicaContext);
  if (!replica) throw new Error('no replica is provided above this component');
  return replica;
}
