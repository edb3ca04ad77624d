import {
  type Cursor,
  KoinonError,
  limits,
  type Position,
  type PulledPage,
  type PullRequest,
  shown,
} from '@koinon/core';
import { openCursor, sealCursor } from '../cursor/seal.ts';
import type { FeedEntry, Reach, Store, StoreReader } from '../stores/store.ts';

/** Opens a cursor and checks that it belongs to this feed. @throws KoinonError `unknown-cursor`, `feed-restored`. */
export function cursorOf(store: Store, token: string): Cursor {
  const cursor = openCursor(token, store.secret);
  // The key goes with the database: under it, another identity is what the same database had before it was restored.
  if (cursor.feed !== store.feed) throw restored(token);
  return cursor;
}

/** Refuses a cursor that this feed cannot go on from. @throws KoinonError `feed-restored`, `forgotten-cursor`. */
export function refuseUnreached(reach: Reach, token: string): void {
  if (reach === 'lost') throw restored(token);
  if (reach === 'forgotten')
    throw new KoinonError(
      'forgotten-cursor',
      `The cursor ${shown(token)} is older than the deletions this server keeps. Pull without a cursor to start over; what is unsent is kept.`,
    );
}

function restored(token: string): KoinonError {
  return new KoinonError(
    'feed-restored',
    `The cursor ${shown(token)} is of a time that this server's database has lost: it was restored from a backup. Pull without a cursor to start over, and send again what was confirmed and is not in it.`,
  );
}

/**
 * Answers a pull with one page, read in one snapshot. Without a cursor a first download begins: rows by primary key,
 * page after page, each page's cursor saying where to go on. The cursor keeps the position from before the first page,
 * so the changes made meanwhile follow as ordinary changes.
 */
export async function pull(store: Store, request: PullRequest): Promise<PulledPage> {
  const limit = Math.min(request.limit ?? limits.pageRows, limits.pageRows);
  const cursor = request.cursor === undefined ? undefined : cursorOf(store, request.cursor);
  return store.read(async (reader) => {
    // In the page's own snapshot: deletions are forgotten only after the horizon has moved.
    if (cursor !== undefined) refuseUnreached(await reader.reach(cursor.known), request.cursor as string);
    const covers = await reader.applied(request.own ?? []);
    const time = new Date().toISOString();
    if (cursor !== undefined && cursor.resume === undefined) {
      const page = await reader.changesSince(cursor.known, limit);
      const next: Cursor = { ...cursor, known: page.to };
      const header = {
        kind: 'changes' as const,
        from: store.ordinal(cursor.known),
        to: store.ordinal(page.to),
        newest: store.ordinal(await reader.position()),
        ...(await toCome(reader, cursor.known, page.entries)),
        cursor: sealCursor(next, store.secret),
        rows: page.entries.length,
        more: page.more,
        last: true,
        covers,
        time,
      };
      return { header, rows: page.entries };
    }
    const tables = Object.keys(store.schema.tables);
    const known = cursor?.known ?? (await reader.position());
    const start = cursor?.resume ?? { table: tables[0] as string, after: null };
    const { entries, resume } = await snapshotPage(reader, tables, start, limit);
    const next: Cursor = {
      feed: store.feed,
      known,
      schemaVersion: store.schema.version,
      ...(resume ? { resume } : {}),
    };
    const header = {
      kind: 'snapshot' as const,
      from: null,
      to: store.ordinal(known),
      newest: store.ordinal(await reader.position()),
      // Counted once: the later pages of a snapshot need not go through the tables again.
      ...(cursor === undefined ? await toCome(reader, null, entries) : {}),
      cursor: sealCursor(next, store.secret),
      rows: entries.length,
      more: resume !== undefined || (await reader.position()) !== known,
      last: resume === undefined,
      covers,
      time,
    };
    return { header, rows: entries };
  });
}

/** Rows that tell the size of those like them. */
const sampled = 20;

/** How many rows are to come by table, and about how many bytes, by the size of some of them. */
async function toCome(reader: StoreReader, since: Position | null, page: readonly FeedEntry[]) {
  const left = await reader.counts(since);
  const leftBytes: Record<string, number> = {};
  for (const [table, count] of Object.entries(left)) {
    let some: readonly FeedEntry[] = page.filter((entry) => entry.table === table).slice(0, sampled);
    if (some.length === 0 && count > 0) some = await reader.rowsAfter(table, null, sampled);
    const bytes = some.reduce((sum, entry) => sum + Buffer.byteLength(JSON.stringify(entry)) + 1, 0);
    leftBytes[table] = Math.round((bytes / Math.max(1, some.length)) * count);
  }
  return { left, leftBytes };
}

async function snapshotPage(
  reader: StoreReader,
  tables: readonly string[],
  start: NonNullable<Cursor['resume']>,
  limit: number,
) {
  const entries: FeedEntry[] = [];
  let { after } = start;
  for (const table of tables.slice(tables.indexOf(start.table))) {
    const left = limit - entries.length;
    const rows = await reader.rowsAfter(table, after, left);
    entries.push(...rows);
    if (rows.length === left) return { entries, resume: { table, after: rows.at(-1)?.id ?? after } };
    after = null;
  }
  return { entries, resume: undefined };
}
