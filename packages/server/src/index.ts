/** The server: ordinary SQL tables, the change feed over them, and the protocol over HTTP. */
export { koinonPlugin, type PluginOptions } from './http/plugin.ts';
export { type RunningServer, type ServerOptions, startServer } from './http/server.ts';
export { sqliteStore } from './stores/sqlite/store.ts';
export type {
  FeedEntry,
  FeedPage,
  Receipt,
  RowKey,
  Stamp,
  Store,
  StoreReader,
  StoreWriter,
  Written,
} from './stores/store.ts';
