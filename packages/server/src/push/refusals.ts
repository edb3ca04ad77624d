import type { Problem, Schema, UploadedTransaction, WireChange } from '@koinon/core';
import { checkId, shown } from '@koinon/core/internal';

// The problems for which an uploaded transaction is refused before its rows are looked at.

/** Nobody knows any more whether a transaction was applied. */
export function forgottenOutcome({ editedAt }: UploadedTransaction): Problem {
  return {
    code: 'outcome-unknown',
    message: `This edit of ${editedAt} was sent so long ago that the server no longer knows whether it was applied. Look at the row as it is now, then make the edit again or take it back.`,
  };
}

/** A table the server does not keep, or columns it does not know: found before the change can be read at all. */
export function unreadableProblems(schema: Schema, change: WireChange): Problem[] {
  const { table: tableName, id } = change;
  const table = Object.hasOwn(schema.tables, tableName) ? schema.tables[tableName] : undefined;
  if (table === undefined)
    return [{ code: 'unknown-table', table: tableName, id, message: `The server keeps no table ${tableName}.` }];
  // A database may not be able to look for such an id at all.
  const wrongId = checkId(id);
  if (wrongId) {
    const message = `The id ${shown(id)} of a row of ${table.label ?? tableName} cannot be used: ${wrongId.rule}.`;
    return [{ code: wrongId.code, table: tableName, id, column: 'id', message, rule: wrongId.rule }];
  }
  const unknown: string[] = [];
  for (const named of [change.columns, change.operations])
    for (const name in named) if (!Object.hasOwn(table.columns, name)) unknown.push(name);
  return unknown.map((column) => ({
    code: 'unknown-column',
    table: tableName,
    id,
    column,
    message: `Table ${tableName} has no column ${column}.`,
  }));
}

/** The id stands for another transaction. */
export function reusedId(): Problem {
  return {
    code: 'transaction-id-reused',
    message: 'A transaction of this id was taken up before with other changes; a changed transaction needs a new id.',
  };
}

/** A transaction has more than is taken. @param most as people read it. */
export function tooLarge(most: string): Problem {
  return { code: 'too-large', message: `A transaction takes ${most} at most. Make several of it.` };
}

/** Problems of one transaction that are remembered, and characters of each of their texts. */
const kept = { problems: 100, characters: 500 };

/** The part of a refusal that is remembered: enough to tell a person why, whatever the request was. */
export function problemsKept(problems: readonly Problem[]): readonly Problem[] {
  return problems.slice(0, kept.problems).map((problem) => ({
    ...problem,
    message: problem.message.slice(0, kept.characters),
    ...(problem.rule === undefined ? {} : { rule: problem.rule.slice(0, kept.characters) }),
  }));
}
