/** The replica: an embedded SQL database on the device, its outbox, live queries and drafts, and the sync with a server. */
export { openNodeDriver } from '#node-driver';
export { deleteReplica, listReplicas, type ReplicaFile, renameReplica } from './catalog/files.ts';
export type { HoldingState, StoredHolding } from './database/holding-list.ts';
export { Migration, type Migrations } from './database/migration.ts';
export type { SqlDriver, SqlStatement } from './driver/driver.ts';
export type { NodeDriverOptions } from './driver/node.ts';
export { type Host, type StorageRoom, systemHost } from './host/host.ts';
export {
  type InspectedConflict,
  type InspectedFile,
  type InspectedSource,
  type Inspection,
  inspectReplica,
} from './inspect/inspect.ts';
export { type Rescue, type RescuedChange, rescueReplica } from './inspect/rescue.ts';
export { type Finding, verifyFile } from './inspect/verify.ts';
export type { UnlinkChoices, UnlinkReport } from './link/unlink.ts';
export type { Origin } from './live/commit.ts';
export type { ChangeEvent } from './live/listener.ts';
export { LiveQuery, type ObservableResult, type Observer, type Result, type Subscription } from './live/result.ts';
export type { QueuedAction, QueuedTransaction, TransactionState } from './outbox/outbox.ts';
export type { StoredInvocation, StoredTransaction } from './outbox/stored.ts';
export type { Choice, ChoiceOf, Choices, ChoicesOf, RowDecision } from './overlay/resolve.ts';
export type { RowCounts } from './overlay/show.ts';
export type { TakingBack } from './overlay/undo.ts';
export { connectReplica } from './remote/connect-replica.ts';
export { hostReplica } from './remote/host-replica.ts';
export type { Port } from './remote/port.ts';
export type { DeviceFinding } from './replica/check.ts';
export type { Invoked, InvokeOptions, Predicting, RowSelector, StateOfRow } from './replica/data-api.ts';
export { Draft, type DraftedRow, type Overtaken } from './replica/draft.ts';
export type {
  ConflictOf,
  DeletedRow,
  HeldRows,
  Holding,
  Invocation,
  InvocationOf,
  Rejection,
  ReplicaStatus,
  StorageReport,
} from './replica/lists.ts';
export { openReplica, type ReplicaOptions } from './replica/open.ts';
export type { ListenOptions, Replica } from './replica/replica.ts';
export type { Transaction } from './replica/transaction.ts';
export type { SyncRun } from './sync/journal.ts';
export type { Direction, SyncOptions, SyncPhase, SyncProgress, SyncReason, SyncState, Upload } from './sync/state.ts';
export type { SyncReport } from './sync/step.ts';
export type { InvalidStoredValue } from './sync/stored-values.ts';
export type { TableTraffic } from './sync/traffic.ts';
export {
  type HttpOptions,
  httpTransport,
  type LiveChannel,
  type LiveListener,
  type TokenSource,
  type Transport,
} from './sync/transport.ts';
