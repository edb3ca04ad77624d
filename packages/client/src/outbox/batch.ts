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
import type { ConflictList } from '../overlay/conflict-list.ts';
import type { Outbox, QueuedChange, QueuedTransaction } from './outbox.ts';
import { placeOfSent, stretchOf } from './sending.ts';

/** What goes up next. */
export interface Batch {
  readonly request: PushRequest;
  readonly transactions: readonly QueuedTransaction[];
  /** Where the request is one part of a transaction. */
  readonly parts?: PartsSent;
}

/** Bytes of one push to aim for: small enough that a poor link gets one through. */
const batchBytes = 1024 * 1024;

/** A transaction of more bytes than this goes up in parts. */
const wholeBytes = 4 * batchBytes;

/** How far a transaction has come that goes up in parts. */
export interface PartsSent {
  readonly id: string;
  /** Where each part begins, by the place of its first change in the transaction. */
  readonly begins: readonly number[];
  /** The part that is next. */
  readonly next: number;
}

const keyOf = (table: string, id: string) => JSON.stringify([table, id]);

/** The next transactions to send, whole and in order. */
export function nextBatch(
  schema: Schema,
  outbox: Outbox,
  conflicts: ConflictList,
  replica: string,
  base: string | null,
  most: number,
  partsSent: PartsSent | undefined,
): Batch | undefined {
  const between = partsSent && partBetween(schema, outbox, partsSent, replica, base);
  if (between) return between;
  const writers = new LastWriters(outbox);
  const transactions: UploadedTransaction[] = [];
  const chosen: QueuedTransaction[] = [];
  let changes = 0;
  let bytes = 0;
  for (const queued of ready(schema, outbox, conflicts)) {
    if (transactions.length === 0) {
      const parts = partsSent?.id === queued.id ? partsSent : partsOf(schema, queued);
      if (parts !== undefined) return partOf(schema, queued, parts, writers.of(queued), replica, base);
    }
    const transaction: UploadedTransaction = {
      id: queued.id,
      editedAt: queued.editedAt,
      own: writers.of(queued),
      changes: queued.changes.map((change) => changeToWire(schema, change)),
    };
    const size = JSON.stringify(transaction).length;
    const full =
      transactions.length >= most || changes + queued.changes.length > limits.changes || bytes + size > batchBytes;
    if (full && transactions.length > 0) break;
    transactions.push(transaction);
    chosen.push(queued);
    changes += queued.changes.length;
    bytes += size;
  }
  if (transactions.length === 0) return undefined;
  return { request: { replica, base, schemaVersion: schema.version, transactions }, transactions: chosen };
}

/**
 * The pending transactions that may be sent, in order. One that waits for a person (a conflict, a rejection) is left out,
 * and so is every later one that touches or references a row of one left out; the others go on.
 */
export function* ready(schema: Schema, outbox: Outbox, conflicts: ConflictList): Generator<QueuedTransaction> {
  const conflicted = new Map<string, Set<string | null>>();
  for (const { table, id, column } of conflicts.list()) {
    const key = keyOf(table, id);
    conflicted.set(key, (conflicted.get(key) ?? new Set()).add(column));
  }
  const held = new Set<string>();
  for (const queued of outbox.transactions('pending', 'rejected')) {
    if (queued.state === 'rejected' || isConflicted(queued, conflicted) || dependsOn(schema, queued, held))
      for (const change of queued.changes) held.add(keyOf(change.table, change.id));
    else yield queued;
  }
}

/** The parts that a transaction goes up in; undefined for one that fits into a request. */
function partsOf(schema: Schema, { id, changes }: QueuedTransaction): PartsSent | undefined {
  const begins = [0];
  let bytes = 0;
  let whole = 0;
  changes.forEach((change, i) => {
    const size = JSON.stringify(changeToWire(schema, change)).length;
    if (bytes > 0 && bytes + size > batchBytes) {
      begins.push(i);
      bytes = 0;
    }
    bytes += size;
    whole += size;
  });
  const fits = (whole <= wholeBytes && changes.length <= limits.changes) || begins.length === 1;
  return fits ? undefined : { id, begins, next: 0 };
}

/** A part that is not the last, which is only put by: nothing but the part itself need be looked at. */
function partBetween(
  schema: Schema,
  outbox: Outbox,
  parts: PartsSent,
  replica: string,
  base: string | null,
): Batch | undefined {
  const { id, begins, next } = parts;
  const [from, to] = [begins[next], begins[next + 1]];
  const sequence = placeOfSent(outbox, id);
  if (from === undefined || to === undefined || sequence === undefined) return undefined;
  const queued = stretchOf(outbox, sequence, from, to);
  if (queued?.state !== 'pending') return undefined;
  return partOf(schema, queued, parts, [], replica, base, queued.changes);
}

function partOf(
  schema: Schema,
  queued: QueuedTransaction,
  parts: PartsSent,
  own: readonly string[],
  replica: string,
  base: string | null,
  changes: readonly Change[] = queued.changes.slice(parts.begins[parts.next], parts.begins[parts.next + 1]),
): Batch {
  const { begins, next } = parts;
  const transaction: UploadedTransaction = {
    id: queued.id,
    editedAt: queued.editedAt,
    own,
    changes: changes.map((change) => changeToWire(schema, change)),
    part: { index: next, count: begins.length },
  };
  return {
    request: { replica, base, schemaVersion: schema.version, transactions: [transaction] },
    transactions: [queued],
    parts,
  };
}

function isConflicted(
  { changes }: QueuedTransaction,
  conflicted: ReadonlyMap<string, ReadonlySet<string | null>>,
): boolean {
  return changes.some((change) => {
    const columns = conflicted.get(keyOf(change.table, change.id));
    if (columns === undefined) return false;
    return (
      columns.has(null) || change.kind === 'delete' || Object.keys(change.columns).some((name) => columns.has(name))
    );
  });
}

function dependsOn(schema: Schema, { changes }: QueuedTransaction, held: ReadonlySet<string>): boolean {
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
  of({ sequence, changes }: QueuedTransaction): string[] {
    const ids = new Set<string>();
    for (const change of changes) {
      const { table, id } = change;
      if (!this.outbox.hasSeveralChangesOf(table, id)) continue;
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
