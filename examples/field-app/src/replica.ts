import type { Replica } from '@koinon/client';
import { createContext, useContext } from 'react';
import type { field } from './schema.ts';

export type FieldReplica = Replica<typeof field>;

const ReplicaContext = createContext<FieldReplica | undefined>(undefined);
export const ReplicaProvider = ReplicaContext.Provider;

/** The replica of the app. */
export function useReplica(): FieldReplica {
  const replica = useContext(ReplicaContext);
  if (!replica) throw new Error('no replica is provided above this component');
  return replica;
}
