/** The server: ordinary SQL tables, the change feed over them, and the protocol over HTTP. */
export {
  type Authenticate,
  type JwtOptions,
  jwtAuthentication,
  type RefusedToken,
  type User,
} from './auth/authenticate.ts';
export { UserConnections } from './auth/connections.ts';
export type { CursorKey, CursorKeys } from './cursor/keys.ts';
export { feedPage } from './feed/page.ts';
export { type HandlerOptions, type RequestHandler, requestHandler } from './http/handler.ts';
export {
  type InProcessConnection,
  type InProcessListener,
  type InProcessOptions,
  type InProcessServer,
  serveInProcess,
} from './http/in-process.ts';
export { openApi } from './http/openapi.ts';
export type { Moved, PluginOptions } from './http/options.ts';
export { koinonPlugin } from './http/plugin.ts';
export { type RunningServer, type ServerOptions, startServer } from './http/server.ts';
export type { RowWrite, RuleContext, RuleOptions, Rules, TableRules } from './rules/rules.ts';
export { type ServiceChange, writeRows } from './rules/write.ts';
export type { ParentScope, ReadScope, ScopeContext, Scopes, TableAccess, TableScope } from './scope/scopes.ts';
export type { Mapping, TableMapping } from './stores/mapping.ts';
export type { StoreMode } from './stores/mode.ts';
export {
  alterPostgres,
  postgresDdl,
  renewKeyPostgres,
  resendAllPostgres,
  uninstallPostgres,
} from './stores/postgres/maintenance.ts';
export { type PostgresOptions, postgresStore } from './stores/postgres/store.ts';
export { RetentionJob, type RetentionOptions } from './stores/retention-job.ts';
export {
  alterSqlite,
  renewKeySqlite,
  resendAllSqlite,
  sqliteDdl,
  uninstallSqlite,
} from './stores/sqlite/maintenance.ts';
export { type SqliteOptions, sqliteStore, type Trace } from './stores/sqlite/store.ts';
export type {
  Changed,
  Contact,
  Fault,
  FeedPage,
  KnownReplica,
  LockWait,
  PartialTransaction,
  Reach,
  Receipt,
  ReplicaOrigins,
  Room,
  RowKey,
  RowPage,
  Stamp,
  Store,
  StoreReader,
  StoreWriter,
  Tombstone,
  TombstoneKey,
  TombstoneKeys,
  WantedTombstones,
  WholeRow,
  Written,
} from './stores/store.ts';
export type { StampedTimes } from './stores/times.ts';
export type { TrackingFault } from './stores/tracking.ts';
export type { Misfit } from './stores/typed-values.ts';
