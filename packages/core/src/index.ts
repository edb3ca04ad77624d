/** The language in which an app describes its data, and the types that travel between a replica and a server. */
export type { Change, Operation, Operations, WireChange } from './change/change.ts';
export { withDefaults } from './change/defaults.ts';
export type { RowKey } from './change/row-key.ts';
export type { Writer } from './change/validate.ts';
export type { Cursor, PassedScope, Position, Resume, Scope, TableFilter } from './cursor/position.ts';
export { type ErrorCode, type ErrorDetails, errorStatus, KoinonError, type Problem } from './errors/errors.ts';
export type { Conflict } from './merge/conflict.ts';
export type { AnyMergeRule, DeletionRule, MergeRule, Sides } from './merge/rules.ts';
export type {
  JoinRequest,
  LiveMessage,
  LivePush,
  LiveWindow,
  Only,
  WaitRequest,
  WaitResponse,
} from './protocol/live.ts';
export {
  type About,
  type AppliedOrigin,
  type AppliedRequest,
  type AppliedResponse,
  type FeedRequest,
  type KnownBytes,
  limits,
  type Outcome,
  type Part,
  type ProblemDocument,
  type PulledPage,
  type PulledRow,
  type PullHeader,
  type PullRequest,
  type PushRequest,
  type PushResponse,
  protocolVersion,
  type RestoreRequest,
  type RowBlock,
  type RowTimes,
  type ServerValues,
  type StaleRow,
  type ToCome,
  type TrashedRow,
  type TrashRequest,
  type TrashResponse,
  type UploadedTransaction,
} from './protocol/messages.ts';
export type { Comparison, Condition, Sign, Where } from './query/condition.ts';
export type { JoinMany, JoinOne, Joins, Query, ResultRow, RowStatus, SortKey } from './query/query.ts';
export type { Measure, Measuring, Summary, SummaryRow } from './query/summary.ts';
export { type Bindable, sql } from './query/template.ts';
export {
  boolean,
  bytes,
  type Column,
  type ColumnOptions,
  type ColumnType,
  counter,
  date,
  integer,
  type JsonValue,
  json,
  type LengthOptions,
  oneOf,
  type Presence,
  type RangeOptions,
  real,
  reference,
  setOfText,
  text,
  timestamp,
} from './schema/column.ts';
export {
  type AnyRow,
  type BytesSource,
  type ColumnOfType,
  type NewRow,
  type Patch,
  type Row,
  type Schema,
  type SchemaOptions,
  type SettingName,
  type SettingValue,
  type SyncedTableName,
  schema,
  type TableName,
  type Tables,
  type TargetOf,
  tableOf,
} from './schema/schema.ts';
export { type Columns, type Home, type RowComplaint, type Table, type TableOptions, table } from './schema/table.ts';
export type { Sql } from './sqlite/select.ts';
export { sameValue } from './values/compare.ts';
export type { SqlValue } from './values/sql.ts';
export type { WireColumns } from './values/wire.ts';
