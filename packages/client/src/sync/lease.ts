import { KoinonError } from '@koinon/core';
import type { Database } from '../database/database.ts';
import { meta, setMeta } from '../database/layout.ts';
import type { Host } from '../host/host.ts';

/** The process that syncs a replica file just now. */
export interface Lease {
  /** The open replica that holds it. */
  readonly holder: string;
  /** The process it runs in, as people and `Host.isAlive` know it. */
  readonly process: string;
  /** The file that it was taken for: a copy of that carries it along, and is not synced by that process. Null where files have no identity. */
  readonly file: string | null;
  /** Milliseconds since 1970 after which it no longer counts. */
  readonly until: number;
}

/** How long a holder that stopped telling is waited for. It tells at the steps of a sync, before a quarter of that is over. */
const leaseTime = 60_000;

/** The process that syncs this file just now; null if none does. */
export function syncOwner(database: Database, host: Host): string | null {
  return ownerOf(database, read(database), host);
}

const fileOf = ({ driver }: Database): string | null => driver.fileId ?? null;

function ownerOf(database: Database, lease: Lease | undefined, host: Host): string | null {
  if (lease === undefined || lease.file !== fileOf(database) || !host.isAlive(lease.process)) return null;
  // One that ends later than any lease can was taken before the clock was set back: it says nothing.
  const left = lease.until - host.now();
  return left > 0 && left <= leaseTime ? lease.process : null;
}

/**
 * Sees to it that no other process syncs the file, for as long as the transaction lasts that this runs in.
 *
 * @throws KoinonError `sync-busy`, naming the process that does.
 */
export function refuseOthers(database: Database, host: Host, holder: string): Lease | undefined {
  const lease = read(database);
  if (lease === undefined || lease.holder === holder) return lease;
  const owner = ownerOf(database, lease, host);
  if (owner === null) return undefined;
  throw new KoinonError('sync-busy', `${owner} is syncing this replica file; wait for it to end.`, { value: owner });
}

/**
 * Takes the right to sync a file, or keeps it: several processes may have the file open, one of them syncs. A process
 * that was killed gives it up by being gone. Runs in a transaction.
 *
 * @throws KoinonError `sync-busy`, naming the process that has it.
 */
export function takeLease(database: Database, host: Host, holder: string): void {
  const left = (refuseOthers(database, host, holder)?.until ?? 0) - host.now();
  // Long enough for the longest request.
  if (left > leaseTime * 0.75 && left <= leaseTime) return;
  setMeta(
    database,
    'sync lease',
    JSON.stringify({
      holder,
      process: host.process,
      file: fileOf(database),
      until: host.now() + leaseTime,
    } satisfies Lease),
  );
}

/** Gives the right up, if this holder has it. */
export function endLease(database: Database, holder: string): void {
  if (read(database)?.holder === holder) setMeta(database, 'sync lease', '');
}

function read(database: Database): Lease | undefined {
  const text = meta(database, 'sync lease');
  return text ? (JSON.parse(text) as Lease) : undefined;
}
