import type { Problem, Schema, UploadedTransaction, WireChange } from '@koinon/core';
import { idProblem, serverProblemOf } from '@koinon/core/internal';

// The problems for which an uploaded transaction is refused before its rows are looked at.

const unlabelled = { tables: {} };

/** Nobody knows any more whether a transaction was applied. */
export function forgottenOutcome({ editedAt }: UploadedTransaction): Problem {
  return serverProblemOf(unlabelled, 'outcome-unknown', {}, 'outcome-unknown', { time: editedAt });
}

/** A table the server does not keep, or columns it does not know: found before the change can be read at all. */
export function unreadableProblems(schema: Schema, change: WireChange): Problem[] {
  const { table: tableName, id } = change;
  const table = Object.hasOwn(schema.tables, tableName) ? schema.tables[tableName] : undefined;
  if (table === undefined)
    return [serverProblemOf(schema, 'unknown-table', { table: tableName, id }, 'unknown-table', { name: tableName })];
  // A database may not be able to look for such an id at all.
  const wrongId = idProblem(schema, change);
  if (wrongId) return [wrongId];
  const unknown: string[] = [];
  for (const named of [change.columns, change.operations])
    for (const name in named) if (!Object.hasOwn(table.columns, name)) unknown.push(name);
  return unknown.map((column) => {
    const parameters = { name: tableName, value: column };
    return serverProblemOf(
      schema,
      'unknown-column',
      { table: tableName, id, column },
      'unknown-column-there',
      parameters,
    );
  });
}

/** The id stands for another transaction. */
export function reusedId(): Problem {
  return serverProblemOf(unlabelled, 'transaction-id-reused', {}, 'transaction-id-reused');
}

/** A transaction has more than is taken. */
export function tooLarge(what: 'bytes' | 'changes', limit: number): Problem {
  return serverProblemOf(unlabelled, 'too-large', {}, `transaction-${what}`, { limit });
}

/** Problems of one transaction that are remembered, and characters of each of their texts. */
const kept = { problems: 100, characters: 500 };

/** The part of a refusal that is remembered: enough to tell a person why, whatever the request was. */
export function problemsKept(problems: readonly Problem[]): readonly Problem[] {
  return problems.slice(0, kept.problems).map(({ sentence, parameters, ...problem }) => {
    const isShort = JSON.stringify(parameters ?? {}).length <= kept.characters;
    return {
      ...problem,
      message: problem.message.slice(0, kept.characters),
      ...(problem.rule === undefined ? {} : { rule: problem.rule.slice(0, kept.characters) }),
      ...(sentence !== undefined && parameters !== undefined && isShort ? { sentence, parameters } : {}),
    };
  });
}
