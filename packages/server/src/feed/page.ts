import type {
  Condition,
  Cursor,
  PassedScope,
  Position,
  PulledRow,
  Scope,
  Table,
  TableFilter,
  WireColumns,
} from '@koinon/core';
import { intersection, isNothing, minus, nothing, union, type View, viewOf, whole } from '../scope/view.ts';
import { type Changed, mostLooked, type Room, type Store, type StoreReader, type Wanted } from '../store/store.ts';
import { rowTimes } from '../store/times.ts';

/** A page of what a replica is to be told, and where it stands with it. */
export interface Page {
  /** Tells whether rows come by key, as in a first download, or what became of them. */
  readonly by: 'key' | 'change';
  /** Tells whether it is one of a first download: then each row comes once. */
  readonly isFirst: boolean;
  readonly rows: readonly PulledRow[];
  /** Rows beside those, as the database has made their text. */
  readonly blocks: readonly TextBlock[];
  readonly next: Cursor;
  /** Tells whether there is more to come at once. */
  readonly more: boolean;
}

/** A block of rows, whose rows are text already. */
export interface TextBlock {
  readonly table: string;
  readonly position: number;
  readonly columns: readonly string[];
  readonly count: number;
  /** The rows, as a {@link RowBlock} has them. */
  readonly json: string;
}

/** How much a page may hold, and whether its rows may be blocks. */
export interface PageRoom extends Room {
  readonly asBlocks?: boolean;
}

/** Bytes that the rows of a page hold at most, about: a page is in memory, here and there, and goes over links that break. */
export const pageBytes = 1_048_576;

/** The cursor of a reader who has nothing. */
export async function firstCursor(store: Store, reader: StoreReader, view: View): Promise<Cursor> {
  const known = await reader.position();
  const cursor = { feed: store.feed, known, schemaVersion: store.schema.version };
  return { ...began(store, cursor, view), also: [{ scope: view.scope }] };
}

/**
 * The next page from a cursor on, for a scope. Where it is not the scope that the cursor was given for, only the
 * difference moves: first, by key, the rows that are new in it and those that are not in it any more; then what has
 * changed behind the cursor, for as long as those rows may have changed meanwhile.
 */
export async function nextPage(
  store: Store,
  reader: StoreReader,
  given: Cursor,
  view: View,
  room: PageRoom,
): Promise<Page> {
  const cursor = viewOf(given.scope).scopeDigest === view.scopeDigest ? given : startOver(store, given, view);
  return cursor.resume === undefined
    ? changesPage(store, reader, cursor, view, room)
    : keysPage(store, reader, cursor, view, room);
}

/** From here on rows come by key. What was begun for another scope may have brought rows of that one. */
function startOver(store: Store, cursor: Cursor, view: View): Cursor {
  const { resume, held = resume ? undefined : (cursor.scope ?? {}), also = [], scope = {}, ...rest } = cursor;
  return {
    ...began(store, rest, view),
    ...(held && { held }),
    also: distinct([...also, { scope }, { scope: view.scope }]),
  };
}

function began(store: Store, cursor: Cursor, { scope }: View): Cursor {
  return { ...cursor, scope, resume: { table: Object.keys(store.schema.tables)[0] as string, after: null } };
}

/** Each scope once, with what is known of how far it was read. */
function distinct(passed: readonly PassedScope[]): PassedScope[] {
  const found = new Map<string, PassedScope>();
  for (const each of passed) {
    const { digest } = viewOf(each.scope);
    if (!found.has(digest)) found.set(digest, each);
  }
  return [...found.values()];
}

/** The scopes of which a replica may have rows, each with how far the feed had come when it got them. */
export function passedViews({ also = [], known, since = known }: Cursor): PassedView[] {
  return also.map(({ scope, readAt = since }) => ({ view: viewOf(scope), at: readAt }));
}

/** A scope of which a replica may have rows, as they were up to a position. */
export interface PassedView {
  readonly view: View;
  readonly at: Position;
}

/** Notes how far the rows of the scope that is read by key have been read. */
function readUpTo(cursor: Cursor, view: View, readAt: Position): Pick<Cursor, 'also'> {
  const { also } = cursor;
  if (also === undefined) return {};
  return { also: also.map((each) => (viewOf(each.scope).digest === view.scopeDigest ? { ...each, readAt } : each)) };
}

async function keysPage(store: Store, reader: StoreReader, cursor: Cursor, view: View, room: PageRoom): Promise<Page> {
  const tables = Object.keys(store.schema.tables);
  const start = cursor.resume as NonNullable<Cursor['resume']>;
  const rows: PulledRow[] = [];
  const blocks: TextBlock[] = [];
  const isFirst = cursor.held === undefined && (cursor.also ?? []).length <= 1;
  let { after } = start;
  let [bytes, count] = [0, 0];
  const readAt = await reader.position();
  const upTo = (table: string, id: string | null): Page => {
    const next = { ...cursor, ...readUpTo(cursor, view, readAt), resume: { table, after: id } };
    return { by: 'key', isFirst, rows, blocks, next, more: true };
  };
  for (const table of tables.slice(Math.max(0, tables.indexOf(start.table)))) {
    const fits = { rows: room.rows - count - rows.length, bytes: room.bytes - bytes };
    if (fits.bytes <= 0) return upTo(table, after);
    const where = movedRows(cursor, view, table);
    // All rows that are found are in the scope if none can have left it.
    if (room.asBlocks && view.knows(table) && (isFirst || isNothing(leftRows(cursor, view, table)))) {
      const columns = Object.keys(view.columns(table, store.schema.tables[table]?.columns ?? {}));
      const text = await reader.rowTextAfter(table, columns, after, fits, where);
      if (text !== undefined) {
        bytes += text.json.length;
        count += text.count;
        if (text.count > 0)
          blocks.push({ table, position: store.ordinal(readAt), columns, count: text.count, json: text.json });
        if (text.more) return upTo(table, text.last ?? after);
        after = null;
        continue;
      }
    }
    const found = await reader.rowsAfter(table, after, fits, where);
    bytes += found.bytes;
    const known = view.knows(table) ? found.rows : [];
    const outside = new Set(known.filter((row) => !view.has(table, row.id, row.columns)).map(({ id }) => id));
    // A row that came into another scope later is not told: it is not there, and none of the user's any more.
    const left = new Set<string>();
    for (const passed of outside.size === 0 ? [] : passedViews(cursor)) {
      const ids = known.filter(({ id, columns }) => outside.has(id) && passed.view.has(table, id, columns));
      const there = await reader.unmoved(
        table,
        ids.map(({ id }) => id),
        passed.at,
      );
      for (const id of there) left.add(id);
    }
    for (const row of known) {
      const columns = view.columns(table, row.columns);
      if (outside.has(row.id)) {
        if (left.has(row.id)) rows.push({ kind: 'leave', table, id: row.id, position: row.position });
      } else rows.push(columns === row.columns ? row : { ...row, columns });
    }
    if (found.more) return upTo(table, found.rows.at(-1)?.id ?? after);
    after = null;
  }
  const { resume: _, held: __, also, ...rest } = cursor;
  // If nothing at all has changed meanwhile, the rows are those of the cursor's own position.
  const more = readAt !== cursor.known;
  const next = more && also ? { ...rest, ...readUpTo(cursor, view, readAt) } : rest;
  return { by: 'key', isFirst, rows, blocks, next: settled(next, view), more };
}

/** A cursor without what says nothing. */
function settled({ scope: _, ...cursor }: Cursor, { isWhole, scope }: View): Cursor {
  return isWhole ? cursor : { ...cursor, scope };
}

/** The rows of a table that come by key: what is not surely there, and what may be there and is not of the scope any more. */
export function movedRows({ held, also = [] }: Cursor, view: View, table: string) {
  const wanted = view.where(table);
  // A download that was begun for another scope and broken off may have taken rows away, or columns of them.
  const passed = held === undefined ? [] : [held, ...also.map(({ scope }) => scope)];
  const isSame = passed.length > 0 && passed.every((scope) => withoutOf(scope, table) === withoutOf(view.scope, table));
  const sure = isSame ? intersection(passed.map((scope) => viewOf(scope).where(table))) : nothing;
  return union([minus(wanted, sure), leftRows({ also }, view, table)]);
}

/** The rows of a table that may be there and are not of the scope. */
function leftRows({ also = [] }: Pick<Cursor, 'also'>, view: View, table: string): Condition {
  return minus(union(also.map(({ scope }) => viewOf(scope).where(table))), view.where(table));
}

const withoutOf = (scope: Scope, table: string) =>
  (((Object.hasOwn(scope, table) ? scope[table] : undefined) ?? {}) as TableFilter).without?.join();

async function changesPage(store: Store, reader: StoreReader, cursor: Cursor, view: View, room: Room): Promise<Page> {
  const since = cursor.since ?? cursor.known;
  const also = passedViews(cursor);
  const wanted = wantedChanges(store, view, also);
  const rows: PulledRow[] = [];
  let known: Position = cursor.known;
  let more = true;
  for (
    let looked = 0, bytes = 0;
    more && rows.length * 2 < room.rows && bytes * 2 < room.bytes && looked < mostLooked;
  ) {
    const page = await reader.changesSince(known, room, since, wanted);
    for (const change of page.changes) rows.push(...pulledRow(store, change, view, also));
    known = page.to;
    more = page.more;
    looked += page.looked;
    bytes += page.bytes;
  }
  const { since: _, also: __, readAt: ___, ...rest } = cursor;
  const next = more ? { ...cursor, known, since, readAt: await reader.position() } : settled({ ...rest, known }, view);
  return { by: 'change', isFirst: false, rows, blocks: [], next, more };
}

/**
 * Conditions by table: {@link pulledRow} tells nothing of a row that has never fulfilled the one of its table. Without them a pull
 * reads what all others have written, for each device that was away.
 */
export function wantedChanges({ schema }: Store, view: View, also: readonly PassedView[]): Wanted {
  const views = [view, ...also.map((passed) => passed.view)];
  const limited = Object.keys(schema.tables).filter((table) => views.every((each) => !each.hasAll(table)));
  const isAlone = also.length === 0;
  return new Map(
    limited.map((table) => [table, isAlone ? view.where(table) : union(views.map((each) => each.where(table)))]),
  );
}

/**
 * The rows by which a replica is told of a changed row; nothing of one that it never had.
 *
 * @param also other scopes of which it may have rows.
 */
export function pulledRow(store: Store, change: Changed, view: View, also: readonly PassedView[] = []): PulledRow[] {
  const { table, id, position, row, past, image } = change;
  const definition = store.schema.tables[table];
  if (definition === undefined || !view.knows(table)) return [];
  if (row !== null && view.has(table, id, row)) {
    const columns = view.columns(table, row);
    if (change.isInserted || also.length > 0 || !past.every((values) => view.has(table, id, values)))
      return [
        { kind: 'insert', table, id, position, columns, ...rowTimes(definition, Object.keys(columns), change.times) },
      ];
    const names = change.changed.filter((name) => Object.hasOwn(columns, name));
    if (names.length === 0) return [];
    const changed = Object.fromEntries(names.map((name) => [name, columns[name] ?? null]));
    return [{ kind: 'update', table, id, position, columns: changed, ...rowTimes(definition, names, change.times) }];
  }
  if (!mayBeThere(change, definition, view) && !also.some((passed) => mayHaveCome(change, definition, passed)))
    return [];
  if (row !== null || (image !== undefined && !view.has(table, id, image)))
    return [{ kind: 'leave', table, id, position }];
  const editedAt = new Date(change.times.row).toISOString();
  const editedBy = change.times.by(null);
  return [
    {
      kind: 'delete',
      table,
      id,
      position,
      editedAt,
      ...(editedBy !== null && { editedBy }),
      ...(image && { columns: view.columns(table, image) }),
    },
  ];
}

/** Tells whether a row that is not in a scope now was in it when its reader was told of it. */
function mayBeThere(change: Changed, definition: Table, view: View): boolean {
  const { table, id, image, isNew } = change;
  // Made and gone again since: whoever stands there cannot have it.
  if (isNew) return false;
  // Of a row that went while nothing followed its table nobody knows what it held.
  return view.hasAll(table) || heldBefore(change, definition, image).some((values) => view.has(table, id, values));
}

/** Tells whether a row has come to a reader for a scope that was his. What it holds now it may hold only since: that is not his to know. */
function mayHaveCome(change: Changed, definition: Table, { view, at }: PassedView): boolean {
  const { table, id, row, image, wasMadeBy, isUnmovedSince } = change;
  if (!wasMadeBy(at)) return false;
  const last = row === null ? image : isUnmovedSince(at) ? row : undefined;
  return view.hasAll(table) || heldBefore(change, definition, last).some((values) => view.has(table, id, values));
}

/** Values that a row has had, as far as scopes go by them. Where scopes go by the id alone no value is remembered, and none is needed. */
function heldBefore({ past }: Changed, { filterable }: Table, last: WireColumns | undefined): readonly WireColumns[] {
  const known = last ? [last, ...past] : past;
  return known.length === 0 && filterable.length === 0 ? [{}] : known;
}

/** The changes behind a position, whoever may see them: about `limit` of them while there are that many, fewer of large ones. */
export async function feedPage(store: Store, reader: StoreReader, position: Position, limit: number) {
  const { changes, to, more } = await reader.changesSince(position, { rows: limit, bytes: pageBytes });
  return { entries: changes.flatMap((change) => pulledRow(store, change, whole)), to, more };
}
