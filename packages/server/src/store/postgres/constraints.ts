import type { Change, ErrorCode, Problem } from '@koinon/core';
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
const codes: Readonly<Record<string, { readonly code: ErrorCode; readonly says: string }>> = {
  '23505': { code: 'duplicate-value', says: 'is taken by another row' },
  '23502': { code: 'value-missing', says: 'needs a value' },
  '23503': { code: 'no-such-reference', says: 'refers to a row that is not there, or is referred to' },
  '23514': { code: 'constraint', says: 'breaks a rule of the table' },
  '23P01': { code: 'constraint', says: 'stands in the way of another row' },
  '22001': { code: 'value-range', says: 'has a value that is too long' },
  '22003': { code: 'value-range', says: 'has a number out of the range of its type' },
  '22007': { code: 'value-type', says: 'has a time that the database does not take' },
  '22008': { code: 'value-range', says: 'has a time out of range' },
  '22P02': { code: 'value-type', says: 'has a value of another type' },
  '22P05': { code: 'value-type', says: 'has a character that the database does not take' },
  '42501': { code: 'constraint', says: 'was refused by a policy of the table' },
  '428C9': { code: 'constraint', says: 'has a value that only the database gives' },
};

/** Whole classes of such codes, for those that have no words of their own. */
const classes: typeof codes = {
  '22': { code: 'value-type', says: 'has a value that the database does not take' },
  '23': { code: 'constraint', says: 'breaks a rule of the table' },
  '44': { code: 'constraint', says: 'breaks a rule of the table' },
  '54': { code: 'value-range', says: 'is larger than the database takes' },
  P0: { code: 'constraint', says: 'was refused by a rule of the database' },
};

/** Raised by a trigger of the table's owner, under a code of its own. */
const raised = { code: 'constraint', says: 'was refused by a rule of the database' } as const;

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
export function refusalOf(error: unknown): Pick<Problem, 'code' | 'message' | 'rule'> | undefined {
  const { code = '', message = '' } = error as Refusal;
  if (!code.startsWith('23')) return undefined;
  return {
    code: code === '23503' ? 'no-such-reference' : 'constraint',
    message: `The database refused the transaction at its end (${message}).`,
    rule: message,
  };
}
