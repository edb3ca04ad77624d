import { request as httpRequest } from 'node:http';
import { request as httpsRequest } from 'node:https';
import { isIP } from 'node:net';
import { connect } from 'node:tls';
import { httpTransport } from '@koinon/client';
import { type About, KoinonError, protocolVersion, type Schema } from '@koinon/core';
import { decodeJwt } from 'jose';
import { counted, type Finding, findingsOf } from './finding.ts';

const { ok, warning, failure } = findingsOf('server');

/** Milliseconds for one answer. */
const patience = 8_000;
/** Bytes that a device sends in one request at most, unless its app says otherwise. */
const requestBytes = 524_288;
/** Milliseconds by which two clocks may differ before it is worth a word. */
const mostClockDifference = 5 * 60_000;

/** The address and the one who asks. */
export interface Asking {
  readonly url: string;
  readonly token: string | undefined;
  /** The origin of a web page whose requests are tried. */
  readonly origin: string | undefined;
  /** Seconds for which a live connection is kept open. */
  readonly liveFor: number | undefined;
}

/** Asks a server what a device would, without writing anything. */
export async function checkServer(
  schema: Schema | undefined,
  { url, token, origin, liveFor }: Asking,
): Promise<Finding[]> {
  if (!URL.canParse(url) || !/^https?:$/.test(new URL(url).protocol))
    return [failure('no-address', `${url} is no address of a server.`, 'Give one such as https://sync.example.org.')];
  const root = url.replace(/\/+$/, '');
  const findings: Finding[] = [];
  let answer: Response;
  try {
    answer = await fetch(`${root}/v1/about`, { redirect: 'manual', signal: AbortSignal.timeout(patience) });
  } catch (error) {
    return [unreachable(root, error)];
  }
  const found = await readAbout(answer);
  if (found === undefined) return [notKoinon(root, answer)];
  if (found.protocol !== protocolVersion)
    return [
      failure(
        'other-protocol',
        `The server speaks version ${found.protocol} of the protocol, this is version ${protocolVersion}.`,
        'Bring server and app to versions of Koinon that go together.',
      ),
    ];
  findings.push(
    ok('answers', `A Koinon server answers at ${root}, with version ${found.schemaVersion} of its schema.`),
  );
  findings.push(...encryption(new URL(root)), ...clock(answer), ...schemas(schema, found));
  findings.push(...(await access(root, token)));
  if (origin !== undefined) findings.push(await originAllowed(root, origin));
  findings.push(...(await certificate(new URL(root))), await compression(root));
  findings.push(await liveConnection(root), await largeRequests(root));
  if (liveFor !== undefined) findings.push(await keptOpen(root, token, liveFor));
  return findings;
}

function unreachable(root: string, error: unknown): Finding {
  const cause = (error as { cause?: { code?: string; message?: string } }).cause;
  const code = cause?.code ?? '';
  const said = (cause?.message ?? (error as Error).message).trim();
  if (/WRONG_VERSION|EPROTO/.test(code))
    return failure('no-tls', `${root} does not speak TLS.`, 'Use an http address, or put TLS in front of the server.');
  if (/CERT|TLS|SSL|SELF_SIGNED|ISSUER/.test(code))
    return failure(
      'certificate',
      `The certificate of ${root} is not accepted: ${said}.`,
      'Renew it, or give the whole chain.',
    );
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN')
    return failure('no-such-host', `There is no host of the name in ${root}, or no network.`, 'Correct the address.');
  if (code === 'ECONNREFUSED')
    return failure('nothing-listens', `Nothing listens at ${root}.`, 'Start the server, and look at the port.');
  return failure('no-answer', `${root} did not answer: ${said}.`, 'Look at the address, the firewall and the proxy.');
}

async function readAbout(answer: Response): Promise<About | undefined> {
  if (answer.status !== 200) return undefined;
  const body = await readJson(answer).catch(() => undefined);
  return body?.server === 'koinon' && Array.isArray(body.tables) ? (body as About) : undefined;
}

/** Bytes that are read of an answer: another program may never stop. */
const mostBytes = 1_000_000;

async function readJson(answer: Response): Promise<Partial<About> | undefined> {
  const decoder = new TextDecoder();
  let [text, bytes] = ['', 0];
  for await (const piece of answer.body ?? []) {
    bytes += piece.byteLength;
    if (bytes > mostBytes) return undefined;
    text += decoder.decode(piece, { stream: true });
  }
  return JSON.parse(text) as Partial<About>;
}

function notKoinon(root: string, answer: Response): Finding {
  const type = answer.headers.get('content-type') ?? 'nothing';
  const to = answer.headers.get('location');
  const what = to === null ? `${answer.status}, ${type}` : `${answer.status}, a redirect to ${to}`;
  return failure(
    'not-koinon',
    `Something else than a Koinon server answered at ${root}/v1/about (${what}).`,
    'Look at the path, and whether a proxy or a sign-in page stands in front of the server.',
  );
}

function encryption({ protocol, hostname }: URL): Finding[] {
  if (protocol === 'https:' || /^(localhost|127\.|\[::1\])/.test(hostname)) return [];
  return [
    warning(
      'not-encrypted',
      'Tokens and rows travel without encryption.',
      'Put TLS in front of the server, and use an https address.',
    ),
  ];
}

function clock(answer: Response): Finding[] {
  const date = Date.parse(answer.headers.get('date') ?? '');
  const difference = date - Date.now();
  if (Number.isNaN(difference) || Math.abs(difference) < mostClockDifference) return [];
  const minutes = Math.round(Math.abs(difference) / 60_000);
  return [
    warning(
      'clock',
      `The server's clock is ${counted(minutes, 'minute')} ${difference > 0 ? 'ahead of' : 'behind'} this one; one of the two is wrong.`,
      'Set it; tokens expire by the server’s clock.',
    ),
  ];
}

function schemas(schema: Schema | undefined, { schemaVersion, tables }: About): Finding[] {
  if (schema === undefined) return [];
  const kept = Object.entries(schema.tables).flatMap(([name, { home }]) => (home === 'device' ? [] : [name]));
  const lacking = kept.filter((name) => !tables.includes(name));
  if (lacking.length === kept.length)
    return [
      failure(
        'other-app',
        'The server keeps none of the tables of this schema: it is another app’s.',
        'Correct the address.',
      ),
    ];
  if (lacking.length > 0)
    return [
      failure(
        'tables-lacking',
        `The server does not keep ${lacking.join(', ')}: changes of them wait on devices.`,
        'Start the server with the newer schema.',
      ),
    ];
  if (schemaVersion < schema.version)
    return [
      warning(
        'older-schema',
        `The server has version ${schemaVersion} of the schema, and the app version ${schema.version}: what is new waits on devices.`,
        'Start the server with the newer schema first.',
      ),
    ];
  return [];
}

/** Asks for one row, as a device does. */
async function access(root: string, token: string | undefined): Promise<Finding[]> {
  try {
    await httpTransport(root, { timeout: patience, ...(token === undefined ? {} : { token: () => token }) }).pull({
      limit: 1,
    });
    const told = token === undefined ? 'without a token' : 'with this token';
    return [ok('access', `The server gives rows ${told}.`), ...expiry(token)];
  } catch (error) {
    if (!(error instanceof KoinonError)) throw error;
    if (error.code === 'not-authenticated' && token === undefined)
      return [failure('token-needed', 'The server knows users, and no token was given.', 'Give --token.')];
    if (error.code === 'not-authenticated')
      return [
        failure(
          'token-refused',
          refusedToken(token as string),
          'Sign in anew, and look at the key, issuer and audience that the server expects.',
        ),
      ];
    return [failure(error.code, `A device gets no rows: ${error.message}`, 'Look at the log of the server.')];
  }
}

function claimsOf(token: string) {
  try {
    return decodeJwt(token);
  } catch {
    return undefined;
  }
}

function refusedToken(token: string): string {
  const claims = claimsOf(token);
  if (claims === undefined) return 'The server refuses this token, which is no JSON Web Token.';
  if (claims.exp !== undefined && claims.exp * 1_000 < Date.now())
    return `The server refuses this token: it has expired at ${new Date(claims.exp * 1_000).toISOString()}.`;
  return `The server refuses this token, which is of user ${claims.sub ?? '(none)'}, from ${claims.iss ?? '(no issuer)'}, for ${String(claims.aud ?? '(no audience)')}.`;
}

function expiry(token: string | undefined): Finding[] {
  const claims = token === undefined ? undefined : claimsOf(token);
  if (claims?.exp === undefined) return [];
  return [
    ok('token', `The token is of user ${claims.sub ?? '(none)'}, until ${new Date(claims.exp * 1_000).toISOString()}.`),
  ];
}

/** Asks what a browser asks before it sends a request of another origin. */
async function originAllowed(root: string, origin: string): Promise<Finding> {
  const headers = {
    origin,
    'access-control-request-method': 'POST',
    'access-control-request-headers': 'authorization,content-type',
  };
  const answer = await fetch(`${root}/v1/pull`, {
    method: 'OPTIONS',
    headers,
    signal: AbortSignal.timeout(patience),
  }).catch(() => undefined);
  const allowed = answer?.headers.get('access-control-allow-origin');
  return allowed === origin || allowed === '*'
    ? ok('origin', `Pages of ${origin} may ask the server.`)
    : failure(
        'origin-refused',
        `Browsers keep pages of ${origin} from asking the server.`,
        'Name the origin in `origins` of the server, and let the proxy pass OPTIONS requests.',
      );
}

/** Days before the end of a certificate from which on it is worth a word. */
const lastDays = 14;

/** Tells until when the server's certificate is good. */
function certificate({ protocol, hostname, port }: URL): Promise<Finding[]> {
  if (protocol !== 'https:') return Promise.resolve([]);
  return new Promise((done) => {
    const socket = connect(
      { host: hostname, port: Number(port || 443), servername: isIP(hostname) ? '' : hostname },
      () => {
        const until = Date.parse(socket.getPeerCertificate().valid_to);
        socket.destroy();
        const days = Math.floor((until - Date.now()) / 86_400_000);
        const message = `The certificate is good for ${counted(days, 'more day')}.`;
        done([days < lastDays ? warning('certificate-ends', message, 'Renew it.') : ok('certificate', message)]);
      },
    );
    socket.setTimeout(patience, () => socket.destroy());
    // What is wrong with it was told when the server was asked.
    socket.on('error', () => done([]));
    socket.on('close', () => done([]));
  });
}

/** Looks whether a large answer comes compressed: a proxy may take the request for it away. */
async function compression(root: string): Promise<Finding> {
  const answer = await fetch(`${root}/v1/openapi.json`, {
    headers: { 'accept-encoding': 'gzip' },
    signal: AbortSignal.timeout(patience),
  }).catch(() => undefined);
  await answer?.body?.cancel();
  return answer?.headers.get('content-encoding')
    ? ok('compression', 'Answers come compressed.')
    : warning(
        'not-compressed',
        'Answers come without compression: a first download takes several times as many bytes.',
        'Let the proxy pass the header Accept-Encoding.',
      );
}

/** Tries to open a live connection: a proxy may not pass it. */
function liveConnection(root: string): Promise<Finding> {
  const url = new URL(`${root}/v1/live`);
  const open = url.protocol === 'https:' ? httpsRequest : httpRequest;
  const missing = (what: string) =>
    warning(
      'no-live-connection',
      `A live connection cannot be opened (${what}): devices ask every moment instead.`,
      'Let the proxy pass the headers Upgrade and Connection.',
    );
  return new Promise((done) => {
    const request = open(url, {
      timeout: patience,
      headers: {
        connection: 'Upgrade',
        upgrade: 'websocket',
        'sec-websocket-version': '13',
        'sec-websocket-key': Buffer.from('koinon check key').toString('base64'),
      },
    });
    request.on('upgrade', (_response, socket) => {
      socket.destroy();
      done(ok('live', 'Live connections are passed on.'));
    });
    request.on('response', (response) => {
      response.destroy();
      done(missing(`status ${response.statusCode}`));
    });
    request.on('timeout', () => request.destroy(new Error('no answer')));
    request.on('error', (error) => done(missing(error.message)));
    request.end();
  });
}

/** Keeps a live connection open, of a replica that has asked for no table: a proxy may cut what says little. */
async function keptOpen(root: string, token: string | undefined, wanted: number): Promise<Finding> {
  const transport = httpTransport(root, { timeout: patience, ...(token === undefined ? {} : { token: () => token }) });
  const only = { tables: [] };
  let cursor: string;
  try {
    cursor = (await transport.pull(only)).header.cursor;
  } catch (error) {
    if (!(error instanceof KoinonError)) throw error;
    return warning('live-not-tried', `No live connection was kept open: ${error.message}`, 'See the other findings.');
  }
  const began = performance.now();
  const isCut = await new Promise<boolean>((done) => {
    const end = setTimeout(() => done(false), wanted * 1_000);
    const channel = transport.live?.({
      open: () => channel?.say({ join: 1, cursor, replica: crypto.randomUUID(), only }),
      message: () => undefined,
      closed: () => {
        clearTimeout(end);
        done(true);
      },
    });
    if (channel === undefined) done(true);
    else void new Promise((over) => setTimeout(over, wanted * 1_000)).then(() => channel.close());
  });
  const lasted = Math.round((performance.now() - began) / 1_000);
  return isCut
    ? warning(
        'connection-cut',
        `A live connection was cut after ${counted(lasted, 'second')}: devices open it again each time, and ask meanwhile.`,
        'Raise the idle time-out of the proxy above 40 seconds.',
      )
    : ok('live-for', `A live connection stayed open for ${counted(lasted, 'second')}.`);
}

/** Sends as much as a device may: the server refuses it as no request, a proxy before it as too large. */
async function largeRequests(root: string): Promise<Finding> {
  const answer = await fetch(`${root}/v1/push`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: `"${'x'.repeat(requestBytes)}"`,
    signal: AbortSignal.timeout(patience),
  }).catch((error: Error) => error);
  if (!(answer instanceof Response))
    return failure(
      'large-requests',
      `A request of ${requestBytes} bytes was cut off: ${answer.message}.`,
      'Raise the limit of the proxy for bodies.',
    );
  await answer.body?.cancel();
  return answer.status === 413
    ? failure(
        'large-requests',
        `Requests of ${requestBytes} bytes are refused as too large.`,
        'Raise the limit of the proxy for bodies.',
      )
    : ok('requests', `Requests of ${requestBytes} bytes reach the server.`);
}
