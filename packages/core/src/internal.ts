/** The computation that the other packages of Koinon share. It promises nothing: any version may change it. */
export {
  applyChange,
  applyOperation,
  changeFromWire,
  changeToWire,
  joinChanges,
  joinOperations,
  referencesOf,
  wholeRow,
} from './change/change.ts';
export { defaultOf } from './change/defaults.ts';
export { HeldRows } from './change/dependency.ts';
export { joinTransactions } from './change/join.ts';
export { rowKey } from './change/row-key.ts';
export { changeProblems, rowProblems } from './change/validate.ts';
export { callApp, isFromApp } from './errors/app.ts';
export { errorFromProblems, messageOf, shown } from './errors/errors.ts';
export { changedColumns, type Disagreement } from './merge/conflict.ts';
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
export { livePath, silence } from './protocol/live.ts';
export { eventStream, jsonLines, problemJson } from './protocol/messages.ts';
export { rowsOfBlock, withoutBlocks } from './protocol/row-blocks.ts';
export { everything, invalid, parseWhere, queryColumn } from './query/condition.ts';
export { comparatorOf, type Predicate, predicateOf } from './query/predicate.ts';
export { both, type Join, listOfNames, type Order, type Plan, planQuery } from './query/query.ts';
export { decodeSummary, planSummary, type SummaryPlan, summarySql } from './query/summary.ts';
export { columnsDigest } from './schema/digest.ts';
export { named } from './schema/named.ts';
export { columnLabel, labelOf, noSuchRow, rowLabel, rowLabels, sentence, tableLabel } from './schema/naming.ts';
export { columnOf } from './schema/schema.ts';
export { complaintProblem } from './schema/table.ts';
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
export { conditionSql, countSql, selectSql } from './sqlite/select.ts';
export { checkId, checkValue, isDate, isTimestamp, kept, type Refusal } from './values/check.ts';
export { compareBytes, compareText, compareValues } from './values/compare.ts';
export { noneOf, readerOfType, wireGuard } from './values/of-type.ts';
export { fromSql, frozenRow, rowDecoder, toSql, withOwnTimes } from './values/sql.ts';
export { wireFromSql } from './values/stored.ts';
export { columnsFromWire, columnsToWire, fromWire, toWire } from './values/wire.ts';
