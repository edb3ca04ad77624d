import { KoinonError, shown } from '../errors/errors.ts';
import { checkId, isTimestamp } from '../values/check.ts';
import type { LiveMessage, WaitResponse } from './live.ts';
import type {
  AppliedResponse,
  Outcome,
  PulledPage,
  PulledRow,
  PullHeader,
  PushResponse,
  RowBlock,
  TrashResponse,
  UploadedTransaction,
} from './messages.ts';

// An answer of a server is looked at before anything is done with it: whatever answers at its address, a replica keeps what
// it has. Members that are not known are left alone, since a server may be newer than the app.

type Guard = (value: unknown) => boolean;

const isText: Guard = (value) => typeof value === 'string';
const isYesOrNo: Guard = (value) => typeof value === 'boolean';
const isCount: Guard = (value) => Number.isSafeInteger(value) && (value as number) >= 0;
const isId: Guard = (value) => checkId(value) === undefined;
const isObject = (value: unknown): value is Readonly<Record<string, unknown>> =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
const optional =
  (guard: Guard): Guard =>
  (value) =>
    value === undefined || guard(value);
const listOf =
  (guard: Guard): Guard =>
  (value) =>
    Array.isArray(value) && value.every(guard);
const recordOf =
  (guard: Guard): Guard =>
  (value) => {
    if (!isObject(value)) return false;
    for (const name in value) if (!guard(value[name])) return false;
    return true;
  };
/** Tells whether a value has these members, of these kinds: those of T that are relied on. */
const shape = <T = unknown>(members: Readonly<Record<string, Guard>>): ((value: unknown) => value is T) => {
  const entries = Object.entries(members);
  return (value): value is T => isObject(value) && entries.every(([name, guard]) => guard(value[name]));
};

const times = {
  editedAt: optional(isTimestamp),
  editedBy: optional(isText),
  times: optional(recordOf(isTimestamp)),
};
const place = { table: isText, id: isId, position: isCount };
const isWhole = shape({ ...place, ...times, columns: isObject, digests: optional(recordOf(isText)) });
const isDeleted = shape({ ...place, ...times, columns: optional(isObject) });
const isLeaving = shape(place);

function isPulledRow(row: unknown): row is PulledRow {
  switch (isObject(row) ? row.kind : undefined) {
    case 'insert':
    case 'update':
      return isWhole(row);
    case 'delete':
      return isDeleted(row);
    case 'leave':
      return isLeaving(row);
    default:
      return false;
  }
}

const isBlockOfRows = shape<RowBlock>({
  table: isText,
  position: isCount,
  columns: listOf(isText),
  rows: Array.isArray,
});

function isRowBlock(block: unknown): block is RowBlock {
  if (!isBlockOfRows(block)) return false;
  const width = block.columns.length + 1;
  return block.rows.every((row) => Array.isArray(row) && row.length === width && isId(row[0]));
}

const columnNames = recordOf(listOf(isText));

const isHeader = shape<PullHeader>({
  kind: (kind) => kind === 'snapshot' || kind === 'changes',
  from: (from) => from === null || isCount(from),
  to: isCount,
  cursor: isText,
  newest: isCount,
  remaining: optional(recordOf(isCount)),
  remainingBytes: optional(recordOf(isCount)),
  rows: isCount,
  more: isYesOrNo,
  last: isYesOrNo,
  user: optional(isText),
  partial: optional(isYesOrNo),
  schema: optional(shape({ version: isCount, digest: isText })),
  unsupported: optional(columnNames),
  acknowledged: listOf(isText),
  time: isTimestamp,
  uploads: optional(isCount),
});

const isWindow = shape({
  from: isText,
  cursor: isText,
  position: isCount,
  rows: listOf(isPulledRow),
  applied: listOf(isText),
  uploads: optional(isCount),
  unsupported: optional(columnNames),
  time: isTimestamp,
});

const isProblemDocument = shape({ code: isText, detail: isText });
const isReceipt = shape({ origin: isText, id: isText });
const isRowPlace = shape({ table: isText, id: isId });
const isApplied = shape<AppliedResponse>({ receipts: listOf(isReceipt) });
const isWait = shape<WaitResponse>({ moved: isYesOrNo });
const isTrash = shape<TrashResponse>({
  rows: listOf(shape({ ...place, deletedAt: isTimestamp, columns: isObject })),
  next: optional(shape(place)),
});

/** Reads the lines of a pull's answer, which are still to be looked at. @throws KoinonError `server-answer` when it was cut off. */
export function readPulledPage(body: string): PulledPage {
  let parsed: unknown[];
  try {
    // A line break can only stand between two values; read at once, they take a fraction of the time.
    parsed = JSON.parse(`[${body.trimEnd().replaceAll('\n', ',')}]`) as unknown[];
  } catch {
    throw new KoinonError(
      'server-answer',
      `The server's answer was cut off or is not JSON Lines, at ${shown(body.slice(-60))}; try again.`,
    );
  }
  const isBlock = (line: unknown) => isObject(line) && line.kind === 'rows';
  const lines = parsed.slice(1);
  const blocks = lines.filter(isBlock);
  if (blocks.length === 0) return { header: parsed[0] as PullHeader, rows: lines as PulledRow[] };
  const rows = lines.filter((line) => !isBlock(line));
  return { header: parsed[0] as PullHeader, rows: rows as PulledRow[], blocks: blocks as RowBlock[] };
}

/** Looks at a page of a pull. @throws KoinonError `server-answer` when it is none. */
export function checkPulledPage(page: unknown): PulledPage {
  const { header, rows, blocks = [] } = isObject(page) ? page : {};
  if (!isHeader(header) || !Array.isArray(rows) || !Array.isArray(blocks)) throw noAnswer('a pull', header);
  const made = blocks.filter(isRowBlock);
  if (made.length < blocks.length) throw noAnswer('a pull', 'a block of rows that is none');
  const arrived = made.reduce((sum, block) => sum + block.rows.length, rows.length);
  if (arrived !== header.rows)
    throw new KoinonError(
      'server-answer',
      `The server's answer was cut off: ${arrived} of ${header.rows} rows arrived; try again.`,
    );
  const pulled = rows.filter(isPulledRow);
  if (pulled.length < rows.length)
    throw noAnswer(
      'a pull',
      rows.find((row) => !isPulledRow(row)),
    );
  if (header.kind === 'changes' && !header.last) throw noAnswer('a pull', header);
  return { header, rows: pulled, ...(made.length > 0 && { blocks: made }) };
}

/** Looks at the answer to a push of these transactions. @throws KoinonError `server-answer`. */
export function checkPushResponse(
  body: unknown,
  sent: readonly Pick<UploadedTransaction, 'id' | 'origins' | 'part'>[],
): PushResponse {
  const outcomes = isObject(body) ? body.outcomes : undefined;
  const fits =
    Array.isArray(outcomes) &&
    outcomes.length === sent.length &&
    sent.every((transaction, i) => isOutcomeOf(transaction, outcomes[i]));
  if (!fits) throw noAnswer('a push', body);
  return body as unknown as PushResponse;
}

const outcomes: Readonly<Record<Outcome['outcome'], Guard>> = {
  applied: shape({
    position: isCount,
    values: optional(listOf(shape({ table: isText, id: isId, columns: isObject }))),
  }),
  'applied-before': shape({ receipts: listOf(isReceipt) }),
  stale: shape({ rows: listOf(isRowPlace) }),
  blocked: shape({ blockedBy: isText }),
  deferred: shape({}),
  rejected: shape({ problems: listOf(shape({ code: isText, message: isText })) }),
  'part-stored': () => true,
  'parts-missing': () => true,
};

function isOutcomeOf(
  { id, origins = [id], part }: Pick<UploadedTransaction, 'id' | 'origins' | 'part'>,
  given: unknown,
): boolean {
  if (!isObject(given) || given.id !== id) return false;
  const { outcome } = given as { readonly outcome: Outcome['outcome'] };
  if (!Object.hasOwn(outcomes, outcome) || !outcomes[outcome](given)) return false;
  // Only a transaction that goes up in parts is received, or incomplete: a whole one would be sent again without end.
  if (outcome === 'part-stored') return part !== undefined && part.index < part.count - 1;
  if (outcome === 'parts-missing') return part !== undefined;
  if (outcome !== 'applied-before') return true;
  // Without one of its origins nothing would be taken from the transaction, and it would be sent again without end.
  return (given.receipts as { readonly origin: string }[]).some(({ origin }) => origins.includes(origin));
}

/** Looks at the answer to the question what was applied. @throws KoinonError `server-answer`. */
export function checkAppliedResponse(body: unknown): AppliedResponse {
  if (!isApplied(body)) throw noAnswer('the question which transactions were applied', body);
  return body;
}

/** Looks at the answer to a request that waits. @throws KoinonError `server-answer`. */
export function checkWaitResponse(body: unknown): WaitResponse {
  if (!isWait(body)) throw noAnswer('a request that waits for changes', body);
  return body;
}

/** Looks at the answer to a request for deleted rows. @throws KoinonError `server-answer`. */
export function checkTrashResponse(body: unknown): TrashResponse {
  if (!isTrash(body)) throw noAnswer('a request for deleted rows', body);
  return body;
}

const messages: Readonly<Record<LiveMessage['type'], Guard>> = {
  joined: (message) => isWindow(message) && shape({ join: isCount, pushBytes: optional(isCount) })(message),
  window: isWindow,
  'pull-required': () => true,
  heartbeat: () => true,
  pushed: (message) =>
    shape({ push: isCount })(message) &&
    (shape({ problem: isProblemDocument })(message) || shape({ outcomes: Array.isArray })(message)),
  refused: shape({ problem: isProblemDocument }),
};

/** Looks at what a server said on a live connection. @throws KoinonError `server-answer`. */
export function checkLiveMessage(message: unknown): LiveMessage {
  const { type } = (isObject(message) ? message : {}) as { readonly type?: LiveMessage['type'] };
  if (type === undefined || !Object.hasOwn(messages, type) || !messages[type](message))
    throw new KoinonError('server-answer', `This is no message of a Koinon server: ${shown(message)}.`);
  return message as LiveMessage;
}

function noAnswer(to: string, body: unknown): KoinonError {
  return new KoinonError(
    'server-answer',
    `This is no answer to ${to}: ${shown(body)}. Check the server's address, and that a Koinon server answers there.`,
  );
}
