import { type Change, limits, type PushRequest, type UploadedTransaction } from '@koinon/core';
import { changeToWire, rowKey } from '@koinon/core/internal';
import { type ColumnNames, withoutUnasked, withoutUnsupported } from '../database/asked-columns.ts';
import type { Outbox, QueuedChange } from './outbox.ts';
import { changesFrom, placesOfSent } from './sending.ts';
import { ready, type Unit, type Waiting } from './unit.ts';

/** The request that goes up next. */
export interface Batch {
  readonly request: PushRequest;
  /** Its exact bytes. */
  readonly body: string;
  readonly units: readonly Unit[];
  /** Set for a request that is one part of a transaction. */
  readonly parts?: PartsSent;
}

/** How far a transaction has come that goes up in parts. */
export interface PartsSent {
  readonly id: string;
  /** The beginnings of the parts, by the place of each one's first change in the transaction. */
  readonly begins: readonly number[];
  /** The part that is next. */
  readonly next: number;
}

/** The units that can be chosen, and what every request says. */
export interface Choosing extends Waiting {
  readonly replica: string;
  readonly base: string | null;
  /** The columns that are asked for, of tables where not all are. */
  readonly asked: ColumnNames;
  /** Tells whether transactions are joined: those behind an action are chosen when it has gone. */
  readonly isJoining: boolean;
  /** Bytes of one request to aim for; a transaction of more goes up in parts. */
  readonly requestBytes: number;
}

/**
 * The next units to send, whole and in order.
 *
 * @param most units at most.
 * @param first the unit that is first in line, where that is known already: it goes alone.
 */
export function nextBatch(
  choosing: Choosing,
  most: number,
  partsSent: PartsSent | undefined,
  first: Unit | undefined,
): Batch | undefined {
  const between = partsSent && partBetween(choosing, partsSent);
  if (between) return between;
  const writers = new LastWriters(choosing.outbox);
  const texts: string[] = [];
  const transactions: UploadedTransaction[] = [];
  const chosen: Unit[] = [];
  let changes = 0;
  let origins = 0;
  let bytes = 0;
  for (const unit of first ? [first] : ready(choosing)) {
    const hasAction = (each: Unit | undefined) => (each?.transactions[0].actions.length ?? 0) > 0;
    if (choosing.isJoining && hasAction(chosen[0]) && !hasAction(unit)) break;
    const isBegun = transactions.length === 0 && partsSent?.id === unit.id;
    if (isBegun) return partOf(choosing, unit, partsSent, writers.of(unit));
    const transaction = uploaded(choosing, unit, writers.of(unit));
    // Put into words once: a long transaction's are most of what choosing it costs.
    const text = JSON.stringify(transaction);
    const parts = transactions.length === 0 ? partsOf(transaction, text.length, choosing.requestBytes) : undefined;
    if (parts !== undefined) return partOf(choosing, unit, parts, transaction.dependsOn);
    const full =
      changes + unit.changes.length > limits.changes ||
      origins + unit.transactions.length > limits.origins ||
      bytes + text.length > choosing.requestBytes;
    if (full && transactions.length > 0) break;
    texts.push(text);
    transactions.push(transaction);
    chosen.push(unit);
    changes += unit.changes.length;
    origins += unit.transactions.length;
    bytes += text.length;
    // Without asking for one more, which may be at the beginning of the next chunk of the file.
    if (transactions.length >= most) break;
  }
  return transactions.length === 0 ? undefined : batchOf(choosing, transactions, texts, chosen);
}

function batchOf(
  { schema, replica, base }: Choosing,
  transactions: readonly UploadedTransaction[],
  texts: readonly string[],
  units: readonly Unit[],
): Batch {
  const said = { replica, base, schemaVersion: schema.version };
  const body = `${JSON.stringify(said).slice(0, -1)},"transactions":[${texts.join()}]}`;
  return { request: { ...said, transactions }, body, units };
}

/** A unit as it goes up: without the columns of new rows that nobody has filled in because they are not asked for. */
function uploaded(
  { schema, asked, unsupported }: Choosing,
  { id, editedAt, transactions, changes }: Unit,
  dependsOn: readonly string[],
  isWhole = true,
): UploadedTransaction {
  const sent = (change: Change) =>
    withoutUnsupported(withoutUnasked(changeToWire(schema, change), asked[change.table]), unsupported[change.table]);
  const origins = transactions.map(({ origin }) => origin);
  // Joined transactions have no actions. The last part of a transaction in parts has them.
  const actions = isWhole ? transactions.flatMap((each) => each.actions) : [];
  return {
    id,
    // A transaction that was never altered is its own origin.
    ...(origins.length === 1 && origins[0] === id ? {} : { origins }),
    editedAt: new Date(editedAt).toISOString(),
    dependsOn,
    changes: changes.map(sent),
    ...(actions.length === 0
      ? {}
      : { actions: actions.map(({ id, name, input, refersTo, after }) => ({ id, name, input, refersTo, after })) }),
  };
}

/** The parts that a transaction of so many bytes goes up in; undefined for one that fits into a request. */
function partsOf({ id, changes }: UploadedTransaction, whole: number, most: number): PartsSent | undefined {
  if (whole <= most && changes.length <= limits.changes) return undefined;
  const begins = [0];
  let bytes = 0;
  changes.forEach((change, i) => {
    const size = JSON.stringify(change).length;
    if (bytes > 0 && bytes + size > most) {
      begins.push(i);
      bytes = 0;
    }
    bytes += size;
  });
  return begins.length === 1 ? undefined : { id, begins, next: 0 };
}

/** A part that is not the last, which is only put by: nothing but the part itself need be looked at. */
function partBetween(choosing: Choosing, parts: PartsSent): Batch | undefined {
  const { outbox } = choosing;
  const { id, begins, next } = parts;
  const [from, to] = [begins[next], begins[next + 1]];
  const [sequence, ...others] = placesOfSent(outbox, id);
  // The joined columns of several have to be joined again.
  if (from === undefined || to === undefined || sequence === undefined || others.length > 0) return undefined;
  const some = changesFrom(outbox, sequence, from, to);
  if (some?.state !== 'pending') return undefined;
  const { editedAt, changes } = some;
  return partOf(choosing, { id, editedAt, transactions: [some], changes }, parts, [], changes);
}

function partOf(
  choosing: Choosing,
  unit: Unit,
  parts: PartsSent,
  dependsOn: readonly string[],
  changes: readonly Change[] = unit.changes.slice(parts.begins[parts.next], parts.begins[parts.next + 1]),
): Batch {
  const { begins, next } = parts;
  const transaction = {
    ...uploaded(choosing, { ...unit, changes }, dependsOn, next === begins.length - 1),
    part: { index: next, count: begins.length },
  };
  return { ...batchOf(choosing, [transaction], [JSON.stringify(transaction)], [unit]), parts };
}

/**
 * Which own transaction last wrote each column of a row before another one does. The server lets a column be overwritten
 * that one of the named own transactions wrote last; naming only the last writer of each keeps that list short however
 * often a row is edited.
 */
class LastWriters {
  private readonly outbox: Outbox;
  private readonly rows = new Map<string, RowWriters>();

  constructor(outbox: Outbox) {
    this.outbox = outbox;
  }

  /** The ids to name for a unit; asked in the order of the outbox. */
  of({ transactions }: Unit): string[] {
    const ids = new Set<string>();
    for (const { sequence, changes } of transactions)
      for (const change of changes) {
        const { table, id } = change;
        if (this.outbox.places.of(table, id).length < 2) continue;
        const row = this.upTo(sequence, table, id);
        if (row.whole !== undefined) ids.add(row.whole);
        for (const [name, by] of row.columns) if (change.kind !== 'update' || name in change.columns) ids.add(by);
      }
    for (const { id } of transactions) ids.delete(id);
    return [...ids];
  }

  /** The writers of rows before a place in the outbox: each change of it is looked at once, however often it is asked about. */
  private upTo(sequence: number, table: string, id: string): RowWriters {
    const key = rowKey({ table, id });
    const row = this.rows.get(key) ?? {
      changes: this.outbox.changesOf(table, id),
      next: 0,
      whole: undefined,
      columns: new Map<string, string>(),
    };
    this.rows.set(key, row);
    for (let at = row.changes[row.next]; at && at.sequence < sequence; at = row.changes[++row.next])
      if (at.change.kind !== 'update') {
        row.whole = at.id;
        row.columns.clear();
      } else
        for (const name of [...Object.keys(at.change.columns), ...Object.keys(at.change.operations)])
          row.columns.set(name, at.id);
    return row;
  }
}

interface RowWriters {
  readonly changes: readonly QueuedChange[];
  /** The first change that has not been looked at. */
  next: number;
  whole: string | undefined;
  readonly columns: Map<string, string>;
}
