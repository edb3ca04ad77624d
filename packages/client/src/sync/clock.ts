import type { Database } from '../database/database.ts';
import { clockOffset, setMeta } from '../database/layout.ts';
import type { Host } from '../host/host.ts';

/** Differences below this many milliseconds are the network's, not the clock's. */
const tolerated = 1_000;

/**
 * Learns by how much this device's clock is off, from the server's time in an answer. It was said at some moment between
 * sending and receiving; the middle is assumed. Runs inside a transaction.
 */
export function learnClock(database: Database, host: Host, serverTime: string, sentAt: number): void {
  const now = host.now();
  const offset = Date.parse(serverTime) - (sentAt + now) / 2;
  if (!Number.isFinite(offset)) return;
  // The slower the answer, the less it tells.
  const doubt = tolerated + (now - sentAt) / 2;
  if (Math.abs(offset - clockOffset(database)) <= doubt) return;
  database.clockOffset = Math.round(offset);
  setMeta(database, 'clock offset', String(database.clockOffset));
}
