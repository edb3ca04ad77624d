import { isIPv4, isIPv6 } from 'node:net';
import { KoinonError } from '@koinon/core';
import { LRUCache } from 'lru-cache';

/** Milliseconds in which requests are counted. */
const window = 60_000;

/** Addresses that are counted at once; beyond that, those not heard of for longest are forgotten. */
const mostAddresses = 50_000;

/** The requests of one address in the window under way. */
interface Count {
  requests: number;
  readonly until: number;
}

/** Counts what each address asks, over HTTP and over WebSockets alike, before anything is done for it. */
export class RequestLimiter {
  readonly perMinute: number;
  private readonly counts = new LRUCache<string, Count>({ max: mostAddresses });
  private readonly limited: (address: string) => void;

  /** @param limited told once a minute of an address that asks too much. */
  constructor(perMinute: number, limited: (address: string) => void = () => undefined) {
    this.perMinute = perMinute;
    this.limited = limited;
  }

  /** Counts one request. @throws KoinonError `too-many-requests`. */
  take(address: string): void {
    const key = networkOf(address);
    const now = Date.now();
    let count = this.counts.get(key);
    if (count === undefined || count.until <= now) {
      count = { requests: 0, until: now + window };
      this.counts.set(key, count);
    }
    count.requests++;
    if (count.requests <= this.perMinute) return;
    if (count.requests === this.perMinute + 1) this.limited(address);
    throw new KoinonError(
      'too-many-requests',
      `This address has sent more than ${this.perMinute} requests within a minute; send the next one in ${this.secondsLeft(address)} s. Nothing of this one was done.`,
    );
  }

  /** Seconds until an address may ask again. */
  secondsLeft(address: string): number {
    const until = this.counts.peek(networkOf(address))?.until ?? 0;
    return Math.max(1, Math.ceil((until - Date.now()) / 1_000));
  }
}

/**
 * The text that stands for an address where addresses are counted: of IPv6 the network, since a device may have any address
 * in its own; of IPv4 the plain form, also where a socket for both shows it as an address of IPv6.
 */
export function networkOf(address: string): string {
  const host = (address.split('%')[0] as string).toLowerCase();
  if (host.startsWith('::ffff:') && isIPv4(host.slice(7))) return host.slice(7);
  if (!isIPv6(host)) return address;
  const [head = '', tail] = new URL(`http://[${host}]`).hostname.slice(1, -1).split('::');
  const first = head === '' ? [] : head.split(':');
  const last = tail ? tail.split(':') : [];
  const zeros = Array.from({ length: 8 - first.length - last.length }, () => '0');
  return [...first, ...zeros, ...last].slice(0, 4).join(':');
}
