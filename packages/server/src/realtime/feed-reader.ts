import { once } from 'node:events';
import type { Writable } from 'node:stream';
import { type Cursor, type FeedRequest, limits, type PulledRow, tableOf } from '@koinon/core';
import { sealCursor } from '../cursor/seal.ts';
import { nextPage, pageBytes } from '../feed/page.ts';
import { type Access, cursorOf, givenCursor, refuseUnknown } from '../pull/pull.ts';
import type { Store } from '../store/store.ts';
import type { Hub, Window } from './hub.ts';

/** Bytes that may wait for one reader. */
const mostWaiting = 1024 * 1024;

/** Milliseconds between two signs of life to a reader who follows. */
const beatEvery = 20_000;

/** The changes behind a position, for programs without a replica. */
export class FeedReader {
  private readonly store: Store;
  private readonly request: FeedRequest;
  private readonly access: Access;
  private cursor: Cursor;
  /** Tells whether the reader has named a cursor, which says what he was given, and not a number. */
  private readonly beganByCursor: boolean;
  private hasBegun = false;
  private token: string;

  /**
   * Opens the feed behind a position.
   *
   * @throws KoinonError `unknown-cursor`, `unknown-table`; `forgotten-cursor`, `feed-restored` where the feed does not reach back
   *   to it.
   */
  static async open(store: Store, request: FeedRequest, access: Access): Promise<FeedReader> {
    const { after = 0, table } = request;
    const { user } = access;
    if (table !== undefined) tableOf(store.schema, table);
    const { feed, schema } = store;
    const cursor =
      typeof after === 'string'
        ? await givenCursor(store, after, user)
        : { feed, known: store.positionAt(after), schemaVersion: schema.version, ...(user && { user: user.id }) };
    if (after !== 0) await store.read((reader) => refuseUnknown(reader, cursor, String(after)));
    return new FeedReader(store, request, access, cursor);
  }

  private constructor(store: Store, request: FeedRequest, access: Access, cursor: Cursor) {
    this.store = store;
    this.access = access;
    this.request = request;
    this.beganByCursor = typeof request.after === 'string';
    this.cursor = cursor;
    this.token = sealCursor(cursor, store.keys);
  }

  /** Every change up to the present as JSON Lines; the last line says where that is. */
  async *lines(): AsyncGenerator<string> {
    for await (const entries of this.pages()) for (const entry of entries) yield `${JSON.stringify(entry)}\n`;
    yield `${JSON.stringify({ cursor: this.token, position: this.store.ordinal(this.cursor.known) })}\n`;
  }

  /** Every change up to the present, and from then on, as server-sent events, until the reader goes. */
  async follow(hub: Hub, to: Writable, signal: AbortSignal): Promise<void> {
    const beat = setInterval(() => to.write(': beat\n\n'), beatEvery);
    try {
      while (!signal.aborted) {
        for await (const entries of this.pages()) {
          to.write(this.events(entries));
          if (to.writableLength > mostWaiting) await once(to, 'drain', { signal });
        }
        if (!signal.aborted) await this.followHub(hub, to, signal);
      }
    } catch (error) {
      if (!signal.aborted) throw error;
    } finally {
      clearInterval(beat);
      to.end();
    }
  }

  /** The pages up to the present. */
  private async *pages(): AsyncGenerator<readonly PulledRow[]> {
    const { store, access } = this;
    const hasCaughtUp = this.hasBegun;
    for (let more = true; more; ) {
      const page = await store.read(async (reader) => {
        const { view } = await access.scopes.evaluate(access.user, reader);
        // A reader who names a position has had what he may have now.
        const isCursor = this.beganByCursor || this.hasBegun;
        const cursor = isCursor || view.isWhole ? this.cursor : { ...this.cursor, scope: view.scope };
        return nextPage(store, reader, cursor, view, { rows: limits.pageRows, bytes: pageBytes });
      });
      this.hasBegun = true;
      this.moveTo(page.next);
      more = page.more;
      // A number says nothing of what its sender was given: rows that left his scope before may never have been his.
      const isTold = this.beganByCursor || hasCaughtUp;
      yield this.wanted(isTold ? page.rows : page.rows.filter(({ kind }) => kind !== 'leave'));
    }
  }

  /** Follows until the reader is slow, or behind for another reason; then the pages come first again. */
  private followHub(hub: Hub, to: Writable, signal: AbortSignal): Promise<void> {
    return new Promise((done) => {
      const end = () => {
        leave();
        signal.removeEventListener('abort', end);
        if (to.writableLength <= mostWaiting || signal.aborted) done();
        else to.once('drain', done).once('close', done);
      };
      const take = ({ rows, cursor }: Window) => {
        this.token = cursor;
        this.cursor = cursorOf(this.store, cursor, this.access.user);
        to.write(this.events(this.wanted(rows)));
        if (to.writableLength > mostWaiting) end();
      };
      signal.addEventListener('abort', end);
      const { access } = this;
      const leave = hub.follow(
        { joined: take, window: take, behind: end, access, asked: 'everything' },
        this.cursor,
        this.token,
      );
    });
  }

  /** The id stands at the last change of a stretch: whoever was cut off in the middle gets the whole again. */
  private events(entries: readonly PulledRow[]): string {
    return entries
      .map((entry, i) => {
        const id = i === entries.length - 1 ? `id: ${this.token}\n` : '';
        return `event: ${entry.kind}\n${id}data: ${JSON.stringify(entry)}\n\n`;
      })
      .join('');
  }

  private wanted(entries: readonly PulledRow[]): readonly PulledRow[] {
    const { table, kind } = this.request;
    return entries.filter(
      (entry) => (table === undefined || entry.table === table) && (kind === undefined || entry.kind === kind),
    );
  }

  private moveTo(cursor: Cursor): void {
    this.cursor = cursor;
    this.token = sealCursor(cursor, this.store.keys);
  }
}
