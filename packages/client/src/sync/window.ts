import { KoinonError, type LiveWindow, type PulledPage } from '@koinon/core';
import { withoutBlocks } from '@koinon/core/internal';
import { completed, fetchBeside, noteUnsupported, unsupportedColumns } from '../database/asked-columns.ts';
import { dropMeta, meta, setMeta } from '../database/layout.ts';
import { sentIds } from '../outbox/sending.ts';
import { type AsksFor, applyPage } from '../overlay/apply.ts';
import { endResync, isForgetting, isResyncing, noteSeen } from '../overlay/resync.ts';
import { noRows, type RowCounts } from '../overlay/show.ts';
import { attemptedBody, type Local } from './attempt.ts';
import type { JoinState } from './live.ts';
import { fitting, noteInvalidValues } from './stored-values.ts';

// The rows that come down, by a pull or by themselves: taken in onto the cursor that they lead away from.

/**
 * Applies a window that the server has sent by itself, in one local transaction; false where the replica is not at the
 * cursor that it leads away from, or cannot say what became of what it has sent.
 */
export function takeWindow(local: Local, window: LiveWindow, isAskedFor: AsksFor): boolean {
  const { database, outbox, host } = local;
  if (meta(database, 'cursor') !== window.from || attemptedBody(database) !== undefined) return false;
  const own = new Set(sentIds(outbox, 'confirmed'));
  // A copy of this file has sent something: what that was is asked before anything is merged.
  const isOtherwiseCounted =
    window.uploads !== undefined &&
    meta(database, 'uploads') !== undefined &&
    meta(database, 'uploads') !== String(window.uploads);
  if (isOtherwiseCounted || window.applied.some((id) => !own.has(id))) return false;
  // Columns that it has come to know are fetched with the next run: at once, a replica between two servers would go to and fro.
  if (window.unsupported && noteUnsupported(database, window.unsupported)) fetchBeside(database);
  const { rows, cursor, position, time, applied } = window;
  const header = {
    kind: 'changes' as const,
    from: null,
    to: position,
    newest: position,
    cursor,
    rows: rows.length,
    more: false,
    last: true,
    acknowledged: applied,
    time,
  };
  takePage(local, { header, rows }, 'cursor', window.from, noRows(), isAskedFor);
  setMeta(database, 'synced at', new Date(host.now()).toISOString());
  return true;
}

/** The state of a replica, if it may join the server's live windows: it has all that it could be told changes of. */
export function joinStateOf({ schema, database }: Pick<Local, 'schema' | 'database'>): JoinState | undefined {
  const cursor = meta(database, 'cursor');
  const isBeside = meta(database, 'backfill') !== undefined || meta(database, 'backfilled') !== undefined;
  const isWhole = meta(database, 'complete') !== undefined && !isBeside;
  if (cursor === undefined || !isWhole || isResyncing(database)) return undefined;
  return { cursor, replica: meta(database, 'replica') as string, schemaVersion: schema.version };
}

/**
 * The cursors that pages lead on from: the replica's own; that of a snapshot which is fetched beside it; and the one that such a snapshot ended with. Only
 * the last one tells of rows that were made behind the own cursor, came with the snapshot, and were deleted since.
 */
export type Place = 'cursor' | 'backfill' | 'backfilled';

/** Applies a page onto the cursor it starts from, and moves that cursor, in one local transaction. */
export function takePage(
  local: Local,
  sent: PulledPage,
  name: Place,
  from: string | undefined,
  down: RowCounts,
  isAskedFor: AsksFor,
): void {
  const { database } = local;
  // Whatever else is told by the cursor of a snapshot, the own one has told or has still to tell.
  const page = name === 'backfilled' ? goneOf(sent) : sent;
  const { header } = page;
  if (meta(database, name) !== from)
    throw new KoinonError('sync-busy', 'Another sync of this replica moved its cursor meanwhile; sync again.');
  // A snapshot beside the cursor brings nothing back for good: what it covers the cursor has still to cover.
  // After a forgotten cursor the receipts may be forgotten as well; what was confirmed by this feed is in its snapshot.
  const acknowledged = isForgetting(database) ? sentIds(local.outbox, 'confirmed') : header.acknowledged;
  const more = name !== 'cursor' || header.more;
  const resyncs = name === 'cursor' && isResyncing(database);
  const isFirst =
    name === 'cursor' && header.kind === 'snapshot' && !resyncs && meta(database, 'complete') === undefined;
  const unsupported = unsupportedColumns(database);
  // A block can be taken in as it is where nothing of it has to be merged, and each of its rows is whole.
  const isAsItCame = name === 'cursor' && !resyncs && local.outbox.isEmpty() && Object.keys(unsupported).length === 0;
  const given = isAsItCame ? page : withoutBlocks(page);
  const fit = fitting(local.schema, given);
  noteInvalidValues(database, page, fit.invalidValues);
  const rows = completed(local.schema, unsupported, fit.rows);
  const counts = applyPage(
    local,
    { rows, blocks: fit.blocks, header: { ...header, acknowledged, more } },
    isAskedFor,
    isFirst,
  );
  if (resyncs) noteSeen(database, given.rows);
  if (resyncs && header.last)
    for (const [kind, count] of Object.entries(endResync(local, header))) counts[kind as keyof RowCounts] += count;
  if (header.user !== undefined) setMeta(database, 'user', header.user);
  if (name === 'cursor') {
    setMeta(database, 'position', String(header.to));
    setMeta(database, 'server position', String(Math.max(header.newest ?? 0, header.to)));
    if (header.last) setMeta(database, 'complete', 'yes');
  }
  if (name === 'backfill' && header.last) {
    dropMeta(database, name);
    setMeta(database, 'backfilled', header.cursor);
  } else if (name === 'backfilled' && !header.more) dropMeta(database, name);
  else setMeta(database, name, header.cursor);
  for (const kind of ['insert', 'update', 'delete', 'leave'] as const) down[kind] += counts[kind];
}

/** The part of a page that takes rows away. */
function goneOf({ header, rows }: PulledPage): PulledPage {
  return { header, rows: rows.filter(({ kind }) => kind === 'delete' || kind === 'leave') };
}
