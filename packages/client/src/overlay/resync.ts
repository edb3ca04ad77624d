import type { PulledPage, PulledRow } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { dropMeta, meta, setMeta } from '../database/layout.ts';
import { offerAgain } from '../outbox/history.ts';
import { notePending, sentIds } from '../outbox/sending.ts';
import { applyPage } from './apply.ts';
import { takeBackKeys } from './assigned-keys.ts';
import type { Applying, RowCounts } from './show.ts';

/**
 * Starting over: the server no longer knows this replica's cursor, since its database was restored from a backup or is
 * another one. A new snapshot is laid over what is here; rows that it does not name are gone on the server, and go here
 * when it is complete. What was not confirmed is kept all the while and merged onto what the snapshot brings.
 */
export type Resyncing = Applying;

/**
 * Why a cursor is of no use any more: the same feed no longer keeps what came after it; its database was restored from a
 * backup; or it is another server's.
 */
export type ResyncReason = 'forgotten' | 'restored' | 'unknown';

/** Begins: forgets the cursor, and has everything sent again of which only the old feed could have told the end. */
export function beginResync(resyncing: Resyncing, reason: ResyncReason): void {
  const { database, schema, outbox, bases, rows } = resyncing;
  dropMeta(database, 'cursor');
  dropMeta(database, 'backfill');
  dropMeta(database, 'backfilled');
  // The transactions that this server has applied are to be asked anew.
  dropMeta(database, 'uploads');
  setMeta(database, 'resync', reason);
  database.statement('DELETE FROM koinon_seen').run();
  // The same feed, only older than it remembers: what it confirmed is in it.
  if (reason === 'forgotten') return;
  // Confirmed, but not seen in the feed: the restored server may lack them. A receipt there keeps them from being done twice.
  for (const id of sentIds(outbox, 'confirmed')) notePending(outbox, id);
  if (reason !== 'restored') {
    takeBackKeys(resyncing);
    return;
  }
  // Seen in the feed as well, and perhaps lost with it.
  const asGiven = (table: string, id: string) =>
    outbox.isOverlaid(table, id) ? bases.get(table, id) : rows.get(table, id);
  for (const { table, id, row } of offerAgain(database, schema, outbox, asGiven)) bases.set(table, id, row);
  takeBackKeys(resyncing);
}

/** Tells whether a new snapshot is being laid over the rows that are here. */
export function isResyncing(database: Database): boolean {
  return meta(database, 'resync') !== undefined;
}

/** Tells whether that is because this replica was away for longer than the server remembers. */
export function isForgetting(database: Database): boolean {
  return meta(database, 'resync') === 'forgotten';
}

/** Notes the rows a page of the snapshot names. */
export function noteSeen(database: Database, rows: readonly PulledRow[]): void {
  const insert = database.statement('INSERT INTO koinon_seen VALUES (?, ?) ON CONFLICT DO NOTHING');
  const forget = database.statement('DELETE FROM koinon_seen WHERE table_name = ? AND row_id = ?');
  for (const { kind, table, id } of rows) (kind === 'leave' ? forget : insert).run(table, id);
}

/**
 * Ends: what the snapshot did not name is treated as what it is, deleted on the server; or, where there may be rows that are
 * not this user's, as one of those, since nobody can tell.
 */
export function endResync(resyncing: Resyncing, { to: position, time, partial }: PulledPage['header']): RowCounts {
  const { database, schema, outbox, bases } = resyncing;
  // A row that was made here and has no base was not in anybody's scope yet: the server has only nothing to name.
  const isOwn = (table: string, id: string) => outbox.hasChangesOf(table, id) && bases.get(table, id) === null;
  const unseen = Object.entries(schema.tables).flatMap(([table, { home }]) => {
    if (home === 'device') return [];
    const text = `SELECT id FROM ${quoteName(table)} WHERE id NOT IN (SELECT row_id FROM koinon_seen WHERE table_name = ?)
      UNION SELECT row_id FROM koinon_base WHERE table_name = ?1 AND row_id NOT IN (SELECT row_id FROM koinon_seen WHERE table_name = ?1)`;
    return (database.statement(text).all(table) as { id: string }[]).map(({ id }) => ({
      kind: partial && !isOwn(table, id) ? ('leave' as const) : ('delete' as const),
      table,
      id,
      position,
    }));
  });
  const header = {
    kind: 'changes',
    from: null,
    to: position,
    newest: position,
    cursor: '',
    rows: unseen.length,
    more: true,
    last: true,
    acknowledged: [],
    time,
  } as const;
  // Only deletions, or what leaves for good.
  const counts = applyPage(resyncing, { header, rows: unseen }, () => true);
  database.statement('DELETE FROM koinon_seen').run();
  dropMeta(database, 'resync');
  return counts;
}
