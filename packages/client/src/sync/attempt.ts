import {
  type ActionResult,
  type AppliedOrigin,
  type AssignedKey,
  KoinonError,
  limits,
  type Only,
  type Outcome,
  type Problem,
  type PushRequest,
} from '@koinon/core';
import { checkPushResponse } from '@koinon/core/internal';
import { unsupportedColumns } from '../database/asked-columns.ts';
import type { Database } from '../database/database.ts';
import { dropMeta, meta, setMeta } from '../database/layout.ts';
import type { Host } from '../host/host.ts';
import { type Batch, nextBatch, type PartsSent } from '../outbox/batch.ts';
import { noteResults } from '../outbox/invocations.ts';
import {
  noteApplied,
  noteAttempts,
  noteConfirmed,
  notePending,
  noteRejected,
  noteServerValues,
  part,
  placesOfAllSent,
} from '../outbox/sending.ts';
import { drop, rowsShownBy } from '../outbox/transactions.ts';
import { joinNext, type Unit } from '../outbox/unit.ts';
import { takeKeys } from '../overlay/assigned-keys.ts';
import { type Applying, showAnew } from '../overlay/show.ts';
import type { Upload } from './state.ts';

// The requests that go up: chosen, kept as the exact bytes that are sent, and settled by what became of them.

/** The local side of a sync, inside a transaction. */
export interface Local extends Applying {
  readonly host: Host;
}

/** The parts for choosing. */
interface Uploading {
  readonly upload: Upload;
  readonly requestBytes: number;
  readonly only: Only;
  /** Transactions that the server could not write just now. */
  readonly waiting: ReadonlySet<string>;
}

/** The parts for sending. */
interface Sending {
  readonly push: (body: string, signal: AbortSignal | undefined) => Promise<unknown>;
  readonly change: <T>(work: (local: Local) => T) => Promise<T>;
}

/** A push, and its exact bytes. */
export interface Attempt {
  readonly request: PushRequest;
  readonly body: string;
}

/** A push whose outcome is not known. */
export function unansweredIn(database: Database): Attempt | undefined {
  const body = attemptedBody(database);
  return body === undefined ? undefined : { body, request: JSON.parse(body) as PushRequest };
}

/** Its exact bytes. */
export function attemptedBody(database: Database): string | undefined {
  return (database.statement('SELECT body FROM koinon_attempt').get() as { body: string } | undefined)?.body;
}

/** How much goes into one request at most: transactions, and changes that are joined into one. */
export interface Portion {
  readonly transactions: number;
  readonly changes: number;
}

/** The first of a run has less to join, so that the server soon has something to do while the next is chosen. */
export const portions = {
  first: { transactions: limits.transactions, changes: 500 },
  next: { transactions: limits.transactions, changes: 2_500 },
  single: { transactions: 1, changes: 500 },
} as const satisfies Record<string, Portion>;

/** The request that goes up next, before it counts as attempted. */
export interface Chosen {
  /** The transactions that are joined for it. */
  readonly join: Unit | undefined;
  /** None where what is joined comes to nothing. */
  readonly batch: Batch | undefined;
  /** The version of the outbox that the choice went by. */
  readonly outboxVersion: string;
}

/** As long as this is the same, what was chosen is still what it was, and nothing holds it back. */
function outboxVersionOf({ outbox, conflicts }: Local): string {
  return `${outbox.version()} ${conflicts.revision}`;
}

/** Chooses what goes up next, perhaps while what comes before it is under way; undefined where there is nothing. */
export function choose(local: Local, portion: Portion, uploading: Uploading): Chosen | undefined {
  const { schema, outbox, database, host } = local;
  const { upload, requestBytes, only, waiting } = uploading;
  const outboxVersion = outboxVersionOf(local);
  const sent = meta(database, 'parts');
  const parts = sent === undefined ? undefined : (JSON.parse(sent) as PartsSent);
  const unsupported = unsupportedColumns(database);
  const isJoining = upload === 'latest state' && parts === undefined;
  const from = { schema, outbox, unsupported, waiting };
  const join = isJoining ? joinNext(from, portion.changes, () => host.newId()) : undefined;
  if (join?.changes.length === 0) return { join, batch: undefined, outboxVersion };
  const replica = meta(database, 'replica') as string;
  const base = meta(database, 'cursor') ?? null;
  const choosing = { ...from, replica, base, asked: only.columns ?? {}, isJoining, requestBytes };
  const batch = nextBatch(choosing, portion.transactions, parts, join);
  return batch && { join, batch, outboxVersion };
}

/**
 * Keeps the exact bytes of what goes up next, before anything is sent; undefined where there is nothing.
 *
 * @param ahead what was chosen beforehand: taken if it still stands.
 */
export function attempt(local: Local, portion: Portion, uploading: Uploading, ahead?: Chosen): Attempt | undefined {
  const { outbox, database } = local;
  const unanswered = unansweredIn(database);
  if (unanswered !== undefined) return unanswered;
  const chosen = ahead && ahead.outboxVersion === outboxVersionOf(local) ? ahead : choose(local, portion, uploading);
  if (chosen === undefined) return undefined;
  const { join, batch } = chosen;
  if (batch === undefined) {
    // Rows that were made and are gone again: there is nothing to send of them.
    for (const { sequence } of join?.transactions ?? []) settleNothing(local, sequence);
    return attempt(local, portion, uploading);
  }
  if (batch.parts) setMeta(database, 'parts', JSON.stringify(batch.parts));
  if (join) setMeta(database, 'joined', join.id);
  const { request, body } = batch;
  database.statement('INSERT INTO koinon_attempt VALUES (1, ?)').run(body);
  noteAttempts(outbox, batch.units);
  forgetDecisions(database, batch.request);
  return { request, body };
}

/** Transactions that the server has applied without this replica's knowing are shown as applied. */
export function takeReceipts(
  local: Local,
  receipts: readonly AppliedOrigin[],
  assigned: readonly AssignedKey[] = [],
  results: readonly ActionResult[] = [],
): void {
  const applied = noteApplied(local.outbox, receipts);
  if (hasActions(local)) noteResults(local.outbox, applied, results, local.host.now());
  for (const sequence of applied) for (const row of rowsShownBy(local.outbox, sequence)) showAnew(local, row);
  takeKeys(local, assigned);
}

const hasActions = ({ schema }: Local) => Object.keys(schema.actions).length > 0;

function settleNothing(local: Local, sequence: number): void {
  const { outbox } = local;
  const rows = rowsShownBy(outbox, sequence);
  drop(outbox, sequence, 'settled');
  for (const row of rows) showAnew(local, row);
}

/** A decision that has been sent was made for good. */
function forgetDecisions(database: Database, { transactions }: PushRequest): void {
  if (database.statement('SELECT 1 FROM koinon_resolved LIMIT 1').get() === undefined) return;
  const forget = database.statement('DELETE FROM koinon_resolved WHERE table_name = ? AND row_id = ?');
  for (const { changes } of transactions) for (const { table, id } of changes) forget.run(table, id);
}

/** Sends the kept bytes, and records what became of each transaction. */
export async function sendAttempt(
  parts: Sending,
  { body, request }: Attempt,
  signal?: AbortSignal,
): Promise<readonly Outcome[]> {
  const ids = request.transactions.map(({ id }) => id);
  let outcomes: readonly Outcome[];
  try {
    outcomes = checkPushResponse(await parts.push(body, signal), request.transactions).outcomes;
  } catch (error) {
    // A server that refuses the request as a whole has looked at none of it: it may be formed anew. A transaction that
    // is refused when it comes alone is what is at fault, and is shown to the person.
    if (error instanceof KoinonError && refusedWhole.has(error.code)) {
      const problems = [{ code: error.code, message: error.message }];
      const isAtFault = ids.length === 1 && isPoisoned(error);
      const ended = ids.map(
        (id): Outcome => (isAtFault ? { id, outcome: 'rejected', problems } : { id, outcome: 'parts-missing' }),
      );
      const settled = await parts.change((local) => settleAttempt(local, body, ended));
      if (isAtFault) return settled;
    }
    throw error;
  }
  return parts.change((local) => settleAttempt(local, body, outcomes));
}

/** Tells whether the server could not read or take a request for what is in it. */
export function isPoisoned(error: unknown): boolean {
  return error instanceof KoinonError && (error.code === 'malformed-request' || error.code === 'too-large');
}

const isOfAnotherSchema = ({ code }: Problem) =>
  code === 'unknown-table' || code === 'unknown-column' || code === 'unknown-action';

const refusedWhole = new Set([
  'malformed-request',
  'too-large',
  'unknown-cursor',
  'feed-restored',
  'forgotten-cursor',
  'not-found',
]);

/**
 * Records an attempt's end, unless another process that syncs the same file has done so and gone on already. Returns what
 * became of each transaction; one that was taken apart instead has to be sent again.
 */
function settleAttempt(local: Local, body: string, outcomes: readonly Outcome[]): readonly Outcome[] {
  const { database, outbox, host } = local;
  if (attemptedBody(database) !== body) return outcomes;
  const parts = meta(database, 'parts');
  const joined = meta(database, 'joined');
  const applied = outcomes.flatMap(({ id, outcome }) => (outcome === 'applied' ? [id] : []));
  noteConfirmed(outbox, applied);
  // Counted as the server counts them: a number that differs says that another copy of this file has sent something.
  setMeta(database, 'uploads', String(Number(meta(database, 'uploads') ?? 0) + applied.length));
  let isOver = true;
  const assigned: AssignedKey[] = [];
  const results: ActionResult[] = [];
  const ended = outcomes.map((each): Outcome => {
    const { id } = each;
    if (each.outcome === 'applied') {
      if (each.values !== undefined) {
        outbox.revision++;
        noteServerValues(outbox, id, each.values);
        for (const row of each.values) showAnew(local, row);
      }
      assigned.push(...(each.assigned ?? []));
      results.push(...(each.results ?? []));
      return each;
    }
    if (each.outcome === 'applied-before') {
      takeReceipts(local, each.receipts, [], each.results);
      assigned.push(...(each.assigned ?? []));
      part(outbox, id, () => host.newId());
      return each;
    }
    if (each.outcome === 'part-stored' || each.outcome === 'parts-missing') {
      isOver = each.outcome === 'parts-missing';
      notePending(outbox, id);
      return each;
    }
    if (id === joined) {
      // Joined transactions are sent one by one: what one edit met with is not to hold up the others.
      part(outbox, id, () => host.newId());
      return each.outcome === 'stale' ? each : { id, outcome: 'parts-missing' };
    }
    if (each.outcome === 'rejected' && each.problems.length > 0 && each.problems.every(isOfAnotherSchema)) {
      // Not the person's mistake: it goes up when the app and its server have come together again.
      notePending(outbox, id);
      return { id, outcome: 'deferred' };
    }
    if (each.outcome === 'rejected') noteRejected(outbox, id, each.problems);
    else notePending(outbox, id);
    return each;
  });
  if (hasActions(local) && applied.length > 0)
    noteResults(outbox, placesOfAllSent(outbox, applied), results, host.now());
  takeKeys(local, assigned);
  if (isOver) {
    dropMeta(database, 'parts');
    dropMeta(database, 'joined');
  } else if (parts) {
    const sent = JSON.parse(parts) as PartsSent;
    setMeta(database, 'parts', JSON.stringify({ ...sent, next: sent.next + 1 }));
  }
  database.statement('DELETE FROM koinon_attempt').run();
  return ended;
}
