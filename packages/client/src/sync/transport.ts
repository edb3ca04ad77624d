import {
  type AppliedRequest,
  type AppliedResponse,
  type ErrorCode,
  errorStatus,
  type JoinRequest,
  KoinonError,
  type LiveMessage,
  limits,
  type ProblemDocument,
  type PulledPage,
  type PullRequest,
  type QueryRequest,
  type QueryResponse,
  type TrashRequest,
  type TrashResponse,
  type WaitRequest,
  type WaitResponse,
} from '@koinon/core';
import { livePath, messageOf, readPulledPage, shown } from '@koinon/core/internal';
import WebSocket from '#web-socket';
import { serverRoot, withinOrigin } from './address.ts';
import { IdleTimeout, textOf } from './idle-timeout.ts';
import { Packing, sizeOf } from './packing.ts';

/** How a replica reaches its server. It carries what the server answers; the replica looks at it before it does anything with it. */
export interface Transport {
  /** One page of what changed. */
  pull(request: PullRequest, signal?: AbortSignal): Promise<PulledPage>;
  /** Sends these exact bytes; returns the parsed answer. */
  push(body: string, signal?: AbortSignal): Promise<unknown>;
  /** Which of these origins of a replica were applied; a transport without it cannot ask. */
  applied?(request: AppliedRequest, signal?: AbortSignal): Promise<AppliedResponse>;
  /** Deleted rows that can be brought back; a transport without it cannot. */
  trash?(request: TrashRequest, signal?: AbortSignal): Promise<TrashResponse>;
  /** Answers one query from the server's database; a transport without it cannot ask. */
  query?(request: QueryRequest, signal?: AbortSignal): Promise<QueryResponse>;
  /** Opens a connection on which the server tells what changes; a transport without it is asked now and then. */
  live?(listener: LiveListener): LiveChannel;
  /** Waits until there is something behind a cursor, for a while; says whether there is. */
  wait?(request: WaitRequest, signal?: AbortSignal): Promise<WaitResponse>;
  /** Somebody else may have signed in: the next request asks for a token anew. */
  forgetToken?(): void;
  /** Bytes that came down and went up since this was made, where the transport counts them. */
  readonly bytes?: { readonly down: number; readonly up: number };
}

/** The listener of a live connection. */
export interface LiveListener {
  /** The connection is open. */
  open(): void;
  /** The server says something. */
  message(message: LiveMessage): void;
  /** It has ended, or could not be opened. Called once, and nothing after it. */
  closed(): void;
}

/** A live connection. */
export interface LiveChannel {
  /** Asks for what happens from a cursor on. */
  say(request: JoinRequest): void;
  /** Sends these exact bytes as the push of that number; a channel without it sends none. */
  push?(number: number, body: string): void;
  /** Closes the connection. */
  close(): void;
}

/** Milliseconds a request may be held back by the server, and something on top. */
const waitPatience = 45_000;

/** The source of tokens; undefined: nobody is signed in. */
export type TokenSource = () => string | undefined | Promise<string | undefined>;

/** Options of {@link httpTransport}. */
export interface HttpOptions {
  /**
   * The token that says who asks, called when one is needed and again when the server refuses it. Without one, or when
   * a new one is refused as well, the sync waits (`needs-auth`); the app does not.
   */
  readonly token?: TokenSource;
  /**
   * Milliseconds without any sign of an answer after which a request counts as lost. Default 30,000; after a third of them it
   * is sent once more, on another connection. What is large may take as
   * long as it keeps coming; for what goes up, nothing tells how far it is, and 8,000 bytes a second are waited for besides.
   */
  readonly timeout?: number;
}

/**
 * Reaches a server over HTTP with the runtime's `fetch`.
 *
 * @param url where the server answers, such as `http://127.0.0.1:4280`. A path in it is the one below which the server is.
 * @throws KoinonError `argument-invalid` for what is no such address.
 * @example
 * const server = httpTransport('http://127.0.0.1:4280', { token: () => 'the token of the one who is signed in', timeout: 60_000 })
 * const replica = await openReplica({ schema: cooperative, server, sync: { when: { open: false } } })
 */
export function httpTransport(url: string, { timeout = 30_000, token: source }: HttpOptions = {}): Transport {
  const root = serverRoot(url);
  const bytes = { down: 0, up: 0 };
  const packing = new Packing(root);
  let known: string | undefined;
  let knowsLater = true;
  const tokenOf = async (): Promise<string | undefined> => {
    if (source === undefined) return undefined;
    known ??= await askedToken(source);
    if (known === undefined)
      throw new KoinonError('not-authenticated', 'Nobody is signed in; the sync waits, and what is unsent is kept.');
    return known;
  };
  async function ask(
    path: string,
    body: string | undefined,
    signal?: AbortSignal,
    patience = timeout,
  ): Promise<string> {
    let token = await tokenOf();
    let sent = body === undefined ? undefined : await packing.pack(body);
    // A connection that was kept open since an earlier request may be dead by now, and only using it tells: after a sleep, or
    // where the network has forgotten it, by silence. The first try waits less, and the other one takes a new connection.
    const isHeldBack = patience > timeout;
    let waited = 0;
    let limit = new IdleTimeout(isHeldBack ? patience : patience / 3, signal);
    const again = () => {
      waited = limit.isOver ? limit.waited : 0;
      limit.end();
      limit = new IdleTimeout(isHeldBack ? patience : (patience * 2) / 3, signal);
      return send();
    };
    const send = async () => {
      const size = sizeOf(sent);
      const began = performance.now();
      limit.begin(size);
      const response = await withinOrigin(`${root}${path}`, limit.signal, (to) =>
        fetch(to, {
          ...(sent === undefined ? {} : { method: 'POST', body: sent }),
          headers: {
            ...(sent === undefined ? {} : { 'content-type': 'application/json' }),
            ...(typeof sent === 'object' ? { 'content-encoding': 'gzip' } : {}),
            ...(token === undefined ? {} : { authorization: `Bearer ${token}` }),
          },
          redirect: 'manual',
          signal: limit.signal,
        }),
      );
      bytes.up += size;
      packing.note(response, size, performance.now() - began);
      return response;
    };
    try {
      // Pulls and pushes may be repeated: one more try costs nothing and spares a false alarm.
      let response = await send().catch((error) =>
        signal?.aborted || error instanceof KoinonError || (isHeldBack && limit.isOver)
          ? Promise.reject(error)
          : again(),
      );
      limit.most = patience;
      if (response.status === 401 && source !== undefined) {
        // It may just have expired.
        known = undefined;
        const before = token;
        token = await tokenOf();
        if (token !== before) response = await send();
      }
      if (typeof sent === 'object' && packing.isRefused(response)) {
        sent = body;
        response = await send();
      }
      const text = await textOf(response, limits.answerBytes, (length) => {
        limit.begin();
        bytes.down += length;
      });
      if (!response.ok) throw problemOf(response, text, root);
      if (isPage(response)) throw notKoinon(response, root);
      return text;
    } catch (error) {
      if (error instanceof KoinonError) throw error;
      if (signal?.aborted)
        throw new KoinonError('cancelled', 'The sync was cancelled; everything unsent is kept.', { cause: error });
      const why = limit.isOver ? `nothing came for ${waited + limit.waited} ms` : reasonOf(error);
      throw new KoinonError(
        'server-unreachable',
        `The server at ${root} cannot be reached (${why}). Everything unsent is kept; sync again when there is a connection.`,
        { cause: error },
      );
    } finally {
      limit.end();
    }
  }
  return {
    bytes,
    forgetToken() {
      known = undefined;
    },
    async pull(request, signal) {
      const { omitKnownBytes, rowBlocks, mayBeBehind, ...plain } = request;
      const pulled = async (asked: PullRequest) => readPulledPage(await ask('/v1/pull', JSON.stringify(asked), signal));
      if (!(omitKnownBytes || rowBlocks || mayBeBehind) || !knowsLater) return pulled(plain);
      return pulled(request).catch((error: unknown) => {
        // An app may have a newer Koinon than its server, which refuses what it does not know.
        if (!(error instanceof KoinonError) || error.code !== 'malformed-request') throw error;
        knowsLater = false;
        return pulled(plain);
      });
    },
    applied: async (request, signal) =>
      parsed(await ask('/v1/applied', JSON.stringify(request), signal)) as AppliedResponse,
    push: async (body, signal) => parsed(await ask('/v1/push', body, signal)),
    query: async (request, signal) => parsed(await ask('/v1/query', JSON.stringify(request), signal)) as QueryResponse,
    live(listener) {
      const socket = new WebSocket(`${root.replace(/^http/, 'ws')}/v1${livePath}`);
      let isOver = false;
      const end = () => {
        if (isOver) return;
        isOver = true;
        listener.closed();
      };
      socket.onopen = () => listener.open();
      socket.onmessage = ({ data }: { data: unknown }) => {
        bytes.down += String(data).length;
        try {
          listener.message(JSON.parse(String(data)) as LiveMessage);
        } catch {
          // Something else than a Koinon server.
          socket.close();
          end();
        }
      };
      socket.onclose = end;
      socket.onerror = end;
      return {
        say(request) {
          void tokenOf().then(
            (token) => {
              const text = JSON.stringify({ ...request, ...(token === undefined ? {} : { token }) });
              bytes.up += text.length;
              if (socket.readyState === socket.OPEN) socket.send(text);
            },
            () => socket.close(),
          );
        },
        push(number, body) {
          bytes.up += body.length;
          socket.send(`{"push":${number},"request":${body}}`);
        },
        close() {
          isOver = true;
          // A socket that is still being opened is closed as soon as it is.
          if (socket.readyState === socket.CONNECTING) socket.onopen = () => socket.close();
          else socket.close();
        },
      };
    },
    async wait(request, signal) {
      return parsed(await ask('/v1/wait', JSON.stringify(request), signal, waitPatience)) as WaitResponse;
    },
    async trash(request, signal) {
      const { before, ...rest } = request;
      const behind = before && { before: before.position, beforeTable: before.table, beforeId: before.id };
      const query = new URLSearchParams(
        Object.entries({ ...rest, ...behind }).map(([name, value]): [string, string] => [name, String(value)]),
      );
      return parsed(await ask(`/v1/trash?${query}`, undefined, signal)) as TrashResponse;
    },
  };
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text) as unknown;
  } catch {
    throw new KoinonError(
      'server-answer',
      `The server's answer was cut off or is not JSON: ${shown(text)}; try again.`,
    );
  }
}

/** The token that the app's function gives: a text, or nothing where nobody is signed in. @throws KoinonError `token-failed`. */
async function askedToken(source: TokenSource): Promise<string | undefined> {
  let given: unknown;
  try {
    given = await source();
  } catch (error) {
    throw new KoinonError(
      'token-failed',
      `The app’s function token failed: ${messageOf(error)}. The sync tries again later, and what is unsent is kept.`,
      { cause: error },
    );
  }
  if (given === undefined || given === null || given === '') return undefined;
  // A character outside of these would not go into a header.
  if (typeof given === 'string' && /^[\x21-\x7e]+$/.test(given)) return given;
  // The text itself stays out of the message: it may be most of a token.
  throw new KoinonError(
    'token-failed',
    `The app’s function token returned ${typeof given === 'string' ? 'a text with characters that no token has' : `a value of type ${typeof given}`}. Return a token, or undefined where nobody is signed in.`,
  );
}

/** Tells whether this is a page for people, as the login of a hotel's network puts in the place of every answer. */
function isPage({ headers }: Pick<Response, 'headers'>): boolean {
  return headers.get('content-type')?.startsWith('text/html') === true;
}

function notKoinon({ status, headers }: Pick<Response, 'status' | 'headers'>, root: string): KoinonError {
  const what = isPage({ headers }) ? 'a web page' : 'something that is no answer of a Koinon server';
  return new KoinonError(
    'server-answer',
    `${root} answered with ${what} (HTTP status ${status}). Check the server's address, and whether this network wants a login first.`,
  );
}

/** The error a problem document tells of; an answer that is none says that no Koinon server is there. */
function problemOf(response: Response, text: string, root: string): KoinonError {
  const { status } = response;
  try {
    const problem = JSON.parse(text) as ProblemDocument;
    if (Object.hasOwn(errorStatus, problem.code))
      return new KoinonError(problem.code as ErrorCode, problem.detail, problem);
  } catch {
    // Not JSON: a proxy's page, say.
  }
  if (status === errorStatus['too-large'])
    return new KoinonError(
      'too-large',
      `On the way to ${root} a request of this size is refused. A proxy there has to take larger ones.`,
    );
  return notKoinon(response, root);
}

/** Why no answer came, in one line. */
function reasonOf(error: unknown): string {
  const cause = (error as { cause?: { code?: unknown; message?: unknown } }).cause;
  const code = String(cause?.code ?? '');
  if (/CERT|SELF_SIGNED|UNABLE_TO_VERIFY|ALTNAME/.test(code)) return `its certificate is not trusted: ${code}`;
  if (/SSL|TLS/.test(code)) return `it does not speak TLS there: ${code}`;
  return String(cause?.message || cause?.code || (error as Error).message);
}
