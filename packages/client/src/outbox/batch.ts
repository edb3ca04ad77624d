import {
  changeToWire,
  limits,
  type PushRequest,
  referencesOf,
  type Schema,
  tableOf,
  type UploadedTransaction,
} from '@koinon/core';
import type { Conflicts } from '../overlay/conflicts.ts';
import type { Outbox, QueuedTransaction } from './outbox.ts';

/** What goes up next. */
export interface Batch {
  readonly request: PushRequest;
  readonly transactions: readonly QueuedTransaction[];
}

/** Bytes of one push to aim for: small enough that a poor link gets one through. */
const batchBytes = 1024 * 1024;

const keyOf = (table: string, id: string) => JSON.stringify([table, id]);

/**
 * The next transactions to send, whole and in order. One that waits for a person (a conflict, a rejection) is left out,
 * and so is every later one that touches or references a row of one left out; the others go on.
 */
export function nextBatch(
  schema: Schema,
  outbox: Outbox,
  conflicts: Conflicts,
  replica: string,
  base: string | null,
  most: number,
): Batch | undefined {
  const conflicted = new Map<string, Set<string | null>>();
  for (const { table, id, column } of conflicts.list()) {
    const key = keyOf(table, id);
    conflicted.set(key, (conflicted.get(key) ?? new Set()).add(column));
  }
  const held = new Set<string>();
  const writers = new LastWriters();
  const transactions: UploadedTransaction[] = [];
  const chosen: QueuedTransaction[] = [];
  let changes = 0;
  let bytes = 0;
  for (const queued of outbox.transactions('confirmed', 'pending', 'rejected')) {
    if (
      queued.state !== 'confirmed' &&
      (queued.state === 'rejected' || isConflicted(queued, conflicted) || dependsOn(schema, queued, held))
    ) {
      for (const change of queued.changes) held.add(keyOf(change.table, change.id));
      continue;
    }
    if (queued.state === 'pending') {
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
    writers.note(queued);
  }
  if (transactions.length === 0) return undefined;
  return { request: { replica, base, schemaVersion: schema.version, transactions }, transactions: chosen };
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
 * Which own transaction last wrote each column. The server lets a column be overwritten that one of the named own
 * transactions wrote last; naming only the last writer of each keeps that list short however often a row is edited.
 */
class LastWriters {
  private readonly ofRow = new Map<string, { whole: string | undefined; readonly columns: Map<string, string> }>();

  note({ id, changes }: QueuedTransaction): void {
    for (const change of changes) {
      const key = keyOf(change.table, change.id);
      if (change.kind !== 'update') {
        this.ofRow.set(key, { whole: id, columns: new Map() });
        continue;
      }
      const row = this.ofRow.get(key) ?? { whole: undefined, columns: new Map<string, string>() };
      for (const name of [...Object.keys(change.columns), ...Object.keys(change.operations)]) row.columns.set(name, id);
      this.ofRow.set(key, row);
    }
  }

  of({ changes }: QueuedTransaction): string[] {
    const ids = new Set<string>();
    for (const change of changes) {
      const row = this.ofRow.get(keyOf(change.table, change.id));
      if (row?.whole !== undefined) ids.add(row.whole);
      for (const [name, id] of row?.columns ?? []) if (change.kind !== 'update' || name in change.columns) ids.add(id);
    }
    return [...ids];
  }
}
