import { cooperative } from '@koinon/cli';
import { connectTab } from '@koinon/client/browser';
import type { FieldReplica } from './replica.ts';

/** Opens the field book. `?name=…` opens another one beside it. */
export function openFieldBook(): Promise<FieldReplica> {
  const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module', name: location.search });
  return connectTab(worker, cooperative);
}
