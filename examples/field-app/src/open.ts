import { connectTab } from '@koinon/client/browser';
import type { FieldReplica } from './replica.ts';
import { field } from './schema.ts';

/** Opens the field book. `?name=…` opens another one beside it. */
export function openFieldBook(): Promise<FieldReplica> {
  const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module', name: location.search });
  const opening = connectTab(worker, field);
  // In the workbench's frame; loaded only there.
  if (parent === self || !new URLSearchParams(location.search).has('told')) return opening;
  return Promise.all([opening, import('./told.ts')]).then(([replica, { told }]) => told(replica));
}
