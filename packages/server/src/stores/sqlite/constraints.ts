import type { Change, Problem } from '@koinon/core';

/** SQLite's primary result code for a constraint, and the words its messages begin with. */
const constraintCode = 19;
const kinds = [
  { begins: 'UNIQUE constraint failed: ', code: 'duplicate-value', says: 'is taken by another row' },
  { begins: 'NOT NULL constraint failed: ', code: 'value-missing', says: 'a value is required' },
  {
    begins: 'FOREIGN KEY constraint failed',
    code: 'no-such-reference',
    says: 'refers to a row that is not there, or is referred to',
  },
  { begins: 'CHECK constraint failed: ', code: 'constraint', says: 'breaks a rule of the table' },
  { begins: 'cannot store ', code: 'value-type', says: 'has a value of another type' },
] as const;

/**
 * What a constraint of the database says, in the form all refusals have; undefined for any other error.
 *
 * @param columnNames names of columns in the database, where they are others than in the schema.
 */
export function constraintProblem(
  error: unknown,
  change: Pick<Change, 'table' | 'id'>,
  columnNames: Readonly<Record<string, string>> = {},
): Problem | undefined {
  const { errcode, message } = error as { errcode?: number; message?: string };
  if (!(error instanceof Error) || message === undefined) return undefined;
  const kind = kinds.find(({ begins }) => message.startsWith(begins));
  if (kind === undefined && (Number(errcode) & 0xff) !== constraintCode) return undefined;
  const { table, id } = change;
  const there = kind?.begins.endsWith(': ') ? /^[^:]*: (?:[^.,]*\.)?([^.,]+)/.exec(message)?.[1] : undefined;
  const column = Object.entries(columnNames).find(([, name]) => name === there)?.[0] ?? there;
  const named = kind?.code === 'duplicate-value' || kind?.code === 'value-missing' ? column : undefined;
  return {
    code: kind?.code ?? 'constraint',
    table,
    id,
    ...(named === undefined ? {} : { column: named }),
    rule: message,
    message: `${table} ${id}: ${named ?? 'the row'} ${kind?.says ?? 'was refused by the database'} (${message}).`,
  };
}
