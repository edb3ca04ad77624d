import {
  type ActionResult,
  type AppliedOrigin,
  type AssignedKey,
  KoinonError,
  limits,
  type PulledPage,
  type PullHeader,
} from '@koinon/core';
import { fetchBeside, noteUnsupported } from '../database/asked-columns.ts';
import { meta, setMeta } from '../database/layout.ts';
import { noteLost, originsOf, sentIds } from '../outbox/sending.ts';
import { beginResync, isForgetting, type ResyncReason } from '../overlay/resync.ts';
import { noRows } from '../overlay/show.ts';
import { takeReceipts } from './attempt.ts';
import { learnClock } from './clock.ts';
import { noteServerSchema, refuseForeign } from './foreign.ts';
import {
  type AskedPart,
  asksFor,
  hasMoreToAsk,
  keepsUnsent,
  noteArrived,
  noteSingleRows,
  partAsked,
} from './holdings.ts';
import { endWith } from './idle-timeout.ts';
import { canCompare, withKnownBytes } from './known-bytes.ts';
import type { SyncParts } from './parts.ts';
import { type Place, takePage } from './window.ts';

/** The facts that a page is asked for by. */
interface Question {
  readonly part: AskedPart;
  readonly cursor: string | undefined;
  readonly unacknowledged: readonly string[];
  readonly mayBeBehind: boolean;
}

/** A page that has been asked for. */
interface Asked extends Question {
  readonly page: Promise<PulledPage>;
  /** When, by this device's clock. */
  readonly sentAt: number;
  /** Nobody will look at it: what is still on its way need not come. */
  drop(): void;
}

/** Pages one after the other that bring nothing and lead no further, while more are announced. */
const mostIdle = 50;

/** How often one sync begins anew, for what a server says and then says otherwise; the next sync goes on with it. */
const mostRepeats = 5;

const isSame = (one: Question, other: Question) =>
  one.cursor === other.cursor &&
  one.mayBeBehind === other.mayBeBehind &&
  JSON.stringify([one.unacknowledged, one.part]) === JSON.stringify([other.unacknowledged, other.part]);

/** The pages that come down in one sync, each taken in onto its cursor. */
export class Download {
  /** Rows that changed on this device. */
  readonly down = noRows();
  /** Rows the server sent. */
  received = 0;
  startedOver = false;
  private readonly parts: SyncParts;
  private readonly signal: AbortSignal | undefined;
  /** The replica that asks. */
  private readonly about: { readonly replica: string; readonly schemaVersion: number };
  /** Sends something between two pages of a first download; returns whether to go on with that. */
  private readonly between: (() => Promise<boolean>) | undefined;
  /** Tells whether the server has come to know more of what is asked for, and how often it has. */
  private hasGained = false;
  private timesGained = 0;
  private wantsNewest = false;
  /** How often it was asked what the server has applied. */
  private timesAsked = 0;

  constructor(
    parts: SyncParts,
    signal: AbortSignal | undefined,
    about: { readonly replica: string; readonly schemaVersion: number },
    between?: () => Promise<boolean>,
  ) {
    this.parts = parts;
    this.signal = signal;
    this.about = about;
    this.between = between;
  }

  /**
   * Brings down all there is. A replica that gained tables or columns first fetches what the server holds of them, as a
   * snapshot beside its cursor. The cursor stays where it was, so what was changed or deleted since comes by it afterwards. What it cannot tell is
   * asked by the cursor that the snapshot ended with.
   *
   * @param isOvertaken the server is known to have something newer: an answer that is behind would not have it.
   */
  async pull(isOvertaken = false): Promise<void> {
    this.parts.enter('pulling');
    this.wantsNewest = isOvertaken || this.parts.isCalledFor;
    let goesOn = true;
    while (goesOn) {
      this.hasGained = false;
      // One snapshot is settled before another one begins.
      const isFetched = await this.parts.change(({ database }) => meta(database, 'backfilled') !== undefined);
      if (!isFetched) await this.pullFrom('backfill');
      await this.pullFrom('cursor');
      await this.pullFrom('backfilled');
      goesOn = this.hasGained || isFetched;
    }
  }

  /** Brings down pages from one of the cursors until there is no more to come from it. */
  private async pullFrom(place: Place): Promise<void> {
    const asking: { ahead?: Asked | undefined } = {};
    try {
      await this.pages(place, asking);
    } finally {
      asking.ahead?.drop();
    }
  }

  private async pages(place: Place, asking: { ahead?: Asked | undefined }): Promise<void> {
    const { parts } = this;
    // On a poor link a first download may take days: what is new here, or was changed after it came, does not wait for it.
    let between = place === 'cursor' ? this.between : undefined;
    let [idle, reached] = [0, -1];
    for (let goesOn = true; goesOn; ) {
      if (between && parts.server.isKnown && (await this.isFirstDownload()) && !(await between())) between = undefined;
      // A snapshot beside the own cursor must not be older than it: the own cursor does not tell that again.
      const mayBeBehind = place === 'cursor' && !this.wantsNewest;
      const { cursor, unacknowledged, part } = await parts.change((local) => ({
        cursor: meta(local.database, place),
        unacknowledged: sentIds(local.outbox, 'confirmed').slice(0, limits.ownTransactions),
        part: partAsked(local, parts.only),
      }));
      if (place !== 'cursor' && cursor === undefined) return;
      const asked = this.askedAhead(asking, { cursor, mayBeBehind, unacknowledged, part });
      const page = await this.answer(asked);
      if (page === undefined) {
        if (place !== 'cursor') return;
        continue;
      }
      checkServer(parts, page.header);
      if (await this.askApplied(page.header.uploads)) continue;
      const { header } = page;
      // A server that leads nowhere must not keep a device busy, and its battery.
      const leadsOn = header.rows > 0 || (header.kind === 'changes' && header.to > reached);
      idle = leadsOn ? 0 : idle + 1;
      reached = header.to;
      if ((header.more || !header.last) && (header.cursor === cursor || idle > mostIdle)) throw leadsNowhere();
      const { acknowledged } = header;
      // The list of confirmed transactions stays the same, so that the next request is known already: it is under way while this page is taken.
      if ((place === 'backfill' ? !header.last : header.more) && acknowledged.length === 0)
        asking.ahead = this.ask({ cursor: header.cursor, mayBeBehind, unacknowledged, part });
      const taken = await this.take(page, place, asked);
      // Something was typed into what the page takes away: it is asked for again, from where this replica is.
      if (taken === undefined) continue;
      const { gains, asksMore } = taken;
      // More were confirmed than one pull may ask about: the next one asks about the rest.
      const isCutShort = unacknowledged.length === limits.ownTransactions && acknowledged.length > 0;
      if (place === 'cursor') goesOn = header.more || isCutShort || asksMore;
      else goesOn = place === 'backfilled' ? header.more : !header.last && !gains;
      // Between servers of two versions it could go to and fro for ever: the next sync goes on with it.
      if (gains) this.hasGained = ++this.timesGained <= mostRepeats;
    }
  }

  private isFirstDownload(): Promise<boolean> {
    return this.parts.change(({ database }) => meta(database, 'complete') === undefined);
  }

  /** The page that was asked for ahead, where it is the one that is wanted; else it is asked for now. */
  private askedAhead(asking: { ahead?: Asked | undefined }, wanted: Question): Asked {
    const { ahead } = asking;
    asking.ahead = undefined;
    if (ahead && isSame(ahead, wanted)) return ahead;
    ahead?.drop();
    return this.ask(wanted);
  }

  /** Asks for the page behind a cursor. @param omits whether bytes that this replica has sent itself may be left out. */
  private ask({ cursor, mayBeBehind, unacknowledged, part }: Question, omits = canCompare()): Asked {
    const { parts, about } = this;
    const over = new AbortController();
    const release = endWith(this.signal, over);
    const request = {
      ...(cursor ? { cursor } : {}),
      mayBeBehind,
      unacknowledged,
      omitKnownBytes: omits,
      rowBlocks: true,
      ...about,
      ...part.only,
    };
    const page = parts.transport.pull(request, over.signal);
    // It may be that nobody comes to look at it: a failure is nobody's then.
    page.then(release, release);
    return { part, cursor, mayBeBehind, unacknowledged, page, sentAt: parts.host.now(), drop: () => over.abort() };
  }

  /** The page that was asked for; undefined where the server does not know the cursor any more, and all begins anew. */
  private async answer(asked: Asked): Promise<PulledPage | undefined> {
    const { parts } = this;
    const { cursor } = asked;
    try {
      const whole = await withKnownBytes(parts.change, await asked.page);
      return whole ?? (await this.ask(asked, false).page);
    } catch (error) {
      if (!isUnknownCursor(error) || !cursor) throw error;
      this.startedOver = true;
      await parts.change((local) => beginResync(local, resyncReason(error)));
      return undefined;
    }
  }

  /** Takes a page in; tells whether the server has come to know more of what is asked for. Undefined where it could not be taken in. */
  private async take(
    page: PulledPage,
    place: Place,
    { cursor, sentAt, part }: Asked,
  ): Promise<{ readonly gains: boolean; readonly asksMore: boolean } | undefined> {
    const { parts } = this;
    const { header, rows, blocks = [] } = page;
    const taken = await parts.change((local) => {
      const { database, host } = local;
      if (keepsUnsent(local, rows)) return undefined;
      learnClock(database, host, header.time, sentAt);
      noteServerSchema(database, header);
      // The server may have come to another version between any two answers.
      const isMore = noteUnsupported(database, header.unsupported);
      takePage(local, page, place, cursor, this.down, asksFor(parts.schema, part.only));
      if (isMore) fetchBeside(database);
      if (place === 'cursor') noteSingleRows(local, part.holdings, page);
      if (place === 'cursor' && !header.more && header.last) noteArrived(local, part.holdings);
      return { gains: isMore, asksMore: hasMoreToAsk(local, part.holdings) };
    });
    if (taken === undefined) return undefined;
    const { traffic, schema } = parts;
    if (header.remaining) traffic.expected = this.received + total(header.remaining);
    this.received += header.rows;
    // Tables that this app does not know come to nothing here, and a server could name any number of them.
    for (const row of rows) if (schema.tables[row.table]) traffic.note('down', row);
    for (const block of blocks) if (schema.tables[block.table]) traffic.noteBlock(block);
    if (header.remainingBytes && traffic.expectedBytes === null) traffic.expectedBytes = total(header.remainingBytes);
    traffic.received = this.received;
    return taken;
  }

  /**
   * A replica that counts other uploads than the server was put back to an earlier state, or copied, or the server was: before
   * anything is merged, what the server has applied counts as that. Returns whether that was so.
   */
  private async askApplied(uploads: number | undefined): Promise<boolean> {
    const { parts } = this;
    if (uploads === undefined) return false;
    const origins = await parts.change(({ database, outbox }) => {
      if (meta(database, 'uploads') === String(uploads)) return undefined;
      const found = originsOf(outbox);
      // Nothing has to come back: there is nothing to ask.
      if (found.length === 0) setMeta(database, 'uploads', String(uploads));
      return found;
    });
    if (origins === undefined || origins.length === 0) return false;
    // Another copy may be sending just now, but not at every look.
    if (++this.timesAsked > mostRepeats) throw keepsCounting();
    const receipts: AppliedOrigin[] = [];
    const assigned: AssignedKey[] = [];
    const results: ActionResult[] = [];
    for (let from = 0; parts.transport.applied && from < origins.length; from += limits.origins) {
      const request = { replica: this.about.replica, origins: origins.slice(from, from + limits.origins) };
      const answer = await parts.transport.applied(request, this.signal);
      receipts.push(...answer.receipts);
      assigned.push(...(answer.assigned ?? []));
      results.push(...(answer.results ?? []));
    }
    await parts.change((local) => {
      takeReceipts(local, receipts, assigned, results);
      // A restored server has lost what it had confirmed. One that has forgotten it in time has it in its rows.
      if (parts.transport.applied && !isForgetting(local.database)) noteLost(local.outbox, receipts);
      setMeta(local.database, 'uploads', String(uploads));
    });
    return true;
  }
}

/** Makes sure that it is the app's own server. @throws KoinonError `schema-foreign`. */
export function checkServer({ schema, only, server }: SyncParts, header: PullHeader): void {
  refuseForeign(schema, only, header);
  server.isKnown = true;
}

/** Tells whether the server cannot go on from a cursor: it is of another feed, or ahead of this one, or too old. */
export function isUnknownCursor(error: unknown): boolean {
  return error instanceof KoinonError && ['unknown-cursor', 'feed-restored', 'forgotten-cursor'].includes(error.code);
}

function resyncReason(error: unknown): ResyncReason {
  const { code } = error as KoinonError;
  return code === 'forgotten-cursor' ? 'forgotten' : code === 'feed-restored' ? 'restored' : 'unknown';
}

function leadsNowhere(): KoinonError {
  return new KoinonError(
    'server-answer',
    'The server announces more and more rows, and sends none of them. Everything unsent is kept; sync again later.',
  );
}

function keepsCounting(): KoinonError {
  return new KoinonError(
    'server-answer',
    `The server gave another number of applied transactions of this replica ${mostRepeats + 1} times in one sync. Another copy of this file may be sending at the same time. Everything unsent is kept; sync again.`,
  );
}

const total = (counts: Readonly<Record<string, number>>) =>
  Object.values(counts).reduce((sum, count) => sum + count, 0);
