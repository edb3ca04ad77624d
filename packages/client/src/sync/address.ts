import { KoinonError } from '@koinon/core';
import { shown } from '@koinon/core/internal';

/**
 * The address of a server, as an app gives it: `http` or `https`, a host, and perhaps a path below which the server is.
 *
 * @throws KoinonError `argument-invalid`.
 */
export function serverRoot(given: string): string {
  let url: URL;
  try {
    url = new URL(given);
  } catch {
    throw wrong(given, 'is no address');
  }
  if (url.protocol !== 'http:' && url.protocol !== 'https:') throw wrong(given, 'is no address of HTTP');
  if (url.search !== '' || url.hash !== '') throw wrong(given, 'has a query or a fragment');
  if (url.username !== '' || url.password !== '') throw wrong(given, 'has a user name or a password');
  return `${url.origin}${url.pathname.replace(/\/+$/, '')}`;
}

function wrong(given: string, why: string): KoinonError {
  return new KoinonError(
    'argument-invalid',
    `server ${shown(given)} ${why}. Give the address of a Koinon server, such as https://sync.example.org or http://127.0.0.1:4280.`,
    { value: given },
  );
}

/** Redirects that are followed one after the other. */
const mostRedirects = 5;

/**
 * Sends a request, and follows redirects within the server's own origin: what is unsent, and the token, go nowhere else.
 *
 * @param send sends the request to an address, with `redirect: 'manual'`.
 * @throws KoinonError `server-answer` for a redirect to another origin.
 */
export async function withinOrigin(
  url: string,
  signal: AbortSignal,
  send: (url: string) => Promise<Response>,
): Promise<Response> {
  let to = url;
  for (let redirects = 0; ; redirects++) {
    const response = await send(to);
    const isRedirect = response.type === 'opaqueredirect' || (response.status >= 300 && response.status < 400);
    if (!isRedirect) return response;
    await response.body?.cancel();
    const next = await target(response, to, signal);
    if (redirects < mostRedirects && next !== undefined && new URL(next).origin === new URL(url).origin) {
      to = next;
      continue;
    }
    const where = next === undefined ? 'nowhere' : redirects < mostRedirects ? new URL(next).origin : 'on and on';
    throw new KoinonError(
      'server-answer',
      `The server at ${new URL(url).origin} redirects to ${where}, and nothing was sent there. Open the replica with the address that answers itself.`,
    );
  }
}

/** The target of a redirect. A browser does not tell: there a request without a body, and without a token, finds out. */
async function target(response: Response, from: string, signal: AbortSignal): Promise<string | undefined> {
  const location = response.headers.get('location');
  if (location !== null) return URL.canParse(location, from) ? new URL(location, from).href : undefined;
  if (response.type !== 'opaqueredirect') return undefined;
  const probe = await fetch(from, { signal, credentials: 'omit' });
  await probe.body?.cancel();
  return probe.url;
}
