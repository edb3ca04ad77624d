/** The replica in a browser: SQLite in a worker, on the origin's private files, shared by all tabs. */

export type { LockOptions, Locks, TabHost } from './host/host.ts';
export { type DatabaseEntry, deleteDatabase, labelDatabase, listDatabases } from './shelf/databases.ts';
export { openMemory, openPrivateFile, type PrivateFile } from './storage/wasm.ts';
export { type ConnectTabOptions, connectTab } from './tabs/connect-tab.ts';
export { hostTabs, type TabOptions } from './tabs/host-tabs.ts';
