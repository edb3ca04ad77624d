import { v7 } from 'uuid';

const pool = new Uint8Array(16 * 256);
let used = pool.length;
let lastTime = 0;
let counter = 0;

/**
 * A UUIDv7 (RFC 9562, method 1: a counter that starts at random in each millisecond), so that ids made on one device
 * sort in the order in which they were made. Randomness is drawn for 256 ids at once: drawing it anew for each would
 * cost more than the rest of a write.
 */
export function timeId(now: number): string {
  if (used === pool.length) {
    crypto.getRandomValues(pool);
    used = 0;
  }
  const random = pool.subarray(used, used + 16);
  used += 16;
  if (now > lastTime) {
    lastTime = now;
    counter = ((random[0] as number) << 16) | ((random[1] as number) << 8) | (random[2] as number);
  } else counter++;
  return v7({ msecs: lastTime, seq: counter, random });
}
