import { type Problem, type RowStatus, referencesOf, tableOf } from '@koinon/core';
import { transactionsOf } from '../outbox/transactions.ts';
import { rowState } from './row-state.ts';
import type { Overlay } from './show.ts';

const synced: RowStatus = Object.freeze({
  status: 'synced',
  isNew: false,
  changed: Object.freeze([]) as readonly string[],
  base: null,
  problems: Object.freeze([]) as readonly Problem[],
  waitsFor: null,
});

const keyOf = (table: string, id: string) => `${table}\0${id}`;

/** Tells the status of rows, for one query: the cost follows the rows that have changes, which are few. */
export function statusReader(overlay: Overlay): (table: string, id: string) => RowStatus {
  const { outbox, conflicts } = overlay;
  const conflicted = new Set(conflicts.list().map(({ table, id }) => keyOf(table, id)));
  const isHeldUp = conflicted.size > 0 || outbox.hasRejected();
  let waiting: Waiting | undefined;
  return (table, id) => {
    if (!outbox.hasChangesOf(table, id)) return synced;
    const unconfirmed = outbox.changesOf(table, id).filter(({ state }) => state !== 'confirmed');
    if (unconfirmed.length === 0) return synced;
    if (isHeldUp) waiting ??= waitingFor(overlay, conflicted);
    const isRejected = unconfirmed.some(({ state }) => state === 'rejected');
    const { base, changed } = rowState(overlay, table, id);
    const found = waiting;
    const problems = isRejected
      ? unconfirmed.flatMap(({ transaction }) =>
          [transaction, `${transaction}\0${keyOf(table, id)}`].flatMap((key) => found?.problems.get(key) ?? []),
        )
      : [];
    return {
      status: conflicted.has(keyOf(table, id)) ? 'conflicted' : isRejected ? 'rejected' : 'pending',
      isNew: base === null,
      changed,
      base,
      problems,
      waitsFor:
        unconfirmed.map(({ transaction }) => waiting?.held.get(transaction)).find((row) => row !== undefined) ?? null,
    };
  };
}

interface Waiting {
  /** The problems of refused transactions: of one row by transaction, table and id, of a whole one by its own id. */
  readonly problems: ReadonlyMap<string, readonly Problem[]>;
  /** The row that holds a transaction up, by the transaction's id. */
  readonly held: ReadonlyMap<string, { readonly table: string; readonly id: string }>;
}

/** Goes through the outbox once: what is held up holds up what touches or references its rows. */
function waitingFor({ schema, outbox }: Overlay, conflicted: ReadonlySet<string>): Waiting {
  const problems = new Map<string, Problem[]>();
  const held = new Map<string, { readonly table: string; readonly id: string }>();
  const rows = new Map<string, { readonly table: string; readonly id: string }>();
  for (const transaction of transactionsOf(outbox, 'pending', 'rejected')) {
    const { id, state, changes } = transaction;
    for (const problem of transaction.problems) {
      const key = problem.id === undefined ? id : `${id}\0${keyOf(String(problem.table), problem.id)}`;
      const known = problems.get(key);
      if (known) known.push(problem);
      else problems.set(key, [problem]);
    }
    const own = changes.find((change) => conflicted.has(keyOf(change.table, change.id)));
    const cause =
      state === 'rejected'
        ? changes[0]
        : (own ??
          changes
            .flatMap((change) => [change, ...referencesOf(tableOf(schema, change.table), change)])
            .map((touched) => rows.get(keyOf(touched.table, touched.id)))
            .find((row) => row !== undefined));
    if (cause === undefined) continue;
    const row = { table: cause.table, id: cause.id };
    if (state !== 'rejected' && own === undefined) held.set(id, row);
    for (const change of changes) rows.set(keyOf(change.table, change.id), row);
  }
  return { problems, held };
}
