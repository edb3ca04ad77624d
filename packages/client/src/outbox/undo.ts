import { errorFromProblems, KoinonError, tableOf } from '@koinon/core';
import type { Host } from '../host/host.ts';
import { type Overlay, showAnew } from '../overlay/show.ts';
import { type Integrity, integrityProblems } from '../tables/integrity.ts';
import { joined, type Outbox, type OutboxTransaction, type StoredChange } from './outbox.ts';
import { removeChanges } from './rewriting.ts';
import { drop, rowsOf, transactionsOf } from './transactions.ts';

/** What undoing works on. Runs inside a transaction. */
export interface Undoing extends Overlay, Integrity {
  readonly host: Host;
}

/** Takes back everything done to a row that the server has not confirmed; the row is what the server last gave. */
export function revertRow(at: Undoing, tableName: string, id: string): void {
  tableOf(at.schema, tableName);
  const changes = at.outbox.changesOf(tableName, id).filter(({ state }) => state !== 'confirmed');
  // Without changes there is no base to go back to: the row is what the server gave.
  if (changes.length === 0) return;
  if (changes.some(({ state }) => state === 'attempted')) throw alreadySent(`The change of ${tableName} ${id}`);
  for (const sequence of new Set(changes.map((change) => change.sequence))) {
    removeChanges(at.outbox, sequence, tableName, id, at.host.newId());
  }
  showAnew(at, tableName, id);
  checkTouched(at, [{ table: tableName, id }]);
}

/** Takes back everything the server has not confirmed. Returns how many rows that touched. */
export function revertAll(at: Undoing): number {
  if (at.outbox.count('attempted') > 0) throw alreadySent('A change');
  const touched = new Map<string, { readonly table: string; readonly id: string }>();
  for (const transaction of [...transactionsOf(at.outbox, 'pending', 'rejected')]) {
    for (const { table, id } of transaction.changes) touched.set(JSON.stringify([table, id]), { table, id });
    drop(at.outbox, transaction.sequence);
  }
  for (const { table, id } of touched.values()) showAnew(at, table, id);
  return touched.size;
}

/** Takes back the last local transaction, while it has not been sent. Returns the rows it had changed. */
export function undoLast(at: Undoing): readonly { readonly table: string; readonly id: string }[] {
  const last = lastOf(at.outbox);
  if (last === undefined)
    throw new KoinonError('nothing-to-undo', 'There is nothing to undo: no change is waiting to be sent.');
  if (last.state === 'attempted' || last.state === 'confirmed') throw alreadySent('The last change');
  const rows = rowsOf(at.outbox, last.sequence);
  drop(at.outbox, last.sequence);
  for (const { table, id } of rows) showAnew(at, table, id);
  checkTouched(at, rows);
  return rows;
}

/** The last transaction in the list. */
function lastOf({ database }: Outbox): Pick<OutboxTransaction, 'sequence' | 'state'> | undefined {
  const found = database.statement(`${joined} ORDER BY c.place DESC LIMIT 1`).get() as StoredChange | undefined;
  return found && { sequence: found.sequence, state: found.state ?? 'pending' };
}

/** Refuses what the touched rows break together. */
export function checkTouched(at: Integrity, touched: readonly { readonly table: string; readonly id: string }[]): void {
  const [first, ...rest] = integrityProblems(at, touched);
  if (first) throw errorFromProblems([first, ...rest]);
}

/** What cannot be taken back any more. */
export function alreadySent(what: string): KoinonError {
  return new KoinonError(
    'already-sent',
    `${what} has been sent to the server already. Change the row again instead of taking the change back.`,
  );
}
