import type { Change, Schema } from '@koinon/core';
import { HeldRows, joinTransactions, touchedBy } from '@koinon/core/internal';
import { type ColumnNames, isUnsupported } from '../database/asked-columns.ts';
import { awaitedRows } from '../database/holding-list.ts';
import type { Outbox, OutboxTransaction } from './outbox.ts';
import { endOf, transactionsOf } from './transactions.ts';

/** One transaction of a request: one of the outbox, or several that are joined for it. */
export interface Unit {
  readonly id: string;
  readonly editedAt: number;
  readonly transactions: readonly [OutboxTransaction, ...OutboxTransaction[]];
  readonly changes: readonly Change[];
}

/** The transactions that can be chosen. */
export interface Waiting {
  readonly schema: Schema;
  readonly outbox: Outbox;
  /** Columns that the server does not know. */
  readonly unsupported: ColumnNames;
  /** The transactions that the server could not write just now, by id: they come again with the next sync. */
  readonly waiting: ReadonlySet<string>;
}

/**
 * The units that may be sent, in order. One that waits for a person (a conflict, a rejection), or for a server that knows its
 * columns or can write it, is left out, and so is every later one that touches or references a row of one left out; the
 * others go on.
 */
export function* ready({ schema, outbox, unsupported, waiting }: Waiting): Generator<Unit> {
  const held = new HeldRows<true>(schema);
  // Others may have written a row that is asked for: it is merged first.
  held.add(awaitedRows(outbox.database), true);
  const open = new Map<string, OutboxTransaction[]>();
  const sizes = unitSizes(outbox);
  for (const transaction of transactionsOf(outbox, 'pending', 'rejected')) {
    const { id, wasSent } = transaction;
    const size = wasSent ? (sizes.get(id) ?? 1) : 1;
    const members = open.get(id) ?? [];
    members.push(transaction);
    open.set(id, members);
    if (members.length < size) continue;
    open.delete(id);
    const waits = members.some(
      (member) =>
        member.state === 'rejected' ||
        member.isConflicted ||
        member.isOverPrediction ||
        waiting.has(id) ||
        held.causeOf(touchedBy(member)) !== undefined ||
        member.changes.some((change) => isUnsupported(schema, unsupported, change)),
    );
    if (waits) for (const member of members) held.add(touchedBy(member), true);
    else yield unitOf(schema, id, members as [OutboxTransaction, ...OutboxTransaction[]]);
  }
}

/** How many transactions go up as one, by their id, where they are several. */
function unitSizes({ database }: Outbox): ReadonlyMap<string, number> {
  const text = `SELECT id, count(*) AS size FROM koinon_outbox
    WHERE state IS NOT NULL AND state IN ('pending', 'rejected') GROUP BY id HAVING count(*) > 1`;
  const rows = database.statement(text).all() as { id: string; size: number }[];
  return new Map(rows.map(({ id, size }) => [id, size]));
}

function unitOf(schema: Schema, id: string, transactions: readonly [OutboxTransaction, ...OutboxTransaction[]]): Unit {
  const [first, ...others] = transactions;
  const { editedAt } = others.at(-1) ?? first;
  const changes =
    others.length === 0
      ? first.changes
      : joinTransactions(
          schema,
          transactions.map((each) => each.changes),
        );
  return { id, editedAt, transactions, changes };
}

/** A change that may hold bytes counts for so many, since all that are joined are in memory. */
const bytesCountFor = 100;

/**
 * Joins the next transactions for one request, so that only the latest state of each row goes up: whole ones that were never
 * sent and follow on each other. The outbox itself stays as it was typed.
 *
 * @param most changes that are joined.
 * @returns undefined where there is nothing to join.
 */
export function joinNext(waiting: Waiting, most: number, newId: () => string): Unit | undefined {
  const { schema, outbox } = waiting;
  const run: OutboxTransaction[] = [];
  let changes = 0;
  for (const { transactions } of ready(waiting)) {
    const [next] = transactions;
    const before = run.at(-1);
    for (const { table } of next.changes) changes += schema.tables[table]?.hasBytes ? bytesCountFor : 1;
    const follows = before === undefined || isNext(outbox, before, next);
    // The server runs an action at its place between the changes.
    if (next.wasSent || next.actions.length > 0 || !follows || (before && changes > most)) break;
    run.push(next);
  }
  const [first, second, ...others] = run;
  if (first === undefined || second === undefined) return undefined;
  return unitOf(schema, newId(), [first, second, ...others]);
}

/** Tells whether no other transaction stands between two. */
function isNext(outbox: Outbox, { sequence, changes }: OutboxTransaction, next: OutboxTransaction): boolean {
  // If the changes of the first fill the places up to the second, there is no need to look.
  return sequence + changes.length + 1 === next.sequence || endOf(outbox, sequence) === next.sequence;
}
