/** The replica: an embedded SQL database on the device, its outbox, and the sync with a server. */
export { type Host, systemHost } from './host/host.ts';
export type { QueuedTransaction, TransactionState } from './outbox/outbox.ts';
export type { RowCounts } from './overlay/apply.ts';
export {
  openReplica,
  type Reading,
  type Rejection,
  type Replica,
  type ReplicaOptions,
  type ReplicaStatus,
  type Transaction,
  type WritingFace,
} from './replica/replica.ts';
export type { SqlDriver, SqlStatement } from './storage/driver.ts';
export { type NodeDriverOptions, openNodeDriver } from './storage/node.ts';
export type { Direction, SyncReport } from './sync/step.ts';
export { type HttpOptions, httpTransport, type Transport } from './sync/transport.ts';
