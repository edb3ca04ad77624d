import type { Change, ErrorCode, Problem } from '@koinon/core';
import { type ServerSentenceName, serverProblemOf } from '@koinon/core/internal';
import { refusalProblem } from '../refusal.ts';
import { type Fault, isProgramError } from '../store.ts';
import type { AppTable } from './layout.ts';

/** The members of PostgreSQL's error that are used here. */
interface Refusal {
  readonly code?: string;
  readonly message: string;
  readonly detail?: string;
  readonly column?: string;
  readonly constraint?: string;
  /** The place in PostgreSQL's source where the error was raised. */
  readonly routine?: string;
  readonly severity?: string;
}

/** SQLSTATE codes of refusals that are about the data, and what each is called here. */
const codes: Readonly<Record<string, { readonly code: ErrorCode; readonly says: ServerSentenceName }>> = {
  '23505': { code: 'duplicate-value', says: 'is-taken' },
  '23502': { code: 'value-missing', says: 'needs-a-value' },
  '23503': { code: 'no-such-reference', says: 'refers-nowhere' },
  '23514': { code: 'constraint', says: 'breaks-a-rule' },
  '23P01': { code: 'constraint', says: 'in-the-way' },
  '22001': { code: 'value-range', says: 'too-long' },
  '22003': { code: 'value-range', says: 'number-out-of-range' },
  '22007': { code: 'value-type', says: 'time-not-taken' },
  '22008': { code: 'value-range', says: 'time-out-of-range' },
  '22P02': { code: 'value-type', says: 'of-another-type' },
  '22P05': { code: 'value-type', says: 'character-not-taken' },
  '42501': { code: 'constraint', says: 'refused-by-policy' },
  '428C9': { code: 'constraint', says: 'given-by-database' },
};

/** Whole classes of such codes, for those that have no words of their own. */
const classes: typeof codes = {
  '22': { code: 'value-type', says: 'value-not-taken' },
  '23': { code: 'constraint', says: 'breaks-a-rule' },
  '44': { code: 'constraint', says: 'breaks-a-rule' },
  '54': { code: 'value-range', says: 'larger-than-taken' },
  P0: { code: 'constraint', says: 'refused-by-rule' },
};

/** Raised by a trigger of the table's owner, under a code of its own. */
const raised = { code: 'constraint', says: 'refused-by-rule' } as const;

/** The problem of a refusal; undefined for an error that is not about the data. */
function kindOf({ code = '', routine }: Refusal): (typeof codes)[string] | undefined {
  if (isRepeatable({ code }) || code === lockedCode) return undefined;
  const isRaised = routine === 'exec_stmt_raise';
  // A policy speaks of the row, a missing GRANT of the server's own role.
  if (code === '42501' && routine !== 'ExecWithCheckOptions') return isRaised ? raised : undefined;
  return codes[code] ?? (isRaised ? raised : classes[code.slice(0, 2)]);
}

/** The message of a constraint of the database, in the form all refusals have; undefined for any other error. */
export function constraintProblem(
  error: unknown,
  { table, id }: Pick<Change, 'table' | 'id'>,
  standing: AppTable | undefined,
): Problem | undefined {
  const { code = '', message, detail, column, constraint } = error as Refusal;
  const kind = kindOf(error as Refusal);
  if (kind === undefined) return undefined;
  // The values in the detail may be of a row the person may not see; of the key only the column's name is told.
  const there = column ?? /^Key \(([^),]+)/.exec(detail ?? '')?.[1]?.replaceAll('"', '');
  const named = [...(standing?.columns ?? [])].find(([, { sql }]) => sql === `"${there}"`)?.[0];
  const words = kind === raised || code.startsWith('P0') ? message : undefined;
  return refusalProblem({ ...kind, rule: constraint ?? message, column: named, words }, { table, id }, standing?.table);
}

/** Tells whether a write came between two others that both could not stand: it is safe to try it again. */
export function isRepeatable(error: unknown): boolean {
  return ['40001', '40P01'].includes((error as Refusal).code ?? '');
}

/** A lock was waited for in vain. */
const lockedCode = '55P03';

/** Codes and classes of codes that tell of the database as a whole: no connection, no room, shutting down, read only. */
const ofTheWhole = /^(08|25|28|3D|53|57P|58)/;

/** The fault that an error shows in what was written, as {@link Store.faultOf} has it. */
export function faultOf(error: unknown): Fault | undefined {
  const { code = '', severity } = error as Refusal;
  if (code === lockedCode) return 'locked';
  if (severity === 'ERROR') return ofTheWhole.test(code) ? undefined : 'failed';
  return isProgramError(error) ? 'failed' : undefined;
}

/** The message of a constraint that is checked when a transaction ends, as {@link Store.refusalOf} has it. */
export function refusalOf(error: unknown): Problem | undefined {
  const { code = '', message = '' } = error as Refusal;
  if (!code.startsWith('23')) return undefined;
  const kind = code === '23503' ? 'no-such-reference' : 'constraint';
  return serverProblemOf({ tables: {} }, kind, {}, 'refused-at-end', { words: message }, message);
}
