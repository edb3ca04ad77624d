/** The language in which an app describes its data, and the types that travel between a replica and a server. */
export type { Change, Operation, Operations } from './change/change.ts';
export { withDefaults } from './change/defaults.ts';
export type { Writer } from './change/validate.ts';
export type { Cursor, PassedScope, Position, Resume, Scope, TableFilter } from './cursor/position.ts';
export { type ErrorCode, type ErrorDetails, errorStatus, KoinonError, type Problem } from './errors/errors.ts';
export type { SentenceParameters } from './errors/sentences.ts';
export { limits } from './limits.ts';
export type { Conflict } from './merge/conflict.ts';
export type { About } from './protocol/about.ts';
export type { FeedRequest } from './protocol/feed.ts';
export type { FileAsked, FileStatesRequest, FileStatesResponse } from './protocol/files.ts';
export { protocolVersion } from './protocol/http.ts';
export type {
  JoinRequest,
  LiveMessage,
  LivePush,
  LiveWindow,
  Only,
  WaitRequest,
  WaitResponse,
} from './protocol/live.ts';
export type { ProblemDocument } from './protocol/problem.ts';
export type {
  KnownBytes,
  PulledPage,
  PulledRow,
  PullHeader,
  PullRequest,
  RowBlock,
  RowTimes,
  ToCome,
} from './protocol/pull.ts';
export type {
  ActionCall,
  ActionResult,
  AppliedOrigin,
  AppliedRequest,
  AppliedResponse,
  AssignedKey,
  Outcome,
  Part,
  PushRequest,
  PushResponse,
  ServerValues,
  StaleRow,
  UploadedTransaction,
  WireChange,
} from './protocol/push.ts';
export type { QueryRequest, QueryResponse } from './protocol/query.ts';
export type { RestoreRequest, TrashedRow, TrashRequest, TrashResponse } from './protocol/trash.ts';
export type { Comparison, Condition, Sign, Where } from './query/condition.ts';
export type { JoinMany, JoinOne, Joins, Query, ResultRow, RowStatus, SortKey } from './query/query.ts';
export type { Measure, Measuring, Summary, SummaryRow } from './query/summary.ts';
export type { WireResultRow } from './query/wire.ts';
export type { RowKey } from './schema/row-key.ts';
export {
  type ActionInput,
  type ActionName,
  type BytesSource,
  type ColumnOfType,
  type GivenResult,
  type HeldTableName,
  type NewRow,
  type Patch,
  type ResultOf,
  type Row,
  type Schema,
  type SchemaOptions,
  type SettingName,
  type SettingValue,
  type SyncedTableName,
  schema,
  type TableName,
  type Tables,
  type TakenInput,
  type TargetOf,
  tableOf,
  type WritableTableName,
} from './schema/schema.ts';
export type { Sql } from './sqlite/select.ts';
export { type Bindable, sql } from './sqlite/template.ts';
export { type Action, type ActionOptions, type Actions, action } from './table/action.ts';
export {
  bigInteger,
  boolean,
  bytes,
  type Column,
  type ColumnOptions,
  type ColumnType,
  counter,
  date,
  decimal,
  decimalCounter,
  type FileOptions,
  file,
  integer,
  type JsonValue,
  json,
  type LengthOptions,
  localDateTime,
  oneOf,
  type Presence,
  type RangeOptions,
  real,
  reference,
  setOfText,
  text,
  time,
  timestamp,
} from './table/column.ts';
export type { FileValue } from './table/file-value.ts';
export type { AnyMergeRule, DeletionRule, MergeRule, Sides } from './table/rules.ts';
export type { AnyRow } from './table/table.ts';
export {
  type CheckedRow,
  type Columns,
  type Home,
  type RowComplaint,
  type Table,
  type TableOptions,
  table,
} from './table/table.ts';
export { sameValue } from './values/compare.ts';
export type { SqlValue } from './values/sql.ts';
export type { WireColumns } from './values/wire.ts';
