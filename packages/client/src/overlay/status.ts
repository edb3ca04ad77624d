import type { Problem, RowKey, RowStatus } from '@koinon/core';
import { HeldRows, rowKey, touchedBy } from '@koinon/core/internal';
import { isUnsupported, unsupportedColumns } from '../database/asked-columns.ts';
import { meta } from '../database/layout.ts';
import { conflictedIn, transactionsOf } from '../outbox/transactions.ts';
import { rowState } from './row-state.ts';
import type { Overlay } from './show.ts';

const synced: RowStatus = Object.freeze({
  status: 'synced',
  isNew: false,
  changed: Object.freeze([]) as readonly string[],
  base: null,
  problems: Object.freeze([]) as readonly Problem[],
  blockedBy: null,
  waitsForSchema: null,
});

/** Tells the status of rows, for one query: the cost follows the rows that have changes, which are few. */
export function statusReader(overlay: Overlay): (table: string, id: string) => RowStatus {
  const { schema, outbox, conflicts } = overlay;
  const { database } = outbox;
  const conflicted = new Set(conflicts.list().map(rowKey));
  const isHeldUp = conflicted.size > 0 || outbox.hasRejected();
  const unsupported = unsupportedColumns(database);
  const older = Number(meta(database, 'server schema') ?? 0) > schema.version ? 'app' : 'server';
  let waiting: Waiting | undefined;
  return (table, id) => {
    if (!outbox.isOverlaid(table, id)) return synced;
    const predicted = outbox.predictions
      .of(table, id)
      .map(({ transaction, ...each }) => ({ ...each, id: transaction }));
    const unconfirmed = [...outbox.changesOf(table, id), ...predicted].filter(({ state }) => state !== 'confirmed');
    if (unconfirmed.length === 0) return synced;
    if (isHeldUp) waiting ??= waitingFor(overlay);
    const isRejected = unconfirmed.some(({ state }) => state === 'rejected');
    const { base, changed } = rowState(overlay, table, id);
    const found = waiting;
    const problems = isRejected
      ? [...new Set(unconfirmed.map((each) => each.id))].flatMap((transaction) =>
          [transaction, `${transaction}\0${rowKey({ table, id })}`].flatMap((key) => found?.problems.get(key) ?? []),
        )
      : [];
    return {
      status: conflicted.has(rowKey({ table, id })) ? 'conflicted' : isRejected ? 'rejected' : 'pending',
      isNew: base === null,
      changed,
      base,
      problems,
      blockedBy:
        unconfirmed.map(({ sequence }) => waiting?.waiting.get(sequence)).find((row) => row !== undefined) ?? null,
      waitsForSchema: unconfirmed.some(({ change }) => isUnsupported(schema, unsupported, change)) ? older : null,
    };
  };
}

interface Waiting {
  /** The problems of refused transactions: of one row by transaction, table and id, of a whole one by its own id. */
  readonly problems: ReadonlyMap<string, readonly Problem[]>;
  /** The row that holds a transaction up, by the transaction's place. */
  readonly waiting: ReadonlyMap<number, RowKey>;
}

/** Goes through the outbox once: what is held up holds up what touches or references its rows. */
function waitingFor({ schema, outbox }: Overlay): Waiting {
  const problems = new Map<string, Problem[]>();
  const waiting = new Map<number, RowKey>();
  const held = new HeldRows<RowKey>(schema);
  for (const transaction of transactionsOf(outbox, 'pending', 'rejected')) {
    const { id, sequence, state, isConflicted } = transaction;
    const touched = touchedBy(transaction);
    for (const problem of transaction.problems) {
      const key = problem.id === undefined ? id : `${id}\0${rowKey({ table: String(problem.table), id: problem.id })}`;
      const known = problems.get(key);
      if (known) known.push(problem);
      else problems.set(key, [problem]);
    }
    const first = touched[0];
    const own = state === 'rejected' ? first : isConflicted ? conflictedIn(outbox, sequence) : undefined;
    const cause = own ?? held.causeOf(touched);
    if (cause === undefined) continue;
    const row = { table: cause.table, id: cause.id };
    if (own === undefined) waiting.set(sequence, row);
    held.add(touched, row);
  }
  return { problems, waiting };
}
