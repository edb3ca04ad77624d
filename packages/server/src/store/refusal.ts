import type { ErrorCode, Problem, RowKey, Table } from '@koinon/core';
import { type ServerSentenceName, serverProblemOf } from '@koinon/core/internal';

/** A refusal by the database itself, as one of its dialects has read it. */
export interface Refusal {
  readonly code: ErrorCode;
  /** The name of the sentence's part after its subject. */
  readonly says: ServerSentenceName;
  /** The database's own words or the constraint's name: for programs, since they name what a person does not know. */
  readonly rule: string;
  readonly column?: string | undefined;
  /** A text that somebody wrote for people, into a trigger say. */
  readonly words?: string | undefined;
}

/** A refusal by the database in the form that all refusals have. @param table undefined where it is not known. */
export function refusalProblem(refusal: Refusal, key: RowKey, table: Table | undefined): Problem {
  const { code, says, rule, column, words } = refusal;
  const subject = column === undefined ? 'row' : 'column';
  const labels = { tables: table === undefined ? {} : { [key.table]: table } };
  const place = { ...key, ...(column === undefined ? {} : { column }) };
  return words === undefined
    ? serverProblemOf(labels, code, place, `${subject}-refused`, { says }, rule)
    : serverProblemOf(
        labels,
        code,
        place,
        `${subject}-refused-because`,
        { says, words: words.replace(/\.$/, '') },
        rule,
      );
}
