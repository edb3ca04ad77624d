import {
  KoinonError,
  type Outcome,
  type Problem,
  type PushRequest,
  type Schema,
  type UploadedTransaction,
} from '@koinon/core';
import { checkPushResponse, quoteName } from '@koinon/core/internal';
import { noteErased } from '../database/erasure.ts';
import { dropMeta, type MetaName, meta, setMeta } from '../database/layout.ts';
import type { Engine } from '../engine/steps.ts';
import type { Outbox, QueuedChange } from '../outbox/outbox.ts';
import { transactionsOf } from '../outbox/transactions.ts';
import { renameRowsEverywhere } from '../overlay/adopt.ts';
import { tablesInOrder } from '../rows/order.ts';
import type { CheckedTransport } from '../sync/checked.ts';
import type { Traffic } from '../sync/traffic.ts';

/** The choices for the end of a replica's tie to its server. */
export interface UnlinkChoices {
  /**
   * `keep`: the rows stay, as rows of this device alone; what is unsent stays too, and goes up if it is linked again.
   * `erase`: the rows that came from the server, and everything known of them, leave the device.
   */
  readonly rows: 'keep' | 'erase';
  /**
   * The fate of the server's copy. Default `keep`. `delete` takes the rows that are here, or whose deletion was not
   * sent yet, away from the server: every other device loses them, too.
   */
  readonly server?: 'keep' | 'delete';
  /** Data that is nowhere else, and would be lost, goes. Without it, `unsent-changes` is thrown where there is anything. */
  readonly unsent?: 'drop';
}

/** The result of ending a tie. */
export interface UnlinkReport {
  /** Rows that left this device, and rows that were deleted on the server. */
  readonly erased: number;
  readonly deleted: number;
  /** Rows that the server did not let go of, with its reasons. */
  readonly left: readonly { readonly table: string; readonly id: string; readonly problems: readonly Problem[] }[];
}

/** Refuses to drop what nobody else has. @throws KoinonError `unsent-changes`. */
export function refuseUnsent({ rows, outbox, conflicts }: Engine, choices: UnlinkChoices): void {
  if (choices.unsent === 'drop') return;
  const refuse = (what: string) => {
    throw new KoinonError(
      'unsent-changes',
      `What is nowhere else would be lost: ${what}. Sync or settle it first, or say that it may go; nothing was touched.`,
    );
  };
  if (choices.rows === 'erase') {
    const [waiting, rejected] = [outbox.count('pending', 'attempted'), outbox.count('rejected')];
    const conflicted = conflicts.count();
    if (waiting + rejected + conflicted > 0)
      refuse(`transactions not sent ${waiting}, refused ${rejected}; rows in conflict ${conflicted}`);
  }
  if (choices.rows === 'erase' || choices.server !== 'delete') return;
  // The rows that are here go up again as they are; what was refused of others stands in the outbox alone.
  const lost = [...transactionsOf(outbox, 'rejected')].filter(({ changes }) =>
    changes.some(({ table, id }) => !rows.has(table, id)),
  );
  if (lost.length > 0) refuse(`refused transactions of rows that are not here ${lost.length}`);
  // The rows would go up as they are here, with what the actions were expected to do.
  const unsent = [...transactionsOf(outbox, 'pending', 'attempted', 'rejected')].flatMap(({ actions }) => actions);
  if (unsent.length > 0) refuse(`actions that the server has not run ${unsent.length}`);
}

/** Ends the tie in one local transaction; returns how many rows left the device. */
export function unlinkHere(engine: Engine, { rows, server }: UnlinkChoices): number {
  const { database } = engine;
  let erased = 0;
  if (rows === 'erase') erased = eraseRows(engine);
  else if (server === 'delete') makeOwn(engine);
  setMeta(database, 'unlinked', 'yes');
  dropMeta(database, 'unlinking');
  return erased;
}

/** Tells whether a replica's tie to its server has been ended. */
export function isUnlinked(database: Engine['database']): boolean {
  return meta(database, 'unlinked') !== undefined;
}

const ofTheServer: readonly MetaName[] = [
  'cursor',
  'backfill',
  'backfilled',
  'resync',
  'parts',
  'joined',
  'position',
  'server position',
  'complete',
  'to come',
  'synced at',
  'synced tables',
  'unsupported',
  'holdings',
];

/** Forgets all that the file holds besides the rows themselves. */
function forget({ database, outbox, conflicts, keys }: Engine): void {
  for (const table of ['outbox', 'base', 'resolved', 'seen', 'attempt', 'history', 'call', 'run'])
    database.driver.exec(`DELETE FROM koinon_${table}`);
  for (const name of ofTheServer) dropMeta(database, name);
  outbox.places.forget();
  outbox.predictions.clear();
  outbox.revision++;
  conflicts.clear();
  keys.forgetBefore(Number.POSITIVE_INFINITY);
}

function eraseRows(engine: Engine): number {
  const { schema, database, rows, commit } = engine;
  let erased = 0;
  for (const [table, { home }] of Object.entries(schema.tables)) {
    if (home === 'device') continue;
    for (const row of rows.select({ from: table })) {
      commit.leave(table, row.id, row);
      erased++;
    }
    database.driver.exec(`DELETE FROM ${quoteName(table)}`);
  }
  forget(engine);
  noteErased(database);
  return erased;
}

/** The tables whose rows go to the server, each behind those it refers to. */
const sharedTables = (schema: Schema) => tablesInOrder(schema).filter((name) => schema.tables[name]?.home !== 'device');

/** Rows in one transaction when they go up again. */
const together = 500;

/** Makes every row one that only this device has: linked again, it goes up as a new one. */
function makeOwn(engine: Engine): void {
  const { schema, rows, outbox, host } = engine;
  forget(engine);
  // A number that another database gave is another row's in the next one.
  for (const table of sharedTables(schema))
    if (schema.tables[table]?.assignedKey)
      renameRowsEverywhere(
        engine,
        table,
        new Map(rows.select({ from: table, columns: [] }).map(({ id }) => [id, host.newId()])),
      );
  for (const table of sharedTables(schema)) {
    let entry = { origin: host.newId(), editedAt: host.now() };
    for (const [n, { id, ...columns }] of rows.select({ from: table, order: ['id'] }).entries()) {
      if (n % together === 0) entry = { origin: host.newId(), editedAt: host.now() };
      outbox.append(entry, { kind: 'insert', table, id, columns });
    }
  }
}

/** Deletions in one request, and how often rows are tried that others write meanwhile. */
const mostDeletions = 500;
const mostRounds = 5;

/** The parts that deleting on the server works with. */
export interface Deleting {
  readonly transport: CheckedTransport;
  readonly change: <T>(work: (engine: Engine) => T) => Promise<T>;
  readonly traffic: Traffic;
  readonly signal: AbortSignal;
}

/**
 * Deletes the rows that are here on the server, those first that refer to others. The rows here stay. What was deleted
 * before, by an earlier try that was cut off, is deleted: it may be begun again at any time.
 */
export async function deleteOnServer(deleting: Deleting): Promise<Pick<UnlinkReport, 'deleted' | 'left'>> {
  const { change, traffic } = deleting;
  const { keys, ...about } = await change(({ schema, database, rows, outbox }) => ({
    replica: meta(database, 'replica') as string,
    schemaVersion: schema.version,
    keys: [...sharedTables(schema)].reverse().flatMap((table) => {
      const here = rows.select({ from: table, columns: [] }).map(({ id }) => id);
      const sent = here.filter((id) => !isNeverSent(outbox.changesOf(table, id)[0]));
      return [...sent, ...deletedHere(outbox, table)].map((id) => ({ table, id }));
    }),
  }));
  const left: { table: string; id: string; problems: readonly Problem[] }[] = [];
  traffic.toSend = keys.length;
  let deleted = 0;
  let waiting: readonly { readonly table: string; readonly id: string }[] = keys;
  for (let round = 0; waiting.length > 0 && round < mostRounds; round++) {
    const base = await newestCursor(deleting, about);
    const again: { table: string; id: string }[] = [];
    for (let from = 0; from < waiting.length; from += mostDeletions) {
      const some = waiting.slice(from, from + mostDeletions);
      const outcomes = await pushDeletions(deleting, { ...about, base }, some);
      for (const [i, outcome] of outcomes.entries()) {
        const key = some[i] as { table: string; id: string };
        if (outcome.outcome === 'applied') deleted++;
        else if (outcome.outcome !== 'rejected') again.push(key);
        else if (!outcome.problems.every(({ code }) => code === 'no-such-row'))
          left.push({ ...key, problems: outcome.problems });
      }
      traffic.sent = deleted;
    }
    waiting = again;
  }
  for (const key of waiting) left.push({ ...key, problems: [] });
  return { deleted, left };
}

interface About {
  readonly replica: string;
  readonly schemaVersion: number;
}

/** Tells whether a row begins here, and the server surely does not have it: of what was sent without an answer nobody knows. */
function isNeverSent(first: QueuedChange | undefined): boolean {
  return first?.change.kind === 'insert' && (first.state === 'pending' || first.state === 'rejected');
}

/** The rows of a table whose deletion is not known to have been done. */
function deletedHere(outbox: Outbox, table: string): string[] {
  return [...transactionsOf(outbox, 'pending', 'attempted')].flatMap(({ changes }) =>
    changes.flatMap((change) => (change.kind === 'delete' && change.table === table ? [change.id] : [])),
  );
}

/** A cursor of the present: what became of the rows meanwhile does not matter, since they are to go. */
async function newestCursor({ transport, signal }: Deleting, about: About): Promise<string> {
  return (await transport.pull({ ...about, limit: 1 }, signal)).header.cursor;
}

async function pushDeletions(
  { transport, change, signal }: Deleting,
  { replica, schemaVersion, base }: About & { readonly base: string },
  keys: readonly { readonly table: string; readonly id: string }[],
): Promise<readonly Outcome[]> {
  const transactions = await change(({ host }) =>
    keys.map(
      (key): UploadedTransaction => ({
        id: host.newId(),
        editedAt: new Date(host.now()).toISOString(),
        dependsOn: [],
        changes: [{ kind: 'delete', ...key }],
      }),
    ),
  );
  const body = JSON.stringify({ replica, base, schemaVersion, transactions } satisfies PushRequest);
  return checkPushResponse(await transport.push(body, signal), transactions).outcomes;
}
