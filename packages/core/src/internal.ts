/** The computation that the other packages of Koinon share. It promises nothing: any version may change it. */
export { actionLabel, actionOf, actionProblems, inputToWire, rowsOfInput, touchedBy } from './change/action.ts';
export {
  applyChange,
  applyOperation,
  joinChanges,
  joinOperations,
  keptColumns,
  keptOperation,
  type Referring,
  referencesOf,
  wholeRow,
} from './change/change.ts';
export { defaultOf } from './change/defaults.ts';
export { HeldRows } from './change/dependency.ts';
export { duplicateValue, noSuchReference, noSuchRowThere, rowReferenced } from './change/integrity.ts';
export { joinTransactions } from './change/join.ts';
export { changeProblems, idProblem, refuseReadOnly, rowProblems } from './change/validate.ts';
export { callApp, isFromApp } from './errors/app.ts';
export { errorFromProblems, messageOf, shown } from './errors/errors.ts';
export type { ServerSentenceName } from './errors/sentences.ts';
export { changedColumns, type Disagreement } from './merge/conflict.ts';
export { type Decision, decide, ruleOf } from './merge/decide.ts';
export {
  type OpenConflict,
  type OwnChange,
  type Predicted,
  type Rebased,
  type RebasedChange,
  type RemoteRow,
  rebase,
  type TypedOver,
  unmoved,
} from './merge/rebase.ts';
export { about } from './protocol/about.ts';
export { feedQuery, readFeedRequest } from './protocol/feed.ts';
export {
  checkFileStatesResponse,
  contentStoredHeader,
  fileAsked,
  fileStatesRequest,
  fileStatesResponse,
  filesPath,
  mostFilesAsked,
  readFileAsked,
  readFileStatesRequest,
  uploadsPath,
} from './protocol/files.ts';
export { eventStream, jsonLines, problemJson } from './protocol/http.ts';
export {
  checkLiveMessage,
  checkWaitResponse,
  joinRequest,
  liveMessage,
  livePath,
  livePush,
  readLiveRequest,
  readWaitRequest,
  silence,
  waitRequest,
  waitResponse,
} from './protocol/live.ts';
export { columns, conditions, malformed, noAnswer, timestamp, valuesOf } from './protocol/message.ts';
export { errorCode, parameters, problemDocument } from './protocol/problem.ts';
export {
  checkPulledPage,
  pulledRow,
  pullHeader,
  pullRequest,
  readPulledPage,
  readPullRequest,
  rowBlock,
} from './protocol/pull.ts';
export {
  appliedRequest,
  appliedResponse,
  checkAppliedResponse,
  checkPushResponse,
  pushRequest,
  pushResponse,
  readAppliedRequest,
  readPushRequest,
} from './protocol/push.ts';
export { anyQuery, checkQueryResponse, queryRequest, queryResponse, readQueryRequest } from './protocol/query.ts';
export { rowsOfBlock, withoutBlocks } from './protocol/row-blocks.ts';
export {
  checkTrashResponse,
  readRestoreRequest,
  readTrashRequest,
  restoreRequest,
  trashQuery,
  trashResponse,
} from './protocol/trash.ts';
export { changeFromWire, changeToWire } from './protocol/wire-change.ts';
export { everything, invalid, parseWhere, queryColumn, unfilterable } from './query/condition.ts';
export { answeredBy } from './query/home.ts';
export { comparatorOf, type Predicate, predicateOf } from './query/predicate.ts';
export { both, type Join, listOfNames, type Order, type Plan, planQuery } from './query/query.ts';
export { decodeSummary, planSummary, type SummaryPlan } from './query/summary.ts';
export { queryFromWire, queryToWire, resultRowFromWire, summaryRowFromWire, summaryRowToWire } from './query/wire.ts';
export { columnsDigest } from './schema/digest.ts';
export { heldPart } from './schema/held-part.ts';
export { filled, problemOf, rowParameters, ruleText, serverProblemOf } from './schema/message.ts';
export { columnLabel, labelOf, noSuchRow, rowLabel, rowLabels, sentence, tableLabel } from './schema/naming.ts';
export { rowKey, rowOfKey } from './schema/row-key.ts';
export { columnOf } from './schema/schema.ts';
export {
  columnDdl,
  createIndexes,
  createTable,
  orderedSql,
  quoteName,
  quoteText,
  replicaApplicationId,
  storageType,
} from './sqlite/ddl.ts';
export { conditionSql, countSql, selectSql } from './sqlite/select.ts';
export {
  type Bounds,
  boundsDdl,
  boundsIn,
  boundsOf,
  boundsRule,
  constrainedColumnDdl,
  createServerIndexes,
  createServerTable,
  indexedGroups,
  serverColumnDdl,
  widerBounds,
} from './sqlite/server-ddl.ts';
export { summaryParts, summarySql } from './sqlite/summary.ts';
export { isOperatedOn } from './table/column.ts';
export { idOfKey, keyTypes, withKeyParts } from './table/composite-key.ts';
export { named } from './table/named.ts';
export { complaintProblem } from './table/table.ts';
export {
  checkId,
  checkValue,
  inOneForm,
  isDate,
  isProvisionalId,
  isTimestamp,
  normalize,
  type Refusal,
} from './values/check.ts';
export { compareBytes, compareText, compareValues } from './values/compare.ts';
export { type DecimalSize, decimalSizeOf, mostDigits, readDecimal } from './values/decimal.ts';
export { fileValue, isFileName, isFileValue, isOfType } from './values/file.ts';
export { noneOf, readerOfType, wireGuard } from './values/of-type.ts';
export { fromSql, frozenRow, rowDecoder, toSql, withOwnTimes } from './values/sql.ts';
export { wireFromSql } from './values/stored.ts';
export { columnsFromWire, columnsToWire, fromWire, toWire } from './values/wire.ts';
