import {
  type Change,
  changeToWire,
  limits,
  type PushRequest,
  referencesOf,
  type Schema,
  tableOf,
  type UploadedTransaction,
} from '@koinon/core';
import { type ColumnNames, isLacking, withoutLacking, withoutUnasked } from '../link/columns.ts';
import type { ConflictList } from '../overlay/conflict-list.ts';
import type { Outbox, OutboxTransaction, QueuedChange } from './outbox.ts';
import { placeOfSent, stretchOf } from './sending.ts';
import { transactionsOf } from './transactions.ts';

/** What goes up next. */
export interface Batch {
  readonly request: PushRequest;
  /** Its exact bytes. */
  readonly body: string;
  readonly transactions: readonly OutboxTransaction[];
  /** Where the request is one part of a transaction. */
  readonly parts?: PartsSent;
}

/** How far a transaction has come that goes up in parts. */
export interface PartsSent {
  readonly id: string;
  /** Where each part begins, by the place of its first change in the transaction. */
  readonly begins: readonly number[];
  /** The part that is next. */
  readonly next: number;
}

const keyOf = (table: string, id: string) => `${table}\0${id}`;

/** What is chosen from, and what every request says. */
export interface Choosing {
  readonly schema: Schema;
  readonly outbox: Outbox;
  readonly conflicts: ConflictList;
  readonly replica: string;
  readonly base: string | null;
  /** The columns that are asked for, of tables where not all are. */
  readonly asked: ColumnNames;
  /** Those of them that the server does not know. */
  readonly lacking: ColumnNames;
  /** Transactions that the server could not write just now: they come again with the next sync. */
  readonly waiting: ReadonlySet<string>;
  /** Bytes of one request to aim for; a transaction of more goes up in parts. */
  readonly requestBytes: number;
}

/**
 * The next transactions to send, whole and in order.
 *
 * @param most transactions at most.
 * @param first the transaction that is first in line, where that is known already: it goes alone.
 */
export function nextBatch(
  choosing: Choosing,
  most: number,
  partsSent: PartsSent | undefined,
  first: OutboxTransaction | undefined,
): Batch | undefined {
  const between = partsSent && partBetween(choosing, partsSent);
  if (between) return between;
  const writers = new LastWriters(choosing.outbox);
  const texts: string[] = [];
  const transactions: UploadedTransaction[] = [];
  const chosen: OutboxTransaction[] = [];
  let changes = 0;
  let bytes = 0;
  for (const queued of first ? [first] : ready(choosing)) {
    const isBegun = transactions.length === 0 && partsSent?.id === queued.id;
    if (isBegun) return partOf(choosing, queued, partsSent, writers.of(queued));
    const transaction = uploaded(choosing, queued, writers.of(queued));
    // Put into words once: a long transaction's are most of what choosing it costs.
    const text = JSON.stringify(transaction);
    const parts = transactions.length === 0 ? partsOf(transaction, text.length, choosing.requestBytes) : undefined;
    if (parts !== undefined) return partOf(choosing, queued, parts, transaction.own);
    const full = changes + queued.changes.length > limits.changes || bytes + text.length > choosing.requestBytes;
    if (full && transactions.length > 0) break;
    texts.push(text);
    transactions.push(transaction);
    chosen.push(queued);
    changes += queued.changes.length;
    bytes += text.length;
    // Without asking for one more, which may be at the beginning of the next stretch of the file.
    if (transactions.length >= most) break;
  }
  return transactions.length === 0 ? undefined : batchOf(choosing, transactions, texts, chosen);
}

function batchOf(
  { schema, replica, base }: Choosing,
  transactions: readonly UploadedTransaction[],
  texts: readonly string[],
  chosen: readonly OutboxTransaction[],
): Batch {
  const said = { replica, base, schemaVersion: schema.version };
  const body = `${JSON.stringify(said).slice(0, -1)},"transactions":[${texts.join()}]}`;
  return { request: { ...said, transactions }, body, transactions: chosen };
}

/** A transaction as it goes up: without the columns of new rows that nobody has filled in because they are not asked for. */
function uploaded(
  { schema, asked, lacking }: Choosing,
  { id, editedAt, changes }: OutboxTransaction,
  own: readonly string[],
): UploadedTransaction {
  const sent = (change: Change) =>
    withoutLacking(withoutUnasked(changeToWire(schema, change), asked[change.table]), lacking[change.table]);
  return {
    id,
    editedAt: new Date(editedAt).toISOString(),
    own,
    changes: changes.map(sent),
  };
}

/**
 * The pending transactions that may be sent, in order. One that waits for a person (a conflict, a rejection), or for a server
 * that knows its columns or can write it, is left out, and so is every later one that touches or references a row of one left
 * out; the others go on.
 */
export function* ready({
  schema,
  outbox,
  conflicts,
  lacking,
  waiting,
}: Pick<Choosing, 'schema' | 'outbox' | 'conflicts' | 'lacking' | 'waiting'>): Generator<OutboxTransaction> {
  const conflicted = new Map<string, Set<string | null>>();
  for (const { table, id, column } of conflicts.list()) {
    const key = keyOf(table, id);
    conflicted.set(key, (conflicted.get(key) ?? new Set()).add(column));
  }
  const held = new Set<string>();
  for (const queued of transactionsOf(outbox, 'pending', 'rejected')) {
    const waits =
      queued.state === 'rejected' ||
      waiting.has(queued.id) ||
      isConflicted(queued, conflicted) ||
      dependsOn(schema, queued, held) ||
      queued.changes.some((change) => isLacking(schema, lacking, change));
    if (waits) for (const change of queued.changes) held.add(keyOf(change.table, change.id));
    else yield queued;
  }
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
  const sequence = placeOfSent(outbox, id);
  if (from === undefined || to === undefined || sequence === undefined) return undefined;
  const queued = stretchOf(outbox, sequence, from, to);
  if (queued?.state !== 'pending') return undefined;
  return partOf(choosing, queued, parts, [], queued.changes);
}

function partOf(
  choosing: Choosing,
  queued: OutboxTransaction,
  parts: PartsSent,
  own: readonly string[],
  changes: readonly Change[] = queued.changes.slice(parts.begins[parts.next], parts.begins[parts.next + 1]),
): Batch {
  const { begins, next } = parts;
  const transaction = {
    ...uploaded(choosing, { ...queued, changes }, own),
    part: { index: next, count: begins.length },
  };
  return { ...batchOf(choosing, [transaction], [JSON.stringify(transaction)], [queued]), parts };
}

function isConflicted(
  { changes }: OutboxTransaction,
  conflicted: ReadonlyMap<string, ReadonlySet<string | null>>,
): boolean {
  if (conflicted.size === 0) return false;
  return changes.some((change) => {
    const columns = conflicted.get(keyOf(change.table, change.id));
    if (columns === undefined) return false;
    return (
      columns.has(null) || change.kind === 'delete' || Object.keys(change.columns).some((name) => columns.has(name))
    );
  });
}

function dependsOn(schema: Schema, { changes }: OutboxTransaction, held: ReadonlySet<string>): boolean {
  if (held.size === 0) return false;
  return changes.some(
    (change) =>
      held.has(keyOf(change.table, change.id)) ||
      referencesOf(tableOf(schema, change.table), change).some(({ table, id }) => held.has(keyOf(table, id))),
  );
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

  /** The ids to name for a transaction; asked in the order of the outbox. */
  of({ sequence, changes }: OutboxTransaction): string[] {
    const ids = new Set<string>();
    for (const change of changes) {
      const { table, id } = change;
      if (this.outbox.places.of(table, id).length < 2) continue;
      const row = this.upTo(sequence, table, id);
      if (row.whole !== undefined) ids.add(row.whole);
      for (const [name, by] of row.columns) if (change.kind !== 'update' || name in change.columns) ids.add(by);
    }
    return [...ids];
  }

  /** Who wrote a row before a place in the outbox: each change of it is looked at once, however often it is asked about. */
  private upTo(sequence: number, table: string, id: string): RowWriters {
    const key = keyOf(table, id);
    const row = this.rows.get(key) ?? {
      changes: this.outbox.changesOf(table, id),
      next: 0,
      whole: undefined,
      columns: new Map<string, string>(),
    };
    this.rows.set(key, row);
    for (let at = row.changes[row.next]; at && at.sequence < sequence; at = row.changes[++row.next])
      if (at.change.kind !== 'update') {
        row.whole = at.transaction;
        row.columns.clear();
      } else
        for (const name of [...Object.keys(at.change.columns), ...Object.keys(at.change.operations)])
          row.columns.set(name, at.transaction);
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
