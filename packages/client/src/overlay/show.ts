import {
  type AnyRow,
  applyChange,
  type Change,
  joinChanges,
  mergeRow,
  type Schema,
  sameValue,
  tableOf,
  wholeRow,
} from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Host } from '../host/host.ts';
import type { Commit } from '../live/commit.ts';
import type { Outbox, QueuedChange } from '../outbox/outbox.ts';
import type { Rows } from '../tables/rows.ts';
import type { Bases } from './base.ts';
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

/** What applying a page needs: the rows on screen, and what lies under and over them. */
export interface Overlay {
  readonly schema: Schema;
  readonly rows: Rows;
  readonly bases: Bases;
  readonly outbox: Outbox;
  readonly conflicts: ConflictList;
  readonly commit: Commit;
  readonly host: Host;
}

/** What applying a page works on. */
export interface Applying extends Overlay {
  readonly database: Database;
}

/** Shows a row anew after changes of it were dropped: its base under those that are left. */
export function showAnew(overlay: Overlay, tableName: string, id: string): void {
  const base = overlay.bases.get(tableName, id);
  const left = overlay.outbox.changesOf(tableName, id);
  show(overlay, { tableName, id, base, queued: left, next: base, left }, noRows());
}

/** A row whose base or whose changes are others now. */
export interface Move {
  readonly tableName: string;
  readonly id: string;
  /** The base before, with the changes that lay over it. */
  readonly base: AnyRow | null;
  readonly queued: readonly QueuedChange[];
  /** The base after, with the changes that still lie over it. */
  readonly next: AnyRow | null;
  readonly left: readonly QueuedChange[];
}

/** The three sides of a row that moves: what was expected to be there, what the device does to it, and what is there. */
export interface MovedSides {
  readonly expected: AnyRow | null;
  readonly local: Change | undefined;
  readonly remote: AnyRow | null;
}

/** The sides of a move, for the merge. */
export function sidesOf({ schema, conflicts }: Overlay, { tableName, id, base, queued, next, left }: Move): MovedSides {
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
  return { expected, local, remote: confirmedOver(next, left) };
}

/** What a row comes to: what is shown, and what waits for a person. */
export interface Shown {
  readonly row: AnyRow | null;
  readonly open: readonly Noted[];
}

/** Merges what the device did onto the moved base; whatever both sides changed is left to a person. */
function merged(overlay: Overlay, move: Move): Shown {
  const { expected, local, remote } = sidesOf(overlay, move);
  const { row, disagreements } = mergeRow(tableOf(overlay.schema, move.tableName), expected, local, remote);
  return { row, open: disagreements };
}

/** Writes the view, the base and the conflicts of a row that moved. @param shown what it comes to. */
export function show(overlay: Overlay, move: Move, counts: RowCounts, shown: Shown = merged(overlay, move)): void {
  const { rows, bases, outbox, conflicts, commit } = overlay;
  const { tableName, id, next, left } = move;
  const { row, open } = shown;
  const before = rows.get(tableName, id);
  if (move.queued.some(({ change }) => change.kind === 'insert')) outbox.keepInserted(tableName, id);
  const isSame = sameValue(before, row);
  if (before === null && row !== null) counts.insert++;
  else if (before !== null && row === null) counts.delete++;
  else if (!isSame) counts.update++;
  // What was sent mostly comes back as it is here.
  if (row === null) rows.remove(tableName, id);
  else if (!isSame) rows.put(tableName, id, row);

  commit.note(tableName, id, before, row);

  conflicts.set(tableName, id, open);
  if (left.length === 0) bases.drop(tableName, id);
  else bases.set(tableName, id, next);
}
