/** Tells whether a page of an origin may use this server, asked by the host name that its request was sent to. */
export type AllowsOrigin = (origin: string, host: string | undefined) => boolean;

const loopback = /^(127(\.\d{1,3}){3}|\[::1\]|localhost)$/;

/** The name in a Host header, without its port; undefined for one that cannot be read. */
export function hostnameOf(host: string | undefined): string | undefined {
  if (host === undefined || !URL.canParse(`http://${host}`)) return undefined;
  return new URL(`http://${host}`).hostname.replace(/^\[|\]$/g, '');
}

/**
 * Pages of the server's own host, whatever their port, and of the origins that are named. On this machine its names are
 * one: a page that a development server serves is there under one of them.
 *
 * @param named origins as browsers send them, without a path: `https://app.example`, `app://field`.
 */
export function allowOrigins(named: readonly string[]): AllowsOrigin {
  const known = new Set(named);
  return (origin, host) => {
    if (known.has(origin)) return true;
    if (!URL.canParse(origin) || !URL.canParse(`http://${host}`)) return false;
    const [from, to] = [new URL(origin).hostname, new URL(`http://${host}`).hostname];
    return from === to || (loopback.test(from) && loopback.test(to));
  };
}
