import { type Cursor, KoinonError, type Only, type Position, type PulledRow } from '@koinon/core';
import { sealCursor } from '../cursor/seal.ts';
import { nextPage, pageBytes, pulledRow } from '../feed/page.ts';
import { largeBytes } from '../pull/known-bytes.ts';
import { type Access, cursorOf, refuseUnknown } from '../pull/pull.ts';
import { type View, viewOf } from '../scope/view.ts';
import type { Changed, Store, StoreReader, Wake } from '../store/store.ts';
import { together } from '../store/together.ts';
import { type Group, type Member, Members } from './members.ts';

/** A stretch of the feed, as far as it concerns one follower. */
export interface Window {
  readonly from: string;
  readonly cursor: string;
  readonly position: number;
  readonly rows: readonly PulledRow[];
  /** Those of the follower's own transactions whose effect is in it. */
  readonly applied: readonly string[];
  /** Its members as the protocol's JSON has them, without the braces. */
  readonly json: string;
}

/** Somebody who follows the feed. */
export interface Follower {
  /** Takes the stretch from where it stood to where all who follow stand; it may be empty. */
  joined(window: Window, uploads: number): void;
  /** Takes the next one, which begins where the one before ended. */
  window(window: Window): void;
  /** There is more than is sent this way, or it may have something else now than before: it follows no longer. */
  behind(): void;
  /** Contents of files have been stored, whosever they are. */
  contentStored?(): void;
  /** Rows of tables that it queries have changed, and it may read them or might before. */
  moved?(tables: readonly string[]): void;
  /** For whom it follows. */
  readonly access: Access;
  /** The part that it asks for of what devices hold, all of that without it; or everything that its user may read. */
  readonly asked?: Only | 'everything' | undefined;
  /** The tables of which it is told by {@link moved}. */
  readonly queried?: ReadonlySet<string> | undefined;
  /** The replica whose own transactions are named to it. */
  readonly replica?: string | undefined;
  /** The tables it waits for; all without it. */
  readonly tables?: ReadonlySet<string> | undefined;
}

/** How much is in one window at most. */
const windowRoom = { rows: 2_000, bytes: pageBytes };

/** Bytes that may be taken by what followers ask for and by their cursors, all together. */
const askedRoom = 256_000_000;

/** How many times its length as JSON a condition takes in memory. */
const takenByConditions = 10;

/** Milliseconds after which a feed without changes moves its followers on: positions must not grow old. */
const renewEvery = 3_600_000;

/** Milliseconds for which followers are brought up before the others get what has come meanwhile, and how many at once. */
const joinTurn = 50;
const joinAtOnce = 8;

/**
 * Milliseconds between two attempts to read a feed that could not be read, and for how long followers wait for it: a database that starts
 * again has all of them in the place where they were.
 */
const readAgainAfter = 500;
const patience = 15_000;

/** Milliseconds for which stored contents are told of together. */
const contentsWithin = 250;

/** The position of a follower that is yet to be brought to where the others are. */
interface JoiningFollower {
  readonly cursor: Cursor;
  /** The cursor as it was given. */
  readonly token: string;
}

/**
 * Reads the feed once per wake-up for everybody who follows it in this process. A change costs what those cost whom it
 * concerns: they are found by the values that their scopes filter by, and nobody else is looked at. Who joins is brought to
 * where the others stand by a read of its own, in the same snapshot.
 */
export class Hub {
  private readonly store: Store;
  private readonly reportDelivered: (rows: number, followers: number) => void;
  private readonly members: Members;
  /** Those who are yet to be brought to where the others are. */
  private readonly joining = new Map<Follower, JoiningFollower>();
  /** The share of each follower in {@link askedRoom}. */
  private readonly asked = new Map<Follower, number>();
  private askedSize = 0;
  private known: Position | undefined;
  /** The end of the feed when it was read last. */
  private readTo: Position | undefined;
  /** The beginning of a long delta, of which not all has been sent. */
  private since: Position | undefined;
  private movedAt = 0;
  private running: Promise<void> | undefined;
  private isDue = false;
  private isClosed = false;
  /** Since when the feed cannot be read. */
  private failingSince: number | undefined;
  private retryTimer: NodeJS.Timeout | undefined;
  private stopWatching: (() => void) | undefined;
  private contentTimer: NodeJS.Timeout | undefined;

  /** @param reportDelivered is told of each window: its rows, and how many get it. */
  constructor(store: Store, reportDelivered: (rows: number, followers: number) => void = () => undefined) {
    this.store = store;
    this.reportDelivered = reportDelivered;
    this.members = new Members(store);
  }

  /** How many follow. */
  get size(): number {
    return this.members.size + this.joining.size;
  }

  /**
   * Follows from a cursor on, until the returned function is called.
   *
   * @throws KoinonError `too-many-requests` while all who follow ask for more than is held in memory.
   */
  follow(follower: Follower, cursor: Cursor, token: string): () => void {
    this.release(follower);
    const { asked } = follower;
    const size = token.length + takenByConditions * (asked === undefined ? 0 : JSON.stringify(asked).length);
    if (this.askedSize + size > askedRoom)
      throw new KoinonError(
        'too-many-requests',
        'The replicas that are connected ask for more columns and conditions than the server holds in memory; pull meanwhile, and try again.',
      );
    this.asked.set(follower, size);
    this.askedSize += size;
    this.joining.set(follower, { cursor, token });
    this.stopWatching ??= this.store.watch(this.wake);
    this.wake();
    return () => this.leave(follower);
  }

  /** Something may have changed. */
  wake: Wake = (isRead) => {
    if (this.isClosed || this.size === 0) return;
    // What was written here has been read at once.
    if (this.readTo !== undefined && isRead?.(this.readTo)) return;
    if (this.running) {
      this.isDue = true;
      return;
    }
    this.running = this.read()
      .catch(() => this.failed())
      .finally(() => {
        this.running = undefined;
        if (!this.isDue) return;
        this.isDue = false;
        this.wake();
      });
  };

  /** A content was stored: those who asked for that are told, a little later, since photos come in numbers. */
  contentStored(): void {
    if (this.isClosed) return;
    this.contentTimer ??= setTimeout(() => {
      this.contentTimer = undefined;
      for (const follower of [...this.members.followers(), ...this.joining.keys()]) follower.contentStored?.();
    }, contentsWithin).unref();
  }

  /** Ends for good, when what is under way has ended. */
  async close(): Promise<void> {
    this.isClosed = true;
    clearTimeout(this.contentTimer);
    clearTimeout(this.retryTimer);
    this.stopWatching?.();
    await this.running;
  }

  private leave(follower: Follower): void {
    this.release(follower);
    if (this.size > 0) return;
    // Nobody listens: the feed is not read until somebody does, and then from where it is by then.
    this.stopWatching?.();
    this.stopWatching = undefined;
    this.failingSince = undefined;
  }

  private forget(follower: Follower): void {
    this.joining.delete(follower);
    this.members.forget(follower);
  }

  /** Forgets one who is gone, and what it asked by. */
  private release(follower: Follower): void {
    this.forget(follower);
    this.askedSize -= this.asked.get(follower) ?? 0;
    this.asked.delete(follower);
  }

  private dismiss(follower: Follower): void {
    this.leave(follower);
    follower.behind();
  }

  private dismissAll(): void {
    for (const follower of [...this.members.followers(), ...this.joining.keys()]) this.dismiss(follower);
  }

  /** The database is away, for a moment mostly. If it stays away they are asked to pull, which tells them what is the matter. */
  private failed(): void {
    if (this.isClosed) return;
    this.failingSince ??= Date.now();
    if (Date.now() - this.failingSince > patience) {
      this.failingSince = undefined;
      this.dismissAll();
      return;
    }
    clearTimeout(this.retryTimer);
    this.retryTimer = setTimeout(() => this.wake(), readAgainAfter).unref();
  }

  /** Reads the feed up to its end, window by window, each in a snapshot of its own. */
  private async read(): Promise<void> {
    for (let more = true; more && !this.isClosed; ) {
      const deliveries: (() => void)[] = [];
      try {
        more = await this.store.read((reader) => this.readWindow(reader, deliveries));
        this.failingSince = undefined;
      } finally {
        // Whoever is told something stands behind it by now, even if the reading went no further.
        for (const each of deliveries) each();
      }
    }
  }

  private async readWindow(reader: StoreReader, deliveries: (() => void)[]): Promise<boolean> {
    // If nobody follows, there is nothing to be told: who joins is brought to the present.
    if (this.known === undefined || this.members.size === 0) {
      this.known = await reader.position();
      this.since = undefined;
    }
    const from = this.known;
    const now = await reader.position();
    if (this.store.ordinal(now) < this.store.ordinal(from)) {
      // The database was put back to an earlier state: a pull tells each what that means for it.
      this.known = undefined;
      deliveries.push(() => this.dismissAll());
      return false;
    }
    const page = await reader.changesSince(from, windowRoom, this.since);
    const isOld = Date.now() - this.movedAt > renewEvery;
    if (page.changes.length > 0 || isOld) {
      const applied = new Map<string, string[]>();
      for (const { id, replica } of await reader.receiptsBetween(from, page.to))
        if (replica !== null) applied.set(replica, [...(applied.get(replica) ?? []), id]);
      this.since = page.more ? (this.since ?? from) : undefined;
      this.known = page.to;
      this.movedAt = Date.now();
      try {
        this.broadcast(page.changes, applied, isOld, deliveries);
      } catch {
        // Some have passed these changes and others have not: all begin anew.
        deliveries.push(() => this.dismissAll());
        return false;
      }
    }
    this.readTo = page.more ? undefined : now;
    if (page.more) return true;
    const end = performance.now() + joinTurn;
    while (this.joining.size > 0 && performance.now() < end) {
      const some = [...this.joining].slice(0, joinAtOnce);
      await together(...some.map(([follower, joiningAt]) => this.bringUp(reader, follower, joiningAt, deliveries)));
    }
    return this.joining.size > 0;
  }

  /** Has everybody told whom these changes concern. */
  private broadcast(
    changes: readonly Changed[],
    applied: ReadonlyMap<string, readonly string[]>,
    isOld: boolean,
    deliveries: (() => void)[],
  ): void {
    const rows = new Map<Group, PulledRow[]>();
    const toReevaluate = new Set<Follower>();
    const moved = new Map<Follower, Set<string>>();
    for (const change of changes) {
      for (const follower of this.members.followersQuerying(change))
        moved.set(follower, (moved.get(follower) ?? new Set()).add(change.table));
      for (const follower of this.members.followersToReevaluate(change)) toReevaluate.add(follower);
      for (const group of this.members.groupsFor(change)) {
        const pulled = pulledRow(this.store, change, group.view);
        const known = rows.get(group);
        if (known) known.push(...pulled);
        else if (pulled.length > 0) rows.set(group, pulled);
      }
    }
    // Their rights may be others now: before they are told anything else, they pull.
    for (const follower of toReevaluate) {
      this.forget(follower);
      deliveries.push(() => this.dismiss(follower));
    }
    let count = 0;
    // The sender has it on the screen already: the others are told first.
    const senders: (() => void)[] = [];
    for (const group of isOld ? this.members.groups() : rows.keys()) {
      const some = rows.get(group) ?? [];
      const shared = this.shared(group.view, some);
      for (const follower of group.followers) {
        const own = (follower.replica === undefined ? undefined : applied.get(follower.replica)) ?? [];
        if (this.pass(follower, some, own, shared, isOld, own.length > 0 ? senders : deliveries)) count++;
      }
    }
    // A sender who does not get the rows himself is told that it is done.
    for (const [replica, own] of applied)
      for (const follower of this.members.of(replica)) {
        const { group } = this.members.get(follower) as Member;
        if (isOld || rows.has(group)) continue;
        if (this.pass(follower, [], own, this.shared(group.view, []), isOld, senders)) count++;
      }
    deliveries.push(...senders);
    for (const [follower, tables] of moved)
      deliveries.push(() => this.members.get(follower) !== undefined && follower.moved?.([...tables]));
    if (count > 0) deliveries.push(() => this.reportDelivered(changes.length, count));
  }

  /** Has one follower told; false for one who does not wait for this. */
  private pass(
    follower: Follower,
    rows: readonly PulledRow[],
    applied: readonly string[],
    shared: Shared,
    isOld: boolean,
    deliveries: (() => void)[],
  ): boolean {
    const member = this.members.get(follower) as Member;
    const isAwaited = isOld || applied.length > 0 || isConcerned(follower, rows);
    if (!isAwaited) {
      // Rows that it does not wait for come along with those that it does.
      member.isWaiting = true;
      return false;
    }
    if (member.isWaiting) {
      this.forget(follower);
      this.joining.set(follower, {
        cursor: cursorOf(this.store, member.token, follower.access.user),
        token: member.token,
      });
      return false;
    }
    // Rows that it has sent itself need not come back to it: a pull leaves them out.
    if (applied.length > 0 && rows.some((row) => largeBytes(this.store.schema, row).length > 0)) {
      this.forget(follower);
      deliveries.push(() => this.dismiss(follower));
      return false;
    }
    const from = member.token;
    const window = windowOf(from, this.cursorFor(follower, shared), shared, applied);
    member.token = window.cursor;
    deliveries.push(() => this.members.get(follower) === member && follower.window(window));
    return true;
  }

  /** Brings one who joins to where the others are; in the snapshot in which they got there. */
  private async bringUp(
    reader: StoreReader,
    follower: Follower,
    joiningAt: JoiningFollower,
    deliveries: (() => void)[],
  ): Promise<void> {
    const { access, asked } = follower;
    const found = await this.lacking(reader, access, asked, joiningAt).catch(() => undefined);
    const { replica } = follower;
    const [between, uploads] = await together(
      reader.receiptsBetween(joiningAt.cursor.known, await reader.position()),
      replica === undefined ? 0 : reader.uploads(replica),
    );
    // It may have gone, or joined anew, while this was read.
    if (this.joining.get(follower) !== joiningAt) return;
    this.joining.delete(follower);
    if (found === undefined) {
      deliveries.push(() => this.dismiss(follower));
      return;
    }
    const { rows, view, consulted, readable } = found;
    const shared = this.shared(view, rows);
    const applied = between.filter((receipt) => receipt.replica === replica).map(({ id }) => id);
    const cursor = this.cursorFor(follower, shared);
    this.members.enter(follower, { view, consulted, queried: queriedBy(follower, readable) }, cursor);
    deliveries.push(() =>
      follower.joined(windowOf(joiningAt.token, cursor, shared, replica === undefined ? [] : applied), uploads),
    );
  }

  /** The rows that a joining follower lacks; undefined where that is more than a window, or not for the scope that it had. */
  private async lacking(
    reader: StoreReader,
    access: Access,
    asked: Follower['asked'],
    { cursor, token }: JoiningFollower,
  ) {
    await refuseUnknown(reader, cursor, token);
    const { scopes, user } = access;
    const { view, consulted, readable } =
      asked === 'everything'
        ? { ...(await scopes.evaluate(user, reader)), readable: undefined }
        : await scopes.evaluateHeld(user, reader, asked);
    if (viewOf(cursor.scope).scopeDigest !== view.scopeDigest || cursor.resume !== undefined) return undefined;
    const { rows, more } = await nextPage(this.store, reader, cursor, view, windowRoom);
    return more ? undefined : { rows, view, consulted, readable };
  }

  /** The part that is the same for all of one scope who are told of some rows. Between the others' position and the present there is nothing. */
  private shared({ isWhole, scope }: View, rows: readonly PulledRow[]): Shared {
    const { feed, schema } = this.store;
    const known = this.known as Position;
    const { since } = this;
    const cursor = {
      feed,
      known,
      schemaVersion: schema.version,
      ...(since && { since }),
      ...(isWhole ? {} : { scope }),
    };
    const position = this.store.ordinal(known);
    const json = JSON.stringify({ position, rows, time: new Date().toISOString() }).slice(1, -1);
    return { cursor, tokens: new Map(), position, rows, json };
  }

  /** The cursor that a follower gets with a window: one for all who are the same user. */
  private cursorFor({ access: { user } }: Follower, { cursor, tokens }: Shared): string {
    const known = tokens.get(user?.id);
    if (known !== undefined) return known;
    const token = sealCursor({ ...cursor, ...(user && { user: user.id }) }, this.store.keys);
    tokens.set(user?.id, token);
    return token;
  }
}

/** A window, but for whose it is. */
interface Shared extends Pick<Window, 'position' | 'rows' | 'json'> {
  readonly cursor: Cursor;
  readonly tokens: Map<string | undefined, string>;
}

function windowOf(from: string, cursor: string, { position, rows, json }: Shared, applied: readonly string[]): Window {
  const own = JSON.stringify({ from, cursor, applied }).slice(1, -1);
  return { from, cursor, position, rows, applied, json: `${own},${json}` };
}

/** The tables that a follower queries, with the rows of them that he may read. */
function queriedBy({ queried }: Follower, readable: (() => View) | undefined) {
  const view = queried === undefined || queried.size === 0 ? undefined : readable?.();
  return view === undefined ? [] : [...(queried ?? [])].map((table) => ({ table, where: view.where(table) }));
}

function isConcerned({ tables }: Follower, rows: readonly PulledRow[]): boolean {
  return tables === undefined || rows.some(({ table }) => tables.has(table));
}
