import {
  type AppliedOrigin,
  KoinonError,
  limits,
  type Only,
  type Outcome,
  type PulledPage,
  type PullHeader,
  type Schema,
} from '@koinon/core';
import type { Database } from '../database/database.ts';
import { meta, setMeta } from '../database/layout.ts';
import type { Host } from '../host/host.ts';
import { noteUnsupported } from '../link/columns.ts';
import { noteLost, originsOf, sentIds } from '../outbox/sending.ts';
import { noRows, type RowCounts } from '../overlay/show.ts';
import { beginSweep, isForgetting, type Lost } from '../overlay/sweep.ts';
import {
  type Attempt,
  attempt,
  type Chosen,
  choose,
  isPoisoned,
  type Local,
  portions,
  sendAttempt,
  takeReceipts,
  unansweredIn,
} from './attempt.ts';
import type { CheckedTransport } from './checked.ts';
import { learnClock } from './clock.ts';
import { noteServerSchema, refuseForeign } from './foreign.ts';
import { canCompare, withKnownBytes } from './known-bytes.ts';
import { endWith } from './patience.ts';
import type { Direction, Upload } from './state.ts';
import type { Traffic } from './traffic.ts';
import { takePage } from './window.ts';

/** What a sync step did. */
export interface SyncReport {
  /** Rows that changed on this device. */
  readonly down: Readonly<RowCounts>;
  /** Rows the server sent, those included that brought back what this device had sent. */
  readonly received: number;
  /** Transactions by what the server made of them. */
  readonly up: {
    readonly applied: number;
    readonly stale: number;
    readonly waiting: number;
    readonly rejected: number;
  };
  /** Whether the server no longer knew this replica's cursor, so that everything was fetched anew; unsent changes are kept. */
  readonly startedOver: boolean;
  /** The feed's position this replica has reached; null before its first pull. */
  readonly position: number | null;
}

/** What a sync step works with. */
export interface SyncParts {
  readonly transport: Pick<CheckedTransport, 'pull' | 'applied'>;
  /** Sends these exact bytes; returns the parsed answer. */
  readonly push: (body: string, signal: AbortSignal | undefined) => Promise<unknown>;
  readonly upload: Upload;
  readonly requestBytes: number;
  /** Whether what changes on the server arrives by itself, so that nothing need be fetched. */
  readonly isLive: () => boolean;
  /** Runs local work in a transaction of its own, when no transaction of the app is open. */
  readonly change: <T>(work: (local: Local) => T) => Promise<T>;
  /** Says what the step does next. */
  readonly enter: (phase: 'resending' | 'pulling' | 'pushing') => void;
  /** What it has moved so far. */
  readonly traffic: Traffic;
  /** What is asked for of what the user may have. */
  readonly only: Only;
  readonly host: Host;
  readonly schema: Schema;
  /** What is known of the server since the file was opened. */
  readonly server: { isKnown: boolean };
  /** Whether something goes up before anything has come down: what was never answered, or what does not wait for a first download. */
  readonly sendsFirst: () => Promise<boolean>;
}

/** A page that has been asked for. */
interface Asked {
  readonly cursor: string | undefined;
  readonly own: readonly string[];
  readonly page: Promise<PulledPage>;
  /** When, by this device's clock. */
  readonly sentAt: number;
  /** Nobody will look at it: what is still on its way need not come. */
  drop(): void;
}

/** Confirmed transactions that may wait for a pull before one comes between two pushes. */
const mostUnseen = 2_000;

/** Pages one after the other that bring nothing and lead no further, while more are announced. */
const mostIdle = 50;

/** A transaction that others keep overtaking is tried this often in one step; the next step goes on with it. */
const mostRounds = 5;

/**
 * One sync step. What was attempted before and never answered is settled first, with the same bytes; then the changes
 * come down and are merged; then the outbox goes up; then what it became comes back. A failure leaves everything
 * where it stood, and the next step goes on from there.
 */
export async function syncStep(parts: SyncParts, direction: Direction, signal?: AbortSignal): Promise<SyncReport> {
  const down = noRows();
  const up = { applied: 0, stale: 0, waiting: 0, rejected: 0 };
  let received = 0;
  let startedOver = false;
  let oneByOne = false;
  /** Whether the server has come to know more of what is asked for. */
  let hasGained = false;
  let hasBegun = false;
  /** How often the server had lost parts of a large transaction. */
  let timesIncomplete = 0;
  /** How often it was asked what the server has applied. */
  let timesAsked = 0;
  let timesGained = 0;
  /** What the server could not write just now is not sent again before everything else that can go. */
  const waiting = new Set<string>();
  const uploading = { ...parts, waiting };
  const pullsFirst = direction !== 'push' && !parts.isLive();
  const { schema } = parts;
  /** Makes sure that it is the app's own server. */
  const checkServer = (header: PullHeader): void => {
    refuseForeign(schema, parts.only, header);
    parts.server.isKnown = true;
  };
  if (!parts.server.isKnown && direction !== 'pull' && (!pullsFirst || (await parts.sendsFirst())))
    checkServer(
      (await parts.transport.pull({ schemaVersion: schema.version, ...parts.only, limit: 1 }, signal)).header,
    );
  const begun = await parts.change((local) => {
    const { database, outbox } = local;
    const unanswered = unansweredIn(database);
    return {
      about: { replica: meta(database, 'replica') as string, schemaVersion: schema.version },
      // A new row may be one that is there already: that is known when all are here.
      hasNaturalKeys: Object.values(schema.tables).some(({ naturalKey }) => naturalKey.length > 0),
      unanswered,
      toSend: outbox.count('pending', 'attempted'),
      // Where nothing comes before it, what goes up is chosen at once.
      chosen:
        unanswered === undefined && !pullsFirst && direction !== 'pull'
          ? attempt(local, portions.first, uploading)
          : undefined,
    };
  });
  const { hasNaturalKeys, unanswered, about } = begun;
  let { chosen: first } = begun;
  parts.traffic.toSend = begun.toSend;

  /** Sends what was chosen, and takes in what became of it. */
  const settle = async (attempted: Attempt): Promise<readonly Outcome[]> => {
    const outcomes = await sendAttempt(parts, attempted, signal).catch((error) => {
      if (!isPoisoned(error)) throw error;
      // Something in the request is at fault: one by one, the server finds which, and the others go on.
      oneByOne = true;
      return [];
    });
    for (const { outcome } of outcomes)
      if (outcome === 'blocked' || outcome === 'deferred') up.waiting++;
      else if (outcome === 'applied' || outcome === 'stale' || outcome === 'rejected') up[outcome]++;
    for (const { id, outcome } of outcomes) if (outcome === 'deferred') waiting.add(id);
    const isCutUp = attempted.request.transactions.some(({ part }) => part !== undefined);
    if (isCutUp && outcomes.some(({ outcome }) => outcome === 'parts-missing') && ++timesIncomplete > mostRounds)
      throw keepsForgetting();
    const applied = new Set(outcomes.flatMap(({ id, outcome }) => (outcome === 'applied' ? [id] : [])));
    const received = new Set(outcomes.flatMap(({ id, outcome }) => (outcome === 'part-stored' ? [id] : [])));
    for (const { id, changes } of attempted.request.transactions)
      if (applied.has(id) || received.has(id)) for (const change of changes) parts.traffic.note('up', change);
    parts.traffic.sent += applied.size;
    return outcomes;
  };
  /** Chooses what fits into one request, and keeps it. */
  const begin = async (ahead?: Chosen): Promise<Attempt | undefined> => {
    const chosen = first;
    first = undefined;
    const portion = oneByOne ? portions.single : hasBegun ? portions.next : portions.first;
    hasBegun = true;
    return chosen ?? parts.change((local) => attempt(local, portion, uploading, ahead));
  };
  /** While a request is under way, the next one is made ready; not where this one is all that was to be sent. */
  const lookAhead = async ({ request }: Attempt, settled: Promise<unknown>): Promise<Chosen | undefined> => {
    const part = request.transactions[0]?.part;
    const isLast = parts.traffic.toSend <= parts.traffic.sent + request.transactions.length;
    if (oneByOne || isLast || (part && part.index < part.count - 1)) return undefined;
    // The request goes out first; one that is answered by then was not worth it.
    let isAnswered = false;
    await new Promise<void>((done) => {
      const cancel = parts.host.after(1, done);
      const answered = () => {
        isAnswered = true;
        cancel();
        done();
      };
      settled.then(answered, answered);
    });
    return isAnswered ? undefined : parts.change((local) => choose(local, portions.next, uploading));
  };
  /** Sends what fits into one request; returns whether it makes sense to send more before the next page. */
  const pushSome = async (): Promise<boolean> => {
    const chosen = await begin();
    if (chosen === undefined) return true;
    parts.enter('pushing');
    const outcomes = await settle(chosen);
    parts.enter('pulling');
    return outcomes.every(({ outcome }) => outcome !== 'stale' && outcome !== 'blocked' && outcome !== 'deferred');
  };
  /** Asks for the page behind a cursor. @param omits whether bytes that this replica has sent itself may be left out. */
  const ask = (cursor: string | undefined, own: readonly string[], omits = canCompare()): Asked => {
    const over = new AbortController();
    const release = endWith(signal, over);
    const asked = {
      ...(cursor ? { cursor } : {}),
      unacknowledged: own,
      omitKnownBytes: omits,
      ...about,
      ...parts.only,
    };
    const page = parts.transport.pull(asked, over.signal);
    // It may be that nobody comes to look at it: a failure is nobody's then.
    page.then(release, release);
    return { cursor, own, page, sentAt: parts.host.now(), drop: () => over.abort() };
  };
  /** Brings down pages from one of the two cursors until there is no more to come from it. */
  const pullFrom = async (name: 'cursor' | 'backfill'): Promise<void> => {
    const asking: { ahead?: Asked | undefined } = {};
    try {
      await pullPages(name, asking);
    } finally {
      asking.ahead?.drop();
    }
  };
  /**
   * A replica that counts other uploads than the server was put back to an earlier state, or copied, or the server was: before
   * anything is merged, what the server has applied counts as that. Returns whether that was so.
   */
  const askApplied = async (uploads: number | undefined): Promise<boolean> => {
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
    if (++timesAsked > mostRounds) throw keepsCounting();
    const receipts: AppliedOrigin[] = [];
    for (let from = 0; parts.transport.applied && from < origins.length; from += limits.origins) {
      const some = origins.slice(from, from + limits.origins);
      receipts.push(...(await parts.transport.applied({ replica: about.replica, origins: some }, signal)).receipts);
    }
    await parts.change((local) => {
      takeReceipts(local, receipts);
      // A restored server has lost what it had confirmed. One that has forgotten it in time has it in its rows.
      if (parts.transport.applied && !isForgetting(local.database)) noteLost(local.outbox, receipts);
      setMeta(local.database, 'uploads', String(uploads));
    });
    return true;
  };
  const pullPages = async (name: 'cursor' | 'backfill', asking: { ahead?: Asked | undefined }): Promise<void> => {
    // On a poor link a first download may take days: what is new here, or was changed after it came, does not wait for it.
    let pushesBetween = direction === 'both' && name === 'cursor' && !hasNaturalKeys;
    let [idle, reached] = [0, -1];
    for (let goesOn = true; goesOn; ) {
      if (
        pushesBetween &&
        parts.server.isKnown &&
        (await parts.change(({ database }) => meta(database, 'complete') === undefined))
      )
        pushesBetween = await pushSome();
      const { cursor, own } = await parts.change(({ database, outbox }) => ({
        cursor: meta(database, name),
        own: sentIds(outbox, 'confirmed').slice(0, limits.ownTransactions),
      }));
      if (name === 'backfill' && cursor === undefined) return;
      const { ahead } = asking;
      const isIt = ahead?.cursor === cursor && ahead?.own.join() === own.join();
      if (!isIt) ahead?.drop();
      const asked = isIt && ahead ? ahead : ask(cursor, own);
      asking.ahead = undefined;
      let page: PulledPage;
      try {
        const answer = await withKnownBytes(parts.change, await asked.page);
        page = answer ?? (await ask(cursor, own, false).page);
      } catch (error) {
        if (!isUnknownCursor(error) || !cursor) throw error;
        startedOver = true;
        await parts.change((local) => beginSweep(local, whyLost(error)));
        if (name === 'backfill') return;
        continue;
      }
      checkServer(page.header);
      if (await askApplied(page.header.uploads)) continue;
      const { more, last, acknowledged } = page.header;
      // A server that leads nowhere must not keep a device busy, and its battery.
      const leadsOn = page.rows.length > 0 || (page.header.kind === 'changes' && page.header.to > reached);
      idle = leadsOn ? 0 : idle + 1;
      reached = page.header.to;
      if ((more || !last) && (page.header.cursor === cursor || idle > mostIdle)) throw leadsNowhere();
      // What is confirmed stays the same, so that the next request is known already: it is under way while this page is taken.
      if ((name === 'cursor' ? more : !last) && acknowledged.length === 0) asking.ahead = ask(page.header.cursor, own);
      let gains = false;
      await parts.change((local) => {
        learnClock(local.database, local.host, page.header.time, asked.sentAt);
        noteServerSchema(local.database, page.header);
        // The server may have come to another version between any two answers.
        gains = noteUnsupported(local.database, page.header.unsupported);
        takePage(local, page, name, cursor, down);
        if (gains) setMeta(local.database, 'backfill', '');
      });
      received += page.rows.length;
      for (const row of page.rows) parts.traffic.note('down', row);
      const { remaining } = page.header;
      if (remaining) parts.traffic.expected = received - page.rows.length + total(remaining);
      if (page.header.remainingBytes && parts.traffic.expectedBytes === null)
        parts.traffic.expectedBytes = total(page.header.remainingBytes);
      parts.traffic.received = received;
      // More were confirmed than one pull may ask about: the next one asks about the rest.
      const isCutShort = own.length === limits.ownTransactions && acknowledged.length > 0;
      goesOn = name === 'cursor' ? more || isCutShort : !last && !gains;
      // Between servers of two versions it could go to and fro for ever: the next sync goes on with it.
      if (gains) hasGained = ++timesGained <= mostRounds;
    }
  };
  /**
   * A replica that gained tables or columns first fetches what the server holds of them, as a snapshot beside its
   * cursor. The cursor stays where it was, so what was changed or deleted meanwhile comes by it afterwards.
   */
  const pull = async (): Promise<void> => {
    parts.enter('pulling');
    do {
      hasGained = false;
      await pullFrom('backfill');
      await pullFrom('cursor');
    } while (hasGained as boolean);
  };
  const push = async (): Promise<boolean> => {
    let overtaken = false;
    parts.enter('pushing');
    for (let chosen = await begin(); chosen !== undefined; ) {
      const settled = settle(chosen);
      const [outcomes, ahead] = await both(settled, lookAhead(chosen, settled));
      overtaken ||= outcomes.some(({ outcome }) => outcome === 'stale' || outcome === 'applied-before');
      // What was overtaken stays pending: the same batch must not go round again before a pull.
      const isGoing = outcomes.length === 0 || outcomes.some(({ outcome }) => outcome !== 'blocked');
      if (!isGoing || outcomes.some(({ outcome }) => outcome === 'stale')) break;
      // A long outbox is brought back as it goes, so that what is confirmed and not back yet stays a short list.
      if (
        direction === 'both' &&
        (await parts.change(({ outbox }) => sentIds(outbox, 'confirmed').length)) >= mostUnseen
      ) {
        await pull();
        chosen = await begin();
      } else chosen = await begin(ahead);
    }
    return overtaken;
  };

  try {
    parts.enter('resending');
    if (unanswered !== undefined) await settle(unanswered);
    // An earlier version of the app may have written it; now it is sent in the words of this one.
    waiting.clear();
  } catch (error) {
    // The base of what was attempted is of no use here any more; it is pending again, and the pull starts over.
    if (!isUnknownCursor(error) || direction === 'push') throw error;
  }
  if (pullsFirst) await pull();
  if (direction !== 'pull') {
    for (let round = 1; round <= mostRounds; round++) {
      const sentBefore = up.applied;
      const overtaken = await push();
      if (direction === 'push') break;
      if (overtaken || (up.applied > sentBefore && !parts.isLive())) await pull();
      if (!overtaken) break;
    }
  }
  const position = await parts.change(({ database, host }) => {
    if (direction !== 'push') noteSynced(database, host, parts.only);
    else setMeta(database, 'synced at', new Date(host.now()).toISOString());
    return meta(database, 'position');
  });
  return { down, received, up, startedOver, position: position === undefined ? null : Number(position) };
}

function leadsNowhere(): KoinonError {
  return new KoinonError(
    'server-answer',
    'The server announces more and more rows, and sends none of them. Everything unsent is kept; sync again later.',
  );
}

function keepsForgetting(): KoinonError {
  return new KoinonError(
    'server-answer',
    `The server lost parts of a large transaction ${mostRounds + 1} times in one sync. Everything unsent is kept; sync again later.`,
  );
}

function keepsCounting(): KoinonError {
  return new KoinonError(
    'server-answer',
    `The server gave another number of applied transactions of this replica ${mostRounds + 1} times in one sync. Another copy of this file may be sending at the same time. Everything unsent is kept; sync again.`,
  );
}

/** Waits for both, so that nothing goes on where one fails. */
async function both<A, B>(one: Promise<A>, other: Promise<B>): Promise<[A, B]> {
  await Promise.allSettled([one, other]);
  return Promise.all([one, other]);
}

/** Notes that this replica is in step with the server, in the tables that it asks for. */
function noteSynced(database: Database, host: Host, { tables, columns = {} }: Only): void {
  const now = new Date(host.now()).toISOString();
  const before = JSON.parse(meta(database, 'synced tables') ?? '{}') as Record<string, string>;
  const asked = Object.keys(columns).filter((table) => tables?.includes(table) !== false);
  setMeta(database, 'synced at', now);
  setMeta(
    database,
    'synced tables',
    JSON.stringify({ ...before, ...Object.fromEntries(asked.map((table) => [table, now])) }),
  );
}

/** Whether the server cannot go on from a cursor: it is of another feed, or ahead of this one, or too old. */
function isUnknownCursor(error: unknown): boolean {
  return error instanceof KoinonError && ['unknown-cursor', 'feed-restored', 'forgotten-cursor'].includes(error.code);
}

function whyLost(error: unknown): Lost {
  const { code } = error as KoinonError;
  return code === 'forgotten-cursor' ? 'forgotten' : code === 'feed-restored' ? 'restored' : 'unknown';
}

const total = (counts: Readonly<Record<string, number>>) =>
  Object.values(counts).reduce((sum, count) => sum + count, 0);
