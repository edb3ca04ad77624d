/** The computation of Koinon, without any input or output: schema, values, query, change, merge, cursor, protocol. */
export {
  applyChange,
  applyOperation,
  type Change,
  changeFromWire,
  changeToWire,
  joinChanges,
  joinOperations,
  type Operation,
  type Operations,
  referencesOf,
  type WireChange,
  wholeRow,
} from './change/change.ts';
export { defaultOf, withDefaults } from './change/defaults.ts';
export { HeldRows } from './change/dependency.ts';
export { joinTransactions } from './change/join.ts';
export { type RowKey, rowKey } from './change/row-key.ts';
export { changeProblems, rowProblems, type Writer } from './change/validate.ts';
export type { Cursor, PassedScope, Position, Resume, Scope, TableFilter } from './cursor/position.ts';
export { callApp, isFromApp } from './errors/app.ts';
export {
  type ErrorCode,
  type ErrorDetails,
  errorFromProblems,
  errorStatus,
  KoinonError,
  messageOf,
  type Problem,
  shown,
} from './errors/errors.ts';
export { type Conflict, changedColumns, type Disagreement } from './merge/conflict.ts';
export { type Decision, decide, ruleOf } from './merge/decide.ts';
export {
  type OpenConflict,
  type OwnChange,
  type Rebased,
  type RebasedChange,
  type RemoteRow,
  rebase,
  type TypedOver,
  unmoved,
} from './merge/rebase.ts';
export type { AnyMergeRule, DeletionRule, MergeRule, Sides } from './merge/rules.ts';
export {
  checkAppliedResponse,
  checkLiveMessage,
  checkPulledPage,
  checkPushResponse,
  checkTrashResponse,
  checkWaitResponse,
  readPulledPage,
} from './protocol/answers.ts';
export {
  readAppliedRequest,
  readFeedRequest,
  readLiveRequest,
  readPullRequest,
  readPushRequest,
  readRestoreRequest,
  readTrashRequest,
  readWaitRequest,
} from './protocol/codec.ts';
export {
  type JoinRequest,
  type LiveMessage,
  type LivePush,
  type LiveWindow,
  livePath,
  type Only,
  silence,
  type WaitRequest,
  type WaitResponse,
} from './protocol/live.ts';
export {
  type About,
  type AppliedOrigin,
  type AppliedRequest,
  type AppliedResponse,
  eventStream,
  type FeedRequest,
  jsonLines,
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
  problemJson,
  protocolVersion,
  type RestoreRequest,
  type RowTimes,
  type Same,
  type ServerValues,
  type StaleRow,
  type ToCome,
  type TrashedRow,
  type TrashRequest,
  type TrashResponse,
  type UploadedTransaction,
} from './protocol/messages.ts';
export {
  type Comparison,
  type Condition,
  everything,
  invalid,
  parseWhere,
  queryColumn,
  type Sign,
  type Where,
} from './query/condition.ts';
export { comparatorOf, type Predicate, predicateOf } from './query/predicate.ts';
export {
  both,
  type Join,
  type JoinMany,
  type JoinOne,
  type Joins,
  listOfNames,
  type Order,
  type Plan,
  planQuery,
  type Query,
  type ResultRow,
  type RowStatus,
  type SortKey,
} from './query/query.ts';
export {
  decodeSummary,
  type Measure,
  type Measuring,
  planSummary,
  type Summary,
  type SummaryPlan,
  type SummaryRow,
  summarySql,
} from './query/summary.ts';
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
export { columnsDigest } from './schema/digest.ts';
export {
  type AnyRow,
  type BytesSource,
  type ColumnOfType,
  columnOf,
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
export {
  type Columns,
  complaintProblem,
  type Home,
  type RowComplaint,
  type Table,
  type TableOptions,
  table,
} from './schema/table.ts';
export {
  type Bounds,
  boundsDdl,
  boundsIn,
  boundsOf,
  boundsRule,
  columnDdl,
  createIndexes,
  createTable,
  indexedGroups,
  quoteName,
  quoteText,
  replicaApplicationId,
  type Strictness,
  serverColumnDdl,
  storageType,
  widerBounds,
} from './sqlite/ddl.ts';
export { conditionSql, countSql, type Sql, selectSql } from './sqlite/select.ts';
export { checkId, checkValue, isDate, isTimestamp, kept, type Refusal } from './values/check.ts';
export { compareBytes, compareText, compareValues, sameValue } from './values/compare.ts';
export { noneOf, readerOfType, wireGuard } from './values/of-type.ts';
export { fromSql, frozenRow, rowDecoder, type SqlValue, toSql, withOwnTimes } from './values/sql.ts';
export { wireFromSql } from './values/stored.ts';
export { columnsFromWire, columnsToWire, fromWire, toWire, type WireColumns } from './values/wire.ts';
