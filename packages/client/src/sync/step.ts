import type { Only } from '@koinon/core';
import type { Database } from '../database/database.ts';
import { meta, setMeta } from '../database/layout.ts';
import type { Host } from '../host/host.ts';
import { sentIds } from '../outbox/sending.ts';
import type { RowCounts } from '../overlay/show.ts';
import { unansweredIn } from './attempt.ts';
import { checkServer, Download, isUnknownCursor } from './download.ts';
import { askedWith, storedHoldings } from './holdings.ts';
import type { SyncParts } from './parts.ts';
import type { Direction } from './state.ts';
import { Upload } from './upload.ts';

/** The result of a sync step. */
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
  /** Tells whether the server no longer knew this replica's cursor, so that everything was fetched anew; unsent changes are kept. */
  readonly startedOver: boolean;
  /** The feed's position this replica has reached; null before its first pull. */
  readonly position: number | null;
}

/** Confirmed transactions that may wait for a pull before one comes between two pushes. */
const mostUnseen = 2_000;

/** A transaction that others keep overtaking is tried this often in one step; the next step goes on with it. */
const mostRounds = 5;

/**
 * One sync step. What was attempted before and never answered is settled first, with the same bytes; then the changes
 * come down and are merged; then the outbox goes up; then what it became comes back. A failure leaves everything
 * where it stood, and the next step goes on from there.
 */
export async function syncStep(parts: SyncParts, direction: Direction, signal?: AbortSignal): Promise<SyncReport> {
  const { schema } = parts;
  const pullsFirst = direction !== 'push' && !parts.isLive();
  if (!parts.server.isKnown && direction !== 'pull' && (!pullsFirst || (await parts.sendsFirst()))) {
    const asked = { schemaVersion: schema.version, ...parts.only, limit: 1 };
    checkServer(parts, (await parts.transport.pull(asked, signal)).header);
  }
  const upload = new Upload(parts, signal);
  const { about, unanswered, toSend } = await parts.change((local) => {
    const { database, outbox } = local;
    const unanswered = unansweredIn(database);
    // If nothing comes before it, the first request is chosen at once.
    if (unanswered === undefined && !pullsFirst && direction !== 'pull') upload.chooseFirst(local);
    return {
      about: { replica: meta(database, 'replica') as string, schemaVersion: schema.version },
      unanswered,
      toSend: outbox.count('pending', 'attempted'),
    };
  });
  parts.traffic.toSend = toSend;
  // A new row may be one that is there already: that is known when all are here.
  const hasNaturalKeys = Object.values(schema.tables).some(({ naturalKey }) => naturalKey.length > 0);
  const between = direction === 'both' && !hasNaturalKeys ? () => upload.sendSome() : undefined;
  const download = new Download(parts, signal, about, between);
  /** A long outbox is brought back as it goes, so that what is confirmed and not back yet stays a short list. */
  const bringBack = async (): Promise<boolean> => {
    if (direction !== 'both') return false;
    if ((await parts.change(({ outbox }) => sentIds(outbox, 'confirmed').length)) < mostUnseen) return false;
    await download.pull();
    return true;
  };

  try {
    parts.enter('resending');
    if (unanswered !== undefined) await upload.resend(unanswered);
  } catch (error) {
    // The base of what was attempted is of no use here any more; it is pending again, and the pull starts over.
    if (!isUnknownCursor(error) || direction === 'push') throw error;
  }
  if (pullsFirst) await download.pull();
  for (let overtaken = 0; overtaken < mostRounds && direction !== 'pull'; ) {
    const sentBefore = upload.counts.applied;
    const actionsBefore = upload.withActions;
    const isOvertaken = await upload.sendAll(bringBack);
    if (direction === 'push') break;
    const hasRunActions = upload.withActions > actionsBefore;
    // A live connection brings rows that have changed; an action may have changed none.
    const bringsBack = isOvertaken || hasRunActions || (upload.counts.applied > sentBefore && !parts.isLive());
    if (bringsBack) await download.pull(isOvertaken);
    if (!isOvertaken && !hasRunActions) break;
    if (!hasRunActions) overtaken++;
  }
  const position = await parts.change(({ database, host, schema }) => {
    if (direction !== 'push') noteSynced(database, host, askedWith(parts.only, storedHoldings({ database, schema })));
    else setMeta(database, 'synced at', new Date(host.now()).toISOString());
    return meta(database, 'position');
  });
  return {
    down: download.down,
    received: download.received,
    up: upload.counts,
    startedOver: download.startedOver,
    position: position === undefined ? null : Number(position),
  };
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
