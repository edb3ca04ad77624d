import type { Replica } from '@koinon/client';
import { connectTab } from '@koinon/client/browser';
import { orchard } from './orchard.ts';

declare global {
  interface Window {
    /** Workers of the contract tests, by name. */
    workers: Record<string, Worker>;
    startWorker(name: string): void;
    /** The replica of the tests with tabs. */
    replica: Replica<typeof orchard>;
    openReplica(name: string): Promise<void>;
  }
}

window.workers = {};
window.startWorker = (name) => {
  const worker = new Worker(new URL('./household-worker.ts', import.meta.url), { type: 'module', name });
  worker.onmessage = ({ data }) =>
    (window as unknown as Record<string, (data: unknown) => void>)[`answer ${name}`]?.(data);
  window.workers[name] = worker;
};
window.openReplica = async (name) => {
  const worker = new Worker(new URL('./orchard-worker.ts', import.meta.url), { type: 'module', name });
  window.replica = await connectTab(worker, orchard, { persist: false });
};
