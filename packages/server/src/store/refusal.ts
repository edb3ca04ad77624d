import type { ErrorCode, Problem, RowKey, Table } from '@koinon/core';
import { labelOf, rowLabel, sentence } from '@koinon/core/internal';

/** A refusal by the database itself, as one of its dialects has read it. */
export interface Refusal {
  readonly code: ErrorCode;
  /** The sentence after its subject, without a full stop. */
  readonly says: string;
  /** The database's own words or the constraint's name: for programs, since they name what a person does not know. */
  readonly rule: string;
  readonly column?: string | undefined;
  /** A text that somebody wrote for people, into a trigger say. */
  readonly words?: string | undefined;
}

/** A refusal by the database in the form that all refusals have. @param table undefined where it is not known. */
export function refusalProblem(refusal: Refusal, key: RowKey, table: Table | undefined): Problem {
  const { code, says, rule, column, words } = refusal;
  const subject =
    column === undefined
      ? sentence(rowLabel({ tables: table === undefined ? {} : { [key.table]: table } }, key))
      : labelOf(table, key.table, column);
  return {
    code,
    ...key,
    ...(column === undefined ? {} : { column }),
    rule,
    message: `${subject} ${says}${words === undefined ? '' : `: ${words.replace(/\.$/, '')}`}.`,
  };
}
