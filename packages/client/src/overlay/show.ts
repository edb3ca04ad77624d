import { type AnyRow, type RowKey, type Schema, sameValue, tableOf } from '@koinon/core';
import { type OwnChange, type Predicted, type RemoteRow, rebase, unmoved } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import type { Host } from '../host/host.ts';
import type { Commit } from '../live/commit.ts';
import type { Outbox, QueuedChange } from '../outbox/outbox.ts';
import type { Prediction } from '../outbox/prediction-list.ts';
import { rewrite } from '../outbox/rewriting.ts';
import type { Bases } from '../rows/base.ts';
import type { KnownKeys } from '../rows/known-keys.ts';
import type { Rows } from '../rows/rows.ts';
import type { ConflictList, Noted } from './conflict-list.ts';

/** How many rows a page changed on this device, by what happened to them. Rows that came back unchanged do not count. */
export interface RowCounts {
  insert: number;
  update: number;
  delete: number;
  /** Rows that are no longer this user's. */
  leave: number;
}

/** None at all. */
export const noRows = (): RowCounts => ({ insert: 0, update: 0, delete: 0, leave: 0 });

/** The parts that applying a page needs: the rows on screen, and what lies under and over them. */
export interface Overlay {
  readonly schema: Schema;
  readonly rows: Rows;
  readonly bases: Bases;
  readonly outbox: Outbox;
  readonly conflicts: ConflictList;
  readonly commit: Commit;
  readonly host: Host;
}

/** The parts that applying a page works on. */
export interface Applying extends Overlay {
  readonly database: Database;
  readonly keys: KnownKeys;
}

/** Shows a row anew after changes of it were altered: its base under those that are there now. */
export function showAnew(overlay: Overlay, key: RowKey): void {
  const base = overlay.bases.get(key.table, key.id);
  moveRow(overlay, key, { base, next: base, own: overlay.outbox.changesOf(key.table, key.id) }, noRows());
}

/** A row whose base moves. */
export interface Move {
  /** The base before; null: the server had no such row. */
  readonly base: AnyRow | null;
  readonly next: AnyRow | null;
  /** The changes that lie over it, without those that the feed has brought back. */
  readonly own: readonly QueuedChange[];
  /** The state of the server's row, where it is another one now. */
  readonly remote?: RemoteRow & Pick<Noted, 'remoteBy'>;
}

/**
 * Moves the own changes of a row onto its new base, and writes what that comes to: the changes, the base, the row that is
 * shown, and what waits for a person. What is under way keeps its content; it comes back overtaken, and is rebased then.
 */
export function moveRow(overlay: Overlay, { table: tableName, id }: RowKey, move: Move, counts: RowCounts): void {
  const { schema, bases, outbox, conflicts, host } = overlay;
  const { base, next, own, remote = unmoved } = move;
  const table = tableOf(schema, tableName);
  const given = own.map(
    (each): OwnChange => ({
      change: each.change,
      isFixed: each.state === 'confirmed' || each.state === 'attempted',
      editedAt: each.editedAt,
      typedOver: each.typedOver,
      predictedOver: outbox.predictions.overOf(each),
    }),
  );
  const predicted = predictedAmong(own, outbox.predictions.of(tableName, id));
  const { changes, row, conflicts: open } = rebase(table, given, base, next, remote, predicted);
  const noted = open.map(({ column, ...conflict }): Noted => {
    const isMoved = remote !== unmoved;
    const remoteAt = isMoved ? remote.editedAt(column ?? '') : undefined;
    return { ...conflict, column, ...(isMoved && { remoteAt, remoteBy: (remote as Move['remote'])?.remoteBy }) };
  });
  rewrite(outbox, own, changes, host);
  if (own.some(({ change }) => change.kind === 'insert')) outbox.keepInserted(tableName, id);
  showRow(overlay, { table: tableName, id }, row, counts);
  conflicts.set(tableName, id, noted);
  if (predicted.length === 0 && changes.every(({ change }) => change === undefined)) bases.drop(tableName, id);
  else bases.set(tableName, id, next);
}

/** The predictions of a row with their places among its own changes. */
export function predictedAmong(own: readonly QueuedChange[], predictions: readonly Prediction[]): readonly Predicted[] {
  return predictions.map(({ change, action }) => ({ change, after: own.filter(({ place }) => place < action).length }));
}

/** Writes the row that is shown. */
export function showRow({ rows, commit }: Overlay, { table, id }: RowKey, row: AnyRow | null, counts: RowCounts): void {
  const before = rows.get(table, id);
  if (before === null && row === null) return;
  const isSame = sameValue(before, row);
  if (before === null && row !== null) counts.insert++;
  else if (before !== null && row === null) counts.delete++;
  else if (!isSame) counts.update++;
  // A sent row mostly comes back as it is here.
  if (row === null) rows.remove(table, id);
  else if (!isSame) rows.put(table, id, row);
  commit.note(table, id, before, row);
}
