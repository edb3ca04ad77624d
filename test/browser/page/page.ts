import type { Replica } from '@koinon/client';
import { connectTab, deleteReplica, listReplicas, renameReplica } from '@koinon/client/browser';
import { exportRows, importRows } from '@koinon/client/transfer';
import { newerOrchard, orchard } from './orchard.ts';
import { type Mounted, mountTrees } from './react.ts';

declare global {
  interface Window {
    /** Workers of the contract tests, by name. */
    workers: Record<string, Worker>;
    startWorker(name: string): void;
    /** The replica of the tests with tabs, and its worker. */
    replica: Replica<typeof orchard>;
    worker: Worker;
    openReplica(name: string): Promise<void>;
    /** The replicas of this origin, and what becomes of them. */
    replicas: {
      listReplicas: typeof listReplicas;
      renameReplica: typeof renameReplica;
      deleteReplica: typeof deleteReplica;
    };
    /** Tells whether this tab runs the database. */
    isOwner: boolean;
    /** The result of connecting to a worker at an address. */
    connectTo(address: string): Promise<string>;
    /** The tab as a phone treats one that nobody sees. */
    hide(isHidden: boolean): void;
    /** Page and worker do nothing for so many milliseconds. */
    hang(milliseconds: number): void;
    /** The kinds and counts of a live query's last result, and what a listener heard. */
    seen: string[];
    heard: string[];
    stopLive(): void;
    mountTrees(): void;
    mounted: Mounted;
    importTrees(lines: readonly string[]): Promise<unknown>;
    /** Exports all trees, deletes them, imports them again: how many, and whether they are the same. */
    takeTreesOutAndIn(format: 'jsonl' | 'csv'): Promise<{ readonly rows: number; readonly isSame: boolean }>;
    /** Lets the test act in the middle of a transaction. */
    reached(): Promise<void>;
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
  window.worker = new Worker(new URL('./orchard-worker.ts', import.meta.url), { type: 'module', name });
  window.worker.addEventListener('message', ({ data }) => {
    if (data.type === 'tab') window.isOwner = data.term !== null;
  });
  // A page of the newer app has the newer schema; what the tests do with it both have.
  const schema = name.endsWith('version 2') ? newerOrchard : orchard;
  window.replica = (await connectTab(window.worker, schema)) as typeof window.replica;
  window.heard = [];
  window.replica.listen('tree', (events) => {
    for (const { kind, after, origin } of events)
      window.heard.push(`${kind} ${after?.kind} ${after?.picked} ${origin}`);
  });
  // A write of another tab from now on is heard and seen here: the owner has taken both in.
  await new Promise<void>((begun) => {
    window.stopLive = window.replica.live({ from: 'tree', order: 'kind' }).subscribe(({ rows }) => {
      window.seen = rows.map(({ kind, picked }) => `${kind} ${picked}`);
      begun();
    });
  });
};
window.replicas = { listReplicas, renameReplica, deleteReplica };
window.mountTrees = () => {
  window.mounted = mountTrees(window.replica);
};
window.importTrees = (lines) => importRows(window.replica, orchard, lines);
window.takeTreesOutAndIn = async (format) => {
  const options = { table: 'tree', format } as const;
  const exported = async () => {
    let text = '';
    for await (const piece of exportRows(window.replica, orchard, options)) text += piece;
    return text;
  };
  const text = await exported();
  await window.replica.deleteWhere('tree', 'every row');
  // In pieces that end anywhere, and as bytes.
  const bytes = new TextEncoder().encode(text);
  const pieces = Array.from({ length: Math.ceil(bytes.length / 7) }, (_, n) => bytes.slice(n * 7, n * 7 + 7));
  const { rows } = await importRows(window.replica, orchard, pieces, options);
  return { rows, isSame: (await exported()) === text };
};
window.connectTo = (address) =>
  connectTab(new Worker(address, { type: 'module' }), orchard).then(
    () => 'connected',
    (error) => `${error.code}: ${error.message}`,
  );
window.hide = (isHidden) => {
  Object.defineProperty(document, 'visibilityState', {
    configurable: true,
    get: () => (isHidden ? 'hidden' : 'visible'),
  });
  document.dispatchEvent(new Event('visibilitychange'));
};
window.hang = (milliseconds) => {
  window.worker.postMessage({ hang: milliseconds });
  const until = Date.now() + milliseconds;
  while (Date.now() < until);
};
