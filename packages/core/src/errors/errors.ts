import type { SentenceParameters } from './sentences.ts';

/**
 * Every error Koinon raises, by stable code, with the HTTP status it has when it travels (RFC 9457). A code never
 * changes its meaning; messages may be reworded.
 */
export const errorStatus = {
  // Mistakes of the app or the person.
  'argument-invalid': 400,
  'schema-invalid': 400,
  'unknown-table': 400,
  'unknown-column': 400,
  'value-missing': 422,
  'value-type': 422,
  'value-range': 422,
  'value-not-listed': 422,
  'value-assigned': 422,
  'key-column': 422,
  'row-check': 422,
  'row-read-only': 400,
  'table-read-only': 403,
  'duplicate-id': 409,
  'duplicate-value': 409,
  'no-such-row': 404,
  'no-such-file': 404,
  'file-awaited': 404,
  'files-not-kept': 501,
  'file-differs': 422,
  'file-type': 422,
  'no-such-reference': 422,
  'no-such-conflict': 404,
  'row-referenced': 409,
  'unknown-action': 400,
  'action-failed': 422,
  'action-refused': 422,
  'no-such-invocation': 404,
  'row-predicted': 409,
  'query-invalid': 400,
  'condition-missing': 400,
  'query-writes': 400,
  'query-mixed': 400,
  'query-limit': 422,
  'column-withheld': 403,
  'table-on-server': 400,
  // The local database.
  'replica-closed': 409,
  'replica-busy': 409,
  'replica-moved': 409,
  'transaction-over': 409,
  'transaction-stalled': 408,
  'called-inside': 409,
  'storage-foreign': 409,
  'storage-damaged': 500,
  'storage-lost': 500,
  'internal-failure': 500,
  'storage-full': 507,
  'storage-refused': 500,
  'storage-unavailable': 500,
  'layout-newer': 409,
  'schema-newer': 409,
  'schema-changed': 409,
  'migration-failed': 500,
  'import-stopped': 422,
  // Talking to a server.
  'server-unreachable': 503,
  'server-answer': 502,
  'source-timeout': 504,
  'token-failed': 503,
  'schema-foreign': 409,
  'sync-busy': 409,
  'upgrade-needed': 426,
  'not-linked': 409,
  'already-sent': 409,
  'unsent-changes': 409,
  'nothing-to-undo': 409,
  'nothing-to-redo': 409,
  'transaction-shared': 409,
  'change-needed': 409,
  cancelled: 499,
  // Answers of a server.
  'malformed-request': 400,
  'too-large': 413,
  'too-many-requests': 429,
  'not-found': 404,
  'unknown-cursor': 409,
  'forgotten-cursor': 409,
  'feed-restored': 409,
  'outcome-unknown': 409,
  'outbox-inconsistent': 500,
  'replica-blocked': 403,
  'not-authenticated': 401,
  'other-user': 403,
  'too-many-replicas': 403,
  'not-permitted': 403,
  'scope-left': 403,
  'transaction-id-reused': 409,
  constraint: 422,
  'rule-refused': 422,
  'rule-failed': 422,
  'not-loopback': 403,
  'address-in-use': 409,
  'secret-missing': 400,
  'not-served': 409,
  'server-failure': 500,
} as const;

/** A stable error code. */
export type ErrorCode = keyof typeof errorStatus;

/** One thing wrong with one value or row; what validation, the server's rules and its constraints all report. */
export interface Problem {
  readonly code: ErrorCode;
  readonly message: string;
  readonly table?: string;
  readonly id?: string;
  /** The column; of a problem with an action, the value of its input. */
  readonly column?: string;
  /** The action, where it is about one. */
  readonly action?: string;
  readonly rule?: string;
  /** The name of the sentence that {@link message} is made by, where it is one of Koinon's own. */
  readonly sentence?: string;
  /** What was put into the sentence. */
  readonly parameters?: SentenceParameters;
}

/** The details that a {@link KoinonError} can carry besides its code and message. */
export interface ErrorDetails {
  readonly table?: string;
  readonly id?: string;
  readonly column?: string;
  /** The offending value, as it was given. */
  readonly value?: unknown;
  /** The rule that was broken, such as `maximum 40`. */
  readonly rule?: string;
  /** All problems found, where there is more than one. */
  readonly problems?: readonly Problem[];
  readonly cause?: unknown;
}

/** Tells errors of every copy of this package. */
const mark = Symbol.for('koinon.error');

/** The question that `instanceof` asks: an app and a library may each have brought their copy. A class that extends this one means its own. */
function isOne(this: unknown, value: unknown): boolean {
  if (this !== KoinonError) return Function.prototype[Symbol.hasInstance].call(this, value);
  return typeof value === 'object' && value !== null && mark in value;
}

/**
 * The one error class of Koinon. Whatever raised it left the data as it was.
 *
 * @example
 * try { await replica.insert('hive', { mark: 7 }) } catch (error) {
 *   if (error instanceof KoinonError && error.code === 'value-type') show(error.column, error.message)
 * }
 */
export class KoinonError extends Error {
  // Declared only: a field that an error does not have is not there, and is not printed.
  declare readonly name: 'KoinonError';
  readonly code: ErrorCode;
  declare readonly table?: string;
  declare readonly id?: string;
  declare readonly column?: string;
  /** The offending value, as it was given. */
  declare readonly value?: unknown;
  declare readonly rule?: string;
  declare readonly problems: readonly Problem[];

  constructor(code: ErrorCode, message: string, details: ErrorDetails = {}) {
    super(message, details.cause === undefined ? undefined : { cause: details.cause });
    this.code = code;
    const { table, id, column, value, rule, problems = [] } = details;
    for (const [name, detail] of Object.entries({ table, id, column, value, rule }))
      if (detail !== undefined) Object.defineProperty(this, name, { value: detail, enumerable: true });
    Object.defineProperty(this, 'problems', { value: problems, enumerable: problems.length > 0 });
    Object.defineProperty(this, mark, { value: true });
  }

  static {
    Object.defineProperty(KoinonError.prototype, 'name', { value: 'KoinonError' });
    Object.defineProperty(KoinonError, Symbol.hasInstance, { value: isOne });
  }

  /** The HTTP status this error has when a server answers with it. */
  get status(): number {
    return errorStatus[this.code];
  }
}

/** Turns problems into one error: the first is the headline, all are listed. */
export function errorFromProblems(problems: readonly [Problem, ...Problem[]]): KoinonError {
  const [first] = problems;
  const more = problems.length > 1 ? ` (and ${problems.length - 1} more)` : '';
  return new KoinonError(first.code, `${first.message}${more}`, { ...first, problems });
}

/** The message of an error, whatever was thrown. */
export function messageOf(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}

/** A value as an error message shows it: short, quoted, never the whole of a picture. */
export function shown(value: unknown): string {
  let text: string | undefined;
  try {
    text = described(value);
  } catch {
    // An object that lets nobody look at it.
    text = 'an object that cannot be read';
  }
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
}

function described(value: unknown): string {
  if (typeof value === 'bigint') return `${value}n`;
  if (typeof value === 'function') return 'a function';
  if (typeof value === 'string' && value.length > 100) return JSON.stringify(value.slice(0, 100));
  if (typeof value === 'number' || value === undefined) return String(value);
  if (value instanceof Uint8Array) return `${value.byteLength} bytes`;
  let text: string | undefined;
  try {
    text = JSON.stringify(value);
  } catch {
    text = undefined;
  }
  return text ?? Object.prototype.toString.call(value);
}
