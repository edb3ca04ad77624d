import type { Change, Problem, Table } from '@koinon/core';
import { serverProblemOf } from '@koinon/core/internal';
import { refusalProblem } from '../refusal.ts';
import { type Fault, isProgramError } from '../store.ts';

/** SQLite's primary result code for a constraint, and the words its messages begin with. */
const constraintCode = 19;
const kinds = [
  { begins: 'UNIQUE constraint failed: ', code: 'duplicate-value', says: 'is-taken' },
  { begins: 'NOT NULL constraint failed: ', code: 'value-missing', says: 'needs-a-value' },
  {
    begins: 'FOREIGN KEY constraint failed',
    code: 'no-such-reference',
    says: 'refers-nowhere',
  },
  { begins: 'CHECK constraint failed: range of ', code: 'value-range', says: 'out-of-range' },
  { begins: 'CHECK constraint failed: ', code: 'constraint', says: 'breaks-a-rule' },
  { begins: 'cannot store ', code: 'value-type', says: 'of-another-type' },
  { begins: 'datatype mismatch', code: 'value-type', says: 'of-another-type' },
  { begins: 'string or blob too big', code: 'value-range', says: 'too-long' },
] as const;

/** SQLite's primary result codes for what a statement itself is at fault: an error in it, a denial, a value out of range. */
const ofTheStatement = new Set([1, constraintCode, 23, 25]);

/** The fault that an error shows in what was written, as {@link Store.faultOf} has it. */
export function faultOf(error: unknown): Fault | undefined {
  const { errcode } = error as { errcode?: number };
  const isOwn = errcode === undefined ? isProgramError(error) : ofTheStatement.has(errcode & 0xff);
  return isOwn ? 'failed' : undefined;
}

/**
 * The message of a constraint of the database, in the form all refusals have; undefined for any other error.
 *
 * @param definition the table, where it is known.
 * @param columnNames names of columns in the database, where they are others than in the schema.
 */
export function constraintProblem(
  error: unknown,
  change: Pick<Change, 'table' | 'id'>,
  definition: Table | undefined,
  columnNames: Readonly<Record<string, string>> = {},
): Problem | undefined {
  const { errcode, message } = error as { errcode?: number; message?: string };
  if (!(error instanceof Error) || message === undefined) return undefined;
  const kind = kinds.find(({ begins }) => message.startsWith(begins));
  if (kind === undefined && (Number(errcode) & 0xff) !== constraintCode) return undefined;
  const { table, id } = change;
  const isRange = kind?.code === 'value-range' && kind.begins.endsWith('range of ');
  const first = /^[^:]*: (?:[^.,]*\.)?([^.,]+)/.exec(message)?.[1];
  const there = isRange ? message.slice(kind.begins.length) : kind?.begins.endsWith(': ') ? first : undefined;
  const column = Object.entries(columnNames).find(([, name]) => name === there)?.[0] ?? there;
  const named = isRange || kind?.code === 'duplicate-value' || kind?.code === 'value-missing' ? column : undefined;
  // A trigger's own words are for people.
  const refused = kind ?? { code: 'constraint', says: 'refused-by-rule', words: message };
  return refusalProblem({ ...refused, rule: message, column: named }, { table, id }, definition);
}

/** The message of a foreign key that is checked when a transaction ends, as {@link Store.refusalOf} has it. */
export function refusalOf(error: unknown): Problem | undefined {
  const found = constraintProblem(error, { table: '', id: '' }, undefined);
  if (found?.code !== 'no-such-reference') return undefined;
  return serverProblemOf({ tables: {} }, found.code, {}, 'reference-at-end', {}, found.rule);
}
