import * as v from 'valibot';
import { KoinonError } from '../errors/errors.ts';
import { limits } from '../limits.ts';
import {
  checkAnswer,
  columns,
  count,
  described,
  fits,
  listOf,
  type Message,
  malformed,
  namedColumns,
  nameOf,
  noAnswer,
  readRequest,
  recordOf,
  requestOf,
  rowId,
  schemaVersion,
  text,
  timestamp,
  uuid,
  wholeNumber,
} from './message.ts';
import { problem } from './problem.ts';

const aWholeNumber = 'a whole number';
const aDecimal = 'a decimal number as text';
const decimalForm = /^-?\d{1,38}(\.\d{1,38})?$/;
const members = v.optional(listOf(v.string('texts'), limits.changes), []);

/** What was done to a counter or a set. */
const operation = v.union(
  [
    requestOf({
      add: v.union(
        [
          v.pipe(v.number(aWholeNumber), v.safeInteger(aWholeNumber)),
          v.pipe(v.string(aDecimal), v.regex(decimalForm, aDecimal)),
        ],
        `${aWholeNumber}, or ${aDecimal}`,
      ),
    }),
    requestOf({ include: members, exclude: members }),
  ],
  '`add` with a whole number or a decimal number as text, or `include` and `exclude` with texts',
);

const aRowId = `a row id of at most ${limits.idLength} characters`;

const sentChange = requestOf({
  kind: v.picklist(['insert', 'update', 'delete'], 'insert, update or delete'),
  table: nameOf('a table name'),
  id: v.pipe(v.string(aRowId), v.maxLength(limits.idLength, aRowId)),
  columns: v.optional(namedColumns),
  /** Of counters and sets, by column; of an update only. */
  operations: described(
    recordOf(operation, 'a column name'),
    'Of counters `{"add": n}`, of decimal ones `{"add": "n.nn"}`, of sets `{"include": […], "exclude": […]}`; updates only.',
  ),
});

/** A change as JSON carries it. */
export type WireChange = Message<typeof sentChange>;

const change = v.pipe(
  sentChange,
  v.forward(
    v.check(({ kind, operations }) => kind !== 'insert' || operations === undefined, 'nothing for an insert'),
    ['operations'],
  ),
  v.transform(({ kind, table, id, columns: given = {}, operations }): v.InferOutput<typeof sentChange> => {
    if (kind === 'delete') return { kind, table, id };
    return { kind, table, id, columns: given, ...(operations && { operations }) };
  }),
);

const actionCall = requestOf({
  /** A UUID: what the app knows this call by. */
  id: uuid,
  name: nameOf('the name of an action'),
  input: v.optional(namedColumns, {}),
  /** The rows that it refers to: it waits for what is done to them before it, and what is done to them after it waits for it. */
  refersTo: v.optional(
    listOf(
      requestOf({
        table: nameOf('a table name'),
        id: v.pipe(v.string(aRowId), v.maxLength(limits.idLength, aRowId)),
      }),
      limits.actionRows,
    ),
    [],
  ),
  /** How many of the transaction's changes come before it. */
  after: v.pipe(wholeNumber(0), v.description("How many of the transaction's changes come before it.")),
});

/** An action as it travels up, in its transaction. */
export type ActionCall = Message<typeof actionCall>;

const aCount = `a whole number from 2 to ${limits.parts}`;

const part = v.pipe(
  requestOf({
    /** From 0. */
    index: wholeNumber(0),
    count: v.pipe(wholeNumber(2), v.maxValue(limits.parts, aCount)),
  }),
  v.forward(
    v.check(({ index, count: parts }) => index < parts, 'a whole number from 0, below the count'),
    ['index'],
  ),
  v.description('Which part of a transaction this is that is too large for one request.'),
);

/** One of the parts that a large transaction goes up in. */
export type Part = Message<typeof part>;

const origins = v.pipe(listOf(uuid, limits.origins), v.minLength(1, 'at least one origin'));

const sentTransaction = requestOf({
  /** A UUID of its own. */
  id: uuid,
  /**
   * UUIDs of what the person did: of several transactions, where they are joined in this one. Unlike the id they stay when a
   * merge gives the transaction another content. What was applied under one is not applied again. Without it: the id.
   */
  origins: v.optional(origins),
  /** When the person did it: RFC 3339, already corrected by the device clock's known offset. */
  editedAt: timestamp,
  /** The replica's own transactions that the base does not include and that wrote what this one writes. */
  dependsOn: v.optional(listOf(uuid, limits.ownTransactions), []),
  changes: listOf(change, limits.changes),
  /** The actions that the server runs, in order. */
  actions: v.optional(listOf(actionCall, limits.actions)),
  /** Which of its parts this is, where a transaction is too large for one request; it is taken up with the last. */
  part: v.optional(part),
});

const transaction = v.pipe(
  sentTransaction,
  v.forward(
    v.check(({ changes, actions = [] }) => changes.length + actions.length > 0, 'at least one change'),
    ['changes'],
  ),
);

/** A transaction as it travels up. */
export type UploadedTransaction = Message<typeof transaction>;

export const pushRequest = requestOf({
  replica: uuid,
  /** The cursor whose positions the replica knew when it formed these transactions; null before its first pull. */
  base: v.optional(
    v.pipe(
      v.nullable(v.string('a cursor or null'), null),
      v.description('The cursor of the last pull; null before the first.'),
    ),
    null,
  ),
  /** The version of the schema the app has. */
  schemaVersion: v.optional(schemaVersion),
  transactions: listOf(transaction, limits.transactions),
});

/** `POST /v1/push`. */
export type PushRequest = Message<typeof pushRequest>;

/** Reads a push request. @throws KoinonError `malformed-request` or `too-large`, naming the field. */
export function readPushRequest(body: unknown): PushRequest {
  const request = readRequest(pushRequest, body);
  const { transactions } = request;
  const changes = transactions.reduce((sum, given) => sum + given.changes.length, 0);
  if (changes > limits.changes)
    throw new KoinonError('too-large', `A push takes ${limits.changes} changes at most, not ${changes}.`);
  const named = transactions.reduce((sum, given) => sum + (given.origins?.length ?? 0), 0);
  if (named > limits.origins)
    throw new KoinonError('too-large', `A push names ${limits.origins} origins at most, not ${named}.`);
  const ids = new Set(transactions.map(({ id }) => id));
  if (ids.size < transactions.length) throw malformed('transactions', 'each transaction once', 'a repeated id');
  return request;
}

export const appliedRequest = requestOf({ replica: uuid, origins });

/** `POST /v1/applied`: which of these origins of a replica were applied. */
export type AppliedRequest = Message<typeof appliedRequest>;

/** Reads a request for what was applied. @throws KoinonError `malformed-request`. */
export function readAppliedRequest(body: unknown): AppliedRequest {
  return readRequest(appliedRequest, body);
}

const appliedOrigin = v.object({ origin: text, id: text });

/** The origin of something that was applied, and the id of the transaction that did it. */
export type AppliedOrigin = Message<typeof appliedOrigin>;

const assignedKey = v.object({ table: text, provisional: rowId, id: rowId });

/** The key that the database gave to a row which a replica had made under a provisional id. */
export type AssignedKey = Message<typeof assignedKey>;

const actionResult = v.object({ id: text, result: columns });

/** The result of an action, by the id of its call. */
export type ActionResult = Message<typeof actionResult>;

export const appliedResponse = v.object({
  receipts: v.array(appliedOrigin),
  /** The results of the actions in these transactions. */
  results: v.optional(v.array(actionResult)),
  /** The keys that rows of these transactions were given. */
  assigned: v.optional(v.array(assignedKey)),
});

/** The answer to {@link AppliedRequest}. */
export type AppliedResponse = Message<typeof appliedResponse>;

/** Looks at the answer to the question what was applied. @throws KoinonError `server-answer`. */
export function checkAppliedResponse(body: unknown): AppliedResponse {
  return checkAnswer(appliedResponse, body, 'the question which transactions were applied');
}

const staleRow = v.object({
  table: text,
  id: rowId,
  /** The columns that others changed; empty where the row was inserted or deleted by others. */
  columns: v.array(text),
});

/** A row that kept a transaction from being applied. */
export type StaleRow = Message<typeof staleRow>;

const serverValues = v.object({ table: text, id: rowId, columns });

/** Columns of one row to which the server gave other values than were sent. */
export type ServerValues = Message<typeof serverValues>;

const outcome = v.variant('outcome', [
  v.object({
    id: text,
    outcome: v.literal('applied'),
    position: count,
    /** The values that the server's hooks filled in or corrected. */
    values: v.optional(v.array(serverValues)),
    /** The keys that its rows, and those it refers to, were given in the place of provisional ids. */
    assigned: v.optional(v.array(assignedKey)),
    /** The results of its actions. */
    results: v.optional(v.array(actionResult)),
  }),
  /** Nothing was done: some or all of its origins were applied before, under these ids. The others may be sent by themselves. */
  v.object({
    id: text,
    outcome: v.literal('applied-before'),
    receipts: v.array(appliedOrigin),
    assigned: v.optional(v.array(assignedKey)),
    results: v.optional(v.array(actionResult)),
  }),
  v.object({ id: text, outcome: v.literal('stale'), rows: v.array(staleRow) }),
  /** Nothing was done, since a transaction that it depends on was not applied. */
  v.object({ id: text, outcome: v.literal('blocked'), blockedBy: text }),
  /** Nothing was done, since the server cannot apply it now. It may be sent again. */
  v.object({ id: text, outcome: v.literal('deferred') }),
  v.object({ id: text, outcome: v.literal('rejected'), problems: v.array(problem) }),
  /** A part was taken in, and others are to follow. */
  v.object({ id: text, outcome: v.literal('part-stored') }),
  /** The last part came, but not all before it are there: it begins anew. */
  v.object({ id: text, outcome: v.literal('parts-missing') }),
]);

/** The outcome of one uploaded transaction. */
export type Outcome = Message<typeof outcome>;

export const pushResponse = v.object({ outcomes: v.array(outcome), time: timestamp });

/** The answer to a push: one outcome per transaction, in order. */
export type PushResponse = Message<typeof pushResponse>;

type SentTransaction = Pick<UploadedTransaction, 'id' | 'origins' | 'part'>;

/** Looks at the answer to a push of these transactions. @throws KoinonError `server-answer`. */
export function checkPushResponse(body: unknown, sent: readonly SentTransaction[]): PushResponse {
  const isAnswer =
    fits(pushResponse, body) &&
    body.outcomes.length === sent.length &&
    body.outcomes.every((given, i) => isOutcomeOf(sent[i] as SentTransaction, given));
  if (!isAnswer) throw noAnswer('a push', body);
  return body;
}

function isOutcomeOf({ id, origins: named = [id], part: piece }: SentTransaction, given: Outcome): boolean {
  if (given.id !== id) return false;
  // Only a transaction that goes up in parts is received, or incomplete: a whole one would be sent again without end.
  if (given.outcome === 'part-stored') return piece !== undefined && piece.index < piece.count - 1;
  if (given.outcome === 'parts-missing') return piece !== undefined;
  // Without one of its origins nothing would be taken from the transaction, and it would be sent again without end.
  return given.outcome !== 'applied-before' || given.receipts.some(({ origin }) => named.includes(origin));
}
