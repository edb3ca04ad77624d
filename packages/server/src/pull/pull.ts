import {
  type Cursor,
  limits,
  type Position,
  type PulledPage,
  type PulledRow,
  type PullRequest,
  type Schema,
} from '@koinon/core';
import { columnsDigest } from '@koinon/core/internal';
import type { User } from '../auth/authenticate.ts';
import { forgottenCursor, isOfNewKey, openCursor, restoredCursor, sealCursor, unknownCursor } from '../cursor/seal.ts';
import {
  firstCursor,
  movedRows,
  nextPage,
  type Page,
  pageBytes,
  passedViews,
  pulledRow,
  type TextBlock,
  wantedChanges,
} from '../feed/page.ts';
import { type ScopeSet, scopeSet } from '../scope/evaluate.ts';
import { isNothing, type View } from '../scope/view.ts';
import type { Reach, Store, StoreReader } from '../store/store.ts';
import { withoutKnownBytes } from './known-bytes.ts';

/** For whom something is read. */
export interface Access {
  readonly scopes: ScopeSet;
  readonly user: User | undefined;
}

/** Everything, for whoever asks. */
export const openAccess = (store: Store): Access => ({ scopes: scopeSet(store.schema, undefined), user: undefined });

/**
 * Opens a cursor that a client has sent, and checks that it belongs to this feed and user. Another process on the database may
 * have sealed it by a key that is newer than those read here.
 *
 * @throws KoinonError `unknown-cursor`, `feed-restored`, `forgotten-cursor`.
 */
export async function givenCursor(store: Store, token: string, user?: User): Promise<Cursor> {
  if (isOfNewKey(token, store.keys)) store.keys.replace(await store.read((reader) => reader.cursorKeys()));
  return cursorOf(store, token, user);
}

/** The same for a cursor that this process has made. */
export function cursorOf(store: Store, token: string, user?: User): Cursor {
  const cursor = openCursor(token, store.keys);
  if (cursor.user !== undefined && cursor.user !== user?.id)
    throw unknownCursor(token, 'it was not given to this user');
  // The key goes with the database: under it, another identity is what the same database had before it was restored.
  if (cursor.feed !== store.feed) throw restoredCursor(token);
  return cursor;
}

/** Refuses a cursor that this feed cannot go on from. @throws KoinonError `feed-restored`, `forgotten-cursor`. */
export function refuseUnreached(reach: Reach, token: string): void {
  if (reach === 'lost') throw restoredCursor(token);
  if (reach === 'forgotten') throw forgottenCursor(token);
}

/**
 * Refuses a cursor that cannot be gone on from in this snapshot: deletions are forgotten only after the horizon has moved,
 * and of a column that has only lately become filterable earlier values are not known.
 *
 * @throws KoinonError `feed-restored`, `forgotten-cursor`.
 */
export async function refuseUnknown(reader: StoreReader, cursor: Cursor, token: string): Promise<void> {
  const { known, since = known, scope = {}, also = [] } = cursor;
  refuseUnreached(await reader.reach(since), token);
  const filtered = [scope, ...also.map((passed) => passed.scope)].flatMap((one) =>
    // Of a table of which nothing is given no earlier value matters.
    Object.entries(one).flatMap(([table, { where }]) => (where === undefined || isNothing(where) ? [] : [table])),
  );
  if (filtered.length > 0 && !(await reader.remembersSince(since, filtered))) refuseUnreached('forgotten', token);
}

/** The answer to a pull, part of it as text already. */
export interface PullAnswer extends Pick<PulledPage, 'header' | 'rows'> {
  readonly blocks: readonly TextBlock[];
  /** The server that was read: the database itself, or the standby. */
  readonly from: 'database' | 'standby';
}

/** The lines of an answer. */
export function linesOf({ header, rows, blocks }: PullAnswer): string {
  const lines = [header, ...rows].map((line) => JSON.stringify(line));
  for (const { table, position, columns, json } of blocks) {
    const named = JSON.stringify({ kind: 'rows', table, position, columns });
    lines.push(`${named.slice(0, -1)},"rows":${json}}`);
  }
  return `${lines.join('\n')}\n`;
}

/**
 * Answers a pull with one page, read in one snapshot. Without a cursor a first download begins: rows by primary key,
 * page after page, each page's cursor saying where to go on. The cursor keeps the position from before the first page,
 * so the changes made meanwhile follow as ordinary changes.
 */
export async function pull(
  store: Store,
  request: PullRequest,
  access: Access = openAccess(store),
): Promise<PullAnswer> {
  const room = {
    rows: Math.min(request.limit ?? limits.pageRows, limits.pageRows),
    bytes: pageBytes,
    asBlocks: request.rowBlocks === true,
  };
  const { user } = access;
  const given = request.cursor === undefined ? undefined : await givenCursor(store, request.cursor, user);
  const { omitKnownBytes, replica } = request;
  const facts = async (reader: StoreReader): Promise<Facts> => ({
    view: (await access.scopes.evaluateHeld(user, reader, request)).view,
    acknowledged: await reader.applied(request.unacknowledged ?? [], user?.id),
    ...(replica === undefined ? {} : { uploads: await reader.uploads(replica) }),
  });
  const answer = async (reader: StoreReader, { view, ...told }: Facts, from: PullAnswer['from']) => {
    const cursor = { ...(given ?? (await firstCursor(store, reader, view))), ...(user && { user: user.id }) };
    const page = await nextPage(store, reader, cursor, view, room);
    const { next, more } = page;
    const rows =
      omitKnownBytes && replica ? await withoutKnownBytes(store.schema, reader, replica, page.rows) : page.rows;
    const isWhole = page.by === 'change' || cursor.held !== undefined || next.held !== undefined;
    const header = {
      kind: page.isFirst ? ('snapshot' as const) : ('changes' as const),
      from: isWhole ? store.ordinal(cursor.known) : null,
      to: store.ordinal(next.known),
      // How much others write is none of a user's who gets a part.
      newest: store.ordinal(view.isWhole ? await reader.position() : next.known),
      // Counted once for rows by key: the later pages need not go through the tables again.
      ...(page.by === 'change' || given === undefined ? await remainingOf(store, reader, cursor, view, page) : {}),
      cursor: sealCursor(next, store.keys),
      rows: page.blocks.reduce((sum, { count }) => sum + count, rows.length),
      more,
      last: isWhole || next.resume === undefined,
      ...(user && { user: user.id }),
      ...(isPartial(store.schema, view) ? { partial: true } : {}),
      ...(request.columns && {
        schema: { version: store.schema.version, digest: columnsDigest(store.schema, request.columns) },
      }),
      ...unsupported(store.schema, request),
      ...told,
      time: new Date().toISOString(),
    };
    return { header, rows, blocks: page.blocks, from };
  };
  const check = (reader: StoreReader) => given && refuseUnknown(reader, given, request.cursor as string);
  const passed = given === undefined ? [] : positionsOf(given);
  if (request.mayBeBehind && passed !== undefined) {
    const answered = await store.standby?.read({
      passed,
      facts,
      isSame: isSameFacts,
      async read(reader, found) {
        await check(reader);
        return answer(reader, found, 'standby');
      },
    });
    if (answered !== undefined) return answered;
  }
  return store.read(async (reader) => {
    await check(reader);
    return answer(reader, await facts(reader), 'database');
  });
}

/** The facts that a pull goes by besides the rows: the part of the user, and what has been applied for the replica. */
interface Facts extends Pick<PulledPage['header'], 'acknowledged' | 'uploads'> {
  readonly view: View;
}

const isSameFacts = (one: Facts, other: Facts) =>
  one.view.scopeDigest === other.view.scopeDigest &&
  one.uploads === other.uploads &&
  one.acknowledged.toSorted().join() === other.acknowledged.toSorted().join();

/** All positions that a standby must have passed to go on from a cursor; undefined where it is not known up to which one it was read. */
function positionsOf({ known, since, readAt, also = [] }: Cursor): Position[] | undefined {
  if (since !== undefined && readAt === undefined) return undefined;
  return [known, since ?? known, readAt ?? known, ...also.flatMap((passed) => passed.readAt ?? [])];
}

/** Tells whether there may be rows of tables that devices hold, and that this one does not get. */
const isPartial = ({ tables }: Schema, { scope }: View) =>
  Object.keys(scope).some((name) => tables[name]?.home !== 'server');

/** The columns that an app asks for and this server does not know: the app is newer, or so old that it has another name by now. */
export function unsupported(
  { tables }: Schema,
  { columns = {} }: Pick<PullRequest, 'columns'>,
): Pick<PulledPage['header'], 'unsupported'> {
  const unsupported = Object.entries(columns).flatMap(([table, names]) => {
    const known = Object.hasOwn(tables, table) ? tables[table]?.columns : undefined;
    const unknown = names.filter((name) => known === undefined || !Object.hasOwn(known, name));
    return unknown.length > 0 ? [[table, unknown] as const] : [];
  });
  return unsupported.length > 0 ? { unsupported: Object.fromEntries(unsupported) } : {};
}

/** Rows that tell the size of those like them. */
const sampled = { rows: 20, bytes: pageBytes };

/** Changes that are counted one by one at most, where it has to be told which of them are in the scope. */
const mostCounted = { rows: 20_000, bytes: 16 * pageBytes };

/** How many rows are to come by table, and about how many bytes, by the size of some of them. */
async function remainingOf(store: Store, reader: StoreReader, cursor: Cursor, view: View, page: Page) {
  const remaining =
    page.by === 'key'
      ? await remainingByKey(store, reader, cursor, view)
      : await remainingChanges(store, reader, cursor, view, page);
  if (remaining === undefined) return {};
  const remainingBytes: Record<string, number> = {};
  for (const [table, count] of Object.entries(remaining)) {
    const block = page.blocks.find((each) => each.table === table);
    if (block !== undefined) {
      remainingBytes[table] = Math.round((block.json.length / block.count) * count);
      continue;
    }
    let some: readonly PulledRow[] = page.rows.filter((row) => row.table === table).slice(0, sampled.rows);
    if (some.length === 0 && count > 0) some = (await reader.rowsAfter(table, null, sampled, view.where(table))).rows;
    const bytes = some.reduce((sum, row) => sum + Buffer.byteLength(JSON.stringify(row)) + 1, 0);
    remainingBytes[table] = Math.round((bytes / Math.max(1, some.length)) * count);
  }
  return { remaining, remainingBytes };
}

async function remainingByKey(
  store: Store,
  reader: StoreReader,
  cursor: Cursor,
  view: View,
): Promise<Record<string, number>> {
  const remaining: Record<string, number> = {};
  for (const table of Object.keys(store.schema.tables).filter((name) => view.knows(name)))
    remaining[table] = await reader.countRows(table, movedRows(cursor, view, table));
  return remaining;
}

/** Nobody is told how much has changed that is none of his. */
async function remainingChanges(store: Store, reader: StoreReader, cursor: Cursor, view: View, { rows, more }: Page) {
  if (view.isWhole) {
    const all = await reader.countChanges(cursor.known);
    return Object.fromEntries(Object.entries(all).filter(([table]) => view.knows(table)));
  }
  const count = (some: readonly PulledRow[]) => {
    const remaining: Record<string, number> = {};
    for (const { table } of some) remaining[table] = (remaining[table] ?? 0) + 1;
    return remaining;
  };
  if (!more) return count(rows);
  const also = passedViews(cursor);
  const all = await reader.changesSince(cursor.known, mostCounted, cursor.since, wantedChanges(store, view, also));
  return all.more ? undefined : count(all.changes.flatMap((change) => pulledRow(store, change, view, also)));
}
