import {
  type AnyRow,
  applyChange,
  type Change,
  columnsFromWire,
  joinChanges,
  KoinonError,
  mergeRow,
  type PulledPage,
  type PulledRow,
  type Schema,
  sameValue,
  tableOf,
  wholeRow,
} from '@koinon/core';
import type { Host } from '../host/host.ts';
import type { Commit } from '../live/commit.ts';
import type { Outbox, QueuedChange } from '../outbox/outbox.ts';
import type { Rows } from '../tables/rows.ts';
import type { Bases } from './base.ts';
import type { Conflicts } from './conflicts.ts';

/** How many rows a page changed on this device, by what happened to them. Rows that came back unchanged do not count. */
export interface RowCounts {
  insert: number;
  update: number;
  delete: number;
}

/** What applying a page needs: the rows on screen, and what lies under and over them. */
export interface Overlay {
  readonly schema: Schema;
  readonly rows: Rows;
  readonly bases: Bases;
  readonly outbox: Outbox;
  readonly conflicts: Conflicts;
  readonly commit: Commit;
  readonly host: Host;
}

/**
 * Applies one page of a pull. The view of a row is its base, which only the feed moves, under the own confirmed changes
 * that the feed has not brought back, under the unconfirmed ones. A page moves bases and drops the confirmed changes it
 * covers in the same local transaction, so the view never shows an older value than it did. Runs inside a transaction.
 *
 * @param isFirst whether rows without own changes are all new here: the first download, which names each row once.
 */
export function applyPage(overlay: Overlay, { header, rows }: PulledPage, isFirst = false): RowCounts {
  const counts: RowCounts = { insert: 0, update: 0, delete: 0 };
  const covered = new Set(header.covers);
  const untouched = overlay.outbox.isEmpty();
  for (const pulled of rows) {
    // A server may know tables this app's version does not.
    if (!overlay.schema.tables[pulled.table]) continue;
    const queued = untouched ? [] : overlay.outbox.changesOf(pulled.table, pulled.id);
    if (queued.length === 0) writeThrough(overlay, pulled, counts, isFirst);
    else mergeInto(overlay, pulled, queued, covered, counts);
  }
  if (!header.more) for (const id of header.covers) settleCovered(overlay, id);
  return counts;
}

/** A row without local changes simply becomes what the server has. */
function writeThrough({ schema, rows, commit }: Overlay, pulled: PulledRow, counts: RowCounts, isFirst: boolean): void {
  const { table: tableName, id } = pulled;
  const before = isFirst ? null : rows.get(tableName, id);
  if (pulled.kind === 'delete') {
    if (before !== null) counts.delete++;
    rows.remove(tableName, id);
    commit.note(tableName, id, before, null);
    return;
  }
  const table = tableOf(schema, tableName);
  const columns = columnsFromWire(table, pulled.columns);
  if (pulled.kind === 'insert') {
    const after = wholeRow(table, id, columns);
    rows.put(tableName, after);
    commit.note(tableName, id, before, after);
    if (before === null) counts.insert++;
    else if (!sameValue(before, after)) counts.update++;
  } else {
    if (before === null) throw rowMissing(tableName, id);
    if (Object.keys(columns).some((name) => !sameValue(before[name], columns[name]))) counts.update++;
    rows.patch(tableName, id, columns);
    commit.note(tableName, id, before, wholeRow(table, id, { ...before, ...columns }));
  }
}

/** A row with local changes: the base moves, and what the device did is merged onto it. */
function mergeInto(
  overlay: Overlay,
  pulled: PulledRow,
  queued: readonly QueuedChange[],
  covered: ReadonlySet<string>,
  counts: RowCounts,
): void {
  const { schema, bases, outbox } = overlay;
  const { table: tableName, id } = pulled;
  const table = tableOf(schema, tableName);
  const base = bases.get(tableName, id);
  let next: AnyRow | null = null;
  if (pulled.kind !== 'delete') {
    const columns = columnsFromWire(table, pulled.columns);
    if (pulled.kind === 'update' && base === null) throw rowMissing(tableName, id);
    next = pulled.kind === 'insert' ? wholeRow(table, id, columns) : wholeRow(table, id, { ...base, ...columns });
  }
  // Whatever it counted as here: what the server has a receipt of, it has applied.
  const known = queued.map((change) =>
    covered.has(change.transaction) ? { ...change, state: 'confirmed' as const } : change,
  );
  outbox.markBack(
    tableName,
    id,
    base,
    known.filter(({ transaction }) => covered.has(transaction)),
  );
  const left = known.filter(({ transaction }) => !covered.has(transaction));
  show(overlay, { tableName, id, base, queued: known, next, left }, counts);
}

/** A transaction the feed has wholly brought back leaves the outbox, with what it did to rows that no page named. */
function settleCovered(overlay: Overlay, transaction: string): void {
  const { outbox, bases, host } = overlay;
  const sequence = outbox.sent(transaction);
  if (sequence === undefined) return;
  for (const { table: tableName, id } of outbox.rowsOf(sequence)) {
    const base = bases.get(tableName, id);
    const queued = outbox.changesOf(tableName, id);
    const left = queued.filter((change) => change.sequence !== sequence);
    outbox.markBack(
      tableName,
      id,
      base,
      queued.filter((change) => change.sequence === sequence),
    );
    show(overlay, { tableName, id, base, queued, next: base, left }, { insert: 0, update: 0, delete: 0 });
  }
  outbox.settle(sequence, host.now());
}

/** Shows a row anew after changes of it were dropped: its base under those that are left. */
export function showAnew(overlay: Overlay, tableName: string, id: string): void {
  const base = overlay.bases.get(tableName, id);
  const left = overlay.outbox.changesOf(tableName, id);
  show(overlay, { tableName, id, base, queued: left, next: base, left }, { insert: 0, update: 0, delete: 0 });
}

interface Move {
  readonly tableName: string;
  readonly id: string;
  /** The base before, with the changes that lay over it. */
  readonly base: AnyRow | null;
  readonly queued: readonly QueuedChange[];
  /** The base after, with the changes that still lie over it. */
  readonly next: AnyRow | null;
  readonly left: readonly QueuedChange[];
}

/** Merges what the device did onto the moved base, and writes the view, the base and the conflicts. */
function show({ schema, rows, bases, outbox, conflicts, commit }: Overlay, move: Move, counts: RowCounts): void {
  const { tableName, id, base, queued, next, left } = move;
  const table = tableOf(schema, tableName);
  const confirmedOver = (row: AnyRow | null, changes: readonly QueuedChange[]) =>
    changes
      .filter(({ state }) => state === 'confirmed')
      .reduce((over, { change }) => applyChange(table, over, change), row);
  const local = left
    .filter(({ state }) => state !== 'confirmed')
    .reduce<Change | undefined>((joined, { change }) => joinChanges(table, joined, change), undefined);
  // A conflict that still waits is judged from the base it began with, not from the one it has moved to since.
  let expected = confirmedOver(base, queued);
  for (const [column, began] of conflicts.basesOf(tableName, id))
    expected =
      column === null ? (began as AnyRow | null) : expected && wholeRow(table, id, { ...expected, [column]: began });
  const { row, disagreements } = mergeRow(table, expected, local, confirmedOver(next, left));

  const before = rows.get(tableName, id);
  outbox.keepInserted(tableName, id);
  if (row === null) rows.remove(tableName, id);
  else rows.put(tableName, row);
  if (before === null && row !== null) counts.insert++;
  else if (before !== null && row === null) counts.delete++;
  else if (!sameValue(before, row)) counts.update++;

  commit.note(tableName, id, before, row);

  conflicts.set(tableName, id, disagreements);
  if (left.length === 0) bases.drop(tableName, id);
  else bases.set(tableName, id, next);
}

function rowMissing(table: string, id: string): KoinonError {
  return new KoinonError(
    'storage-damaged',
    `The server sent changed columns of ${table} ${id}, which this replica should hold and does not. Another program may have removed it; start over from the server.`,
    { table, id },
  );
}
