import { limits, type RowKey } from '@koinon/core';
import { HeldRows, joinTransactions, rowKey, touchedBy } from '@koinon/core/internal';
import type { OutboxTransaction } from '../outbox/outbox.ts';
import { join } from '../outbox/rewriting.ts';
import { drop, rowsOf, transactionsOf } from '../outbox/transactions.ts';
import { showAnew } from './show.ts';
import type { Undoing } from './undo.ts';

/** The effect of a local transaction on refused ones: see {@link sendAgainWith}. */
export type ReplaceRejected = (at: Undoing, sequence: number) => void;

/**
 * A local transaction that edits rows of refused ones corrects them: they go up again with it, as one, and so do those between
 * that depend on them. None of it can be applied without the rest. Each stays a transaction of its own in the outbox: when
 * the correction is taken back, what was refused is refused as before.
 *
 * One that only deletes such a row waits behind them, unless nothing is left to do then: else the other half of what was
 * refused would go up.
 *
 * @param sequence the place of the local transaction, which is the last one.
 */
export const sendAgainWith: ReplaceRejected = (at, sequence) => {
  const { schema, outbox, host } = at;
  const isRefused = ({ table, id }: RowKey) =>
    outbox.places.of(table, id).length > 1 && outbox.changesOf(table, id).some(({ state }) => state === 'rejected');
  // All that waits is gone through only where a refused row is edited.
  if (!rowsOf(outbox, sequence).some(isRefused)) return;
  const queued = [...transactionsOf(outbox, 'pending', 'rejected')];
  const edit = queued.at(-1);
  if (edit?.sequence !== sequence) return;
  const edited = new Set(edit.changes.map(rowKey));
  const refused = new Set(
    queued.flatMap(({ state, changes, id }) =>
      state === 'rejected' && changes.some((change) => edited.has(rowKey(change))) ? [id] : [],
    ),
  );
  if (refused.size === 0) return;
  const members: OutboxTransaction[] = [];
  const held = new HeldRows<true>(schema);
  for (const transaction of queued) {
    const touched = touchedBy(transaction);
    if (!refused.has(transaction.id) && held.causeOf(touched) === undefined) continue;
    members.push(transaction);
    held.add(touched, true);
  }
  // An action is not run along with others: its refusal is settled by itself.
  if (members.some(({ actions }) => actions.length > 0)) return;
  // More than one request may name: they wait, and are listed.
  if (members.length > limits.origins) return;
  const deleted = edit.changes.filter(({ kind }) => kind === 'delete').map(rowKey);
  const isOfRefused = members.some(
    ({ id, changes }) => refused.has(id) && changes.some((change) => deleted.includes(rowKey(change))),
  );
  if (isOfRefused) {
    const left = joinTransactions(
      schema,
      members.map(({ changes }) => changes),
    );
    if (left.length > 0) return;
    for (const member of members) drop(outbox, member.sequence, 'taken back');
    for (const change of members.flatMap(({ changes }) => changes)) showAnew(at, change);
    return;
  }
  join(
    outbox,
    members.map(({ sequence }) => sequence),
    host.newId(),
  );
};
