/** The replica in a browser: SQLite in a worker, on the origin's private files, shared by all tabs. */

export { deleteReplica, listReplicas, type ReplicaEntry, renameReplica } from './catalog/databases.ts';
export { openMemory, openPrivateFile, type PrivateFile } from './driver/wasm.ts';
export type { LockOptions, Locks, TabHost } from './host/host.ts';
export { type ConnectTabOptions, connectTab } from './tabs/connect-tab.ts';
export { hostTabs, type TabOptions } from './tabs/host-tabs.ts';
