import { type Schema, tableOf } from '@koinon/core';
import { answeredBy } from '@koinon/core/internal';
import type { StepName } from '../engine/steps.ts';

/** A query for the server: its rows, how many there are, or a summary of them. */
export interface Question {
  readonly kind: 'rows' | 'count' | 'summary';
  readonly query: unknown;
}

/** The answer to a question about one row by its id. */
export interface RowQuestion extends Question {
  readonly isOne: true;
}

/**
 * The question that a reading step puts to the server, its table being held there; undefined for one that the device answers.
 *
 * @throws KoinonError `query-mixed` for a query that joins tables of both; `unknown-table`.
 */
export function questionOf(
  schema: Schema,
  name: StepName,
  given: readonly unknown[],
): Question | RowQuestion | undefined {
  const [first, second] = given;
  if (name === 'get')
    return tableOf(schema, String(first)).home === 'server'
      ? { kind: 'rows', query: { from: first, where: { id: second } }, isOne: true }
      : undefined;
  if (name !== 'rows' && name !== 'count' && name !== 'summary') return undefined;
  return answeredBy(schema, first) === 'server' ? { kind: name, query: first } : undefined;
}
