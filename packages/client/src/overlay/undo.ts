import { KoinonError, type RowKey, tableOf } from '@koinon/core';
import {
  actionLabel,
  errorFromProblems,
  HeldRows,
  rowKey,
  rowLabel,
  rowLabels,
  sentence,
  touchedBy,
} from '@koinon/core/internal';
import { dataVersion } from '../database/read-only.ts';
import type { Host } from '../host/host.ts';
import type { OutboxTransaction, Undone } from '../outbox/outbox.ts';
import { dissolve, rewrite } from '../outbox/rewriting.ts';
import { placesOfSent } from '../outbox/sending.ts';
import { drop, lastTransaction, rowsOf, rowsShownBy, transactionsFrom } from '../outbox/transactions.ts';
import { type Integrity, integrityProblems } from '../rows/integrity.ts';
import { type Overlay, showAnew } from './show.ts';

/** The parts that taking back works on. Runs inside a transaction. */
export interface Undoing extends Overlay, Integrity {
  readonly host: Host;
}

/** The transactions that are taken back besides the rows that are named. */
export interface TakingBack {
  /**
   * For a transaction that has changed other rows as well: all of it goes, or these rows alone leave it. Without it,
   * `transaction-shared` is thrown where there is such a transaction.
   */
  readonly transactions?: 'whole' | 'these rows only';
  /** Later transactions that touch or reference what is taken back go, too. Without it, `change-needed` is thrown. */
  readonly dependent?: 'take back';
}

/** Takes back everything done to some rows that the server has not confirmed; they are what the server last gave. */
export function revertRows(at: Undoing, rows: readonly RowKey[], how: TakingBack = {}): void {
  const { outbox, host } = at;
  const named = new Set(rows.map(rowKey));
  const sequences = new Set<number>();
  for (const { table, id } of rows) {
    tableOf(at.schema, table);
    for (const { state, sequence } of [...outbox.changesOf(table, id), ...outbox.predictions.of(table, id)]) {
      if (state === 'attempted')
        throw alreadySent(`The change of ${rowLabel(at.schema, { table, id }, at.rows.get(table, id))}`);
      if (state !== 'confirmed') sequences.add(sequence);
    }
  }
  // Without changes there is no base to go back to: the row is what the server gave.
  if (sequences.size === 0) return;
  const others = [...sequences]
    .flatMap((sequence) => rowsOf(outbox, sequence))
    .filter((row) => !named.has(rowKey(row)));
  const actions = [...transactionsFrom(outbox, Math.min(...sequences), 'pending', 'rejected')].flatMap((transaction) =>
    sequences.has(transaction.sequence) ? transaction.actions.map(({ name }) => name) : [],
  );
  const isShared = others.length > 0 || actions.length > 0;
  if (isShared && how.transactions === undefined) throw shared(at, rows[0] as RowKey, others, actions);
  if (how.transactions === 'whole' || !isShared) {
    takeBack(at, ({ sequence }) => sequences.has(sequence), how, Math.min(...sequences));
    return;
  }
  for (const { table, id } of rows) {
    const changes = outbox.changesOf(table, id).filter(({ state }) => state !== 'confirmed');
    if (changes.length === 0) continue;
    const none = changes.map(() => ({ change: undefined, typedOver: new Map() }));
    rewrite(outbox, changes, none, host, 'taken back');
    showAnew(at, { table, id });
  }
  forgetDecisions(at, rows);
  checkTouched(at, rows);
}

/** Takes back everything the server has not confirmed. Returns how many rows that touched. */
export function revertAll(at: Undoing): number {
  if (at.outbox.count('attempted') > 0) throw alreadySent('A change');
  return takeBack(at, () => true, {}, Number.MIN_SAFE_INTEGER + 1).length;
}

/** How many transactions can be done again: they are in memory. */
const mostUndone = 100;

/** Takes back the last local transaction, while it has not been sent. Returns the rows it had changed. */
export function undoLast(at: Undoing): readonly RowKey[] {
  const { database } = at.outbox;
  const last = lastTransaction(at.outbox);
  if (last === undefined)
    throw new KoinonError('nothing-to-undo', 'There is nothing to undo: no change is waiting to be sent.');
  if (last.state !== null && last.state !== 'pending' && last.state !== 'rejected')
    throw alreadySent('The last change');
  const { outbox } = at;
  const undone: Taken[] = [];
  const rows = takeBack(at, ({ sequence }) => sequence === last.place, {}, last.place, undone);
  const version = dataVersion(database);
  outbox.undone.push(...undone.map((each) => ({ ...each, version })));
  outbox.undone.splice(0, outbox.undone.length - mostUndone);
  return rows;
}

/** Drops a refused transaction whole, under the id that {@link Rejection} gives it. */
export function discardRefused(
  at: Undoing,
  transaction: string,
  how: Pick<TakingBack, 'dependent'> = {},
): readonly RowKey[] {
  const isIt = ({ id, state }: OutboxTransaction) => id === transaction && state === 'rejected';
  const taken: Taken[] = [];
  const rows = takeBack(at, isIt, how, placesOfSent(at.outbox, transaction)[0] ?? Number.MAX_SAFE_INTEGER, taken);
  // An action may show on no row.
  if (taken.length > 0) return rows;
  throw new KoinonError('nothing-to-undo', `The server has refused no transaction ${transaction}.`, {
    value: transaction,
  });
}

/** A transaction that is taken back, with the rows on which it showed. */
type Taken = Omit<OutboxTransaction, 'actions'> & Pick<Undone, 'actions'> & { readonly rows: readonly RowKey[] };

/**
 * Drops whole transactions, and with consent those that depend on them. Returns the rows they had changed.
 *
 * @param from the place of the first of them.
 */
function takeBack(
  at: Undoing,
  isMeant: (transaction: OutboxTransaction) => boolean,
  { dependent }: Pick<TakingBack, 'dependent'>,
  from: number,
  taken: Taken[] = [],
): RowKey[] {
  const { schema, outbox } = at;
  const held = new HeldRows<true>(schema);
  const needing: RowKey[] = [];
  for (const transaction of transactionsFrom(outbox, from, 'pending', 'attempted', 'rejected')) {
    const { state, sequence } = transaction;
    const touched = touchedBy(transaction);
    const depends = !isMeant(transaction) && held.causeOf(touched) !== undefined;
    if (!depends && !isMeant(transaction)) continue;
    if (depends) needing.push(...touched.map(({ table, id }) => ({ table, id })));
    if (state === 'attempted' && (!depends || dependent)) throw alreadySent('A change');
    held.add(touched, true);
    const actions = transaction.actions.map((action) => ({
      ...action,
      predicted: outbox.predictions.changesOf(action.place),
    }));
    taken.push({ ...transaction, actions, rows: rowsShownBy(outbox, sequence) });
  }
  if (needing.length > 0 && dependent === undefined) throw needed(at, needing);
  const rows = new Map<string, RowKey>();
  for (const { sequence, id, rows: shown, wasSent } of taken) {
    for (const row of shown) rows.set(rowKey(row), row);
    drop(outbox, sequence, 'taken back');
    if (wasSent) dissolve(outbox, id, () => at.host.newId());
  }
  const touched = [...rows.values()];
  for (const row of touched) showAnew(at, row);
  forgetDecisions(at, touched);
  checkTouched(at, touched);
  return touched;
}

/** A decision about rows cannot be taken back once what was decided about is gone. */
function forgetDecisions({ database }: Undoing, rows: readonly RowKey[]): void {
  const forget = database.statement('DELETE FROM koinon_resolved WHERE table_name = ? AND row_id = ?');
  for (const { table, id } of rows) forget.run(table, id);
}

/** Refuses what the touched rows break together. */
export function checkTouched(at: Integrity, touched: readonly RowKey[]): void {
  const [first, ...rest] = integrityProblems(at, touched);
  if (first) throw errorFromProblems([first, ...rest]);
}

/** The error for something that cannot be taken back any more. */
export function alreadySent(what: string): KoinonError {
  return new KoinonError(
    'already-sent',
    `${what} has been sent to the server already. Change the row again instead of taking the change back.`,
  );
}

function shared(
  at: Undoing,
  { table, id }: RowKey,
  others: readonly RowKey[],
  actions: readonly string[],
): KoinonError {
  const named = [
    ...(others.length > 0 ? [namesOf(at, others)] : []),
    ...actions.map((name) => `the action "${actionLabel(at.schema, name)}"`),
  ];
  return new KoinonError(
    'transaction-shared',
    `${sentence(rowLabel(at.schema, { table, id }, at.rows.get(table, id)))} was changed together with ${named.join(', ')}. Say whether the whole transactions are taken back (transactions: 'whole') or these rows alone ('these rows only'). Nothing was taken back.`,
    { table, id },
  );
}

function needed(at: Undoing, rows: readonly RowKey[]): KoinonError {
  return new KoinonError(
    'change-needed',
    `Later changes build on this one: ${namesOf(at, rows)}. Take them back as well (dependent: 'take back'), or first. Nothing was taken back.`,
    rows[0],
  );
}

function namesOf({ schema, rows: held }: Undoing, rows: readonly RowKey[]): string {
  return rowLabels(
    schema,
    rows.map(({ table, id }) => ({ table, id, row: held.get(table, id) })),
  );
}
