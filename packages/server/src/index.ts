/** The server: ordinary SQL tables, the change feed over them, and the protocol over HTTP. */
export {
  type AdoptedColumn,
  type AdoptedTable,
  type Adoption,
  type AdoptOptions,
  adoptPostgres,
  adoptSqlite,
} from './adopt/adopt.ts';
export type { Verdict } from './adopt/column-types.ts';
export type { Difference } from './adopt/differences.ts';
export {
  type Authenticate,
  type JwtOptions,
  jwtAuthentication,
  type RefusedToken,
  type User,
} from './auth/authenticate.ts';
export { UserConnections } from './auth/connections.ts';
export type { CursorKey, CursorKeys } from './cursor/keys.ts';
export type { Effect, EffectContext, Effects } from './effects/effects.ts';
export type { EffectOptions } from './effects/job.ts';
export { feedPage } from './feed/page.ts';
export { folderStorage } from './files/folder.ts';
export type { ByteRange, FileStorage, StoredFile } from './files/storage.ts';
export { type HandlerOptions, type RequestHandler, requestHandler } from './http/handler.ts';
export {
  type InProcessChannel,
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
export type { ActionContext, ActionRefusal, Handlers } from './rules/handlers.ts';
export type { RuleOptions, Rules, TableRules } from './rules/rules.ts';
export { type ServiceChange, writeRows } from './rules/write.ts';
export type { RowWrite, RuleContext } from './scope/row-write.ts';
export type { ParentScope, ReadScope, ScopeContext, Scopes, TableAccess, TableScope } from './scope/scopes.ts';
export { type AttemptSteps, Attempts } from './store/attempts.ts';
export type { ColumnMapping, Mapping, TableMapping, TimeFormat } from './store/mapping.ts';
export type { StoreMode } from './store/mode.ts';
export {
  alterPostgres,
  postgresDdl,
  renewKeyPostgres,
  resendAllPostgres,
  uninstallPostgres,
} from './store/postgres/maintenance.ts';
export { type PostgresOptions, postgresStore } from './store/postgres/store.ts';
export { type QueryLimits, QueryRoom, type Selection } from './store/query.ts';
export { type NewReceipts, type ReceiptStorage, Receipts, type StoredReceipt } from './store/receipts.ts';
export { RetentionJob, type RetentionOptions } from './store/retention-job.ts';
export {
  alterSqlite,
  renewKeySqlite,
  resendAllSqlite,
  sqliteDdl,
  uninstallSqlite,
} from './store/sqlite/maintenance.ts';
export { type SqliteOptions, sqliteStore, type Trace } from './store/sqlite/store.ts';
export type {
  AssignedKeysOf,
  Changed,
  Contact,
  DatabaseFacts,
  DueEffect,
  Fault,
  FeedPage,
  KnownReplica,
  LockWait,
  NewEffect,
  OpenEffect,
  PartialTransaction,
  Reach,
  Receipt,
  ReplicaOrigins,
  Room,
  RowPage,
  RowText,
  Stamp,
  Store,
  StoreReader,
  StoreWriter,
  TakingEffects,
  Tombstone,
  TombstoneKey,
  TombstoneKeys,
  UnfollowedRows,
  Wanted,
  WantedTombstones,
  WholeRow,
  Written,
} from './store/store.ts';
export type { StampedTimes } from './store/times.ts';
export type { TrackingFault } from './store/tracking.ts';
export type { InvalidStoredValue } from './store/typed-values.ts';
