import {
  type JoinRequest,
  KoinonError,
  type LiveMessage,
  type LivePush,
  type ProblemDocument,
  type PushResponse,
} from '@koinon/core';
import { readLiveRequest, silence } from '@koinon/core/internal';
import type { WebSocket } from 'ws';
import { endUnknown, notAuthenticated, untilExpiry } from '../auth/authenticate.ts';
import type { Blocklist } from '../auth/blocklist.ts';
import type { UserConnections } from '../auth/connections.ts';
import type { Identify } from '../auth/identity.ts';
import { type Access, givenCursor, unsupported } from '../pull/pull.ts';
import type { Store } from '../store/store.ts';
import type { Follower, Hub, Window } from './hub.ts';

/** Bytes that may wait for one connection; a reader slower than that is told to pull. */
const mostWaiting = 4 * 1024 * 1024;

/** Milliseconds in which a new connection has to say who it is. */
const joinWithin = 10_000;

/** Joins of one connection that may wait at once; each holds a message in memory. */
const mostJoins = 10;

/** Milliseconds after which a replica whose join is not answered yet is given a sign of life. */
const joinSign = 1_000;

/** Bytes of one message of a replica: it says where it stands, or pushes something small. */
export const mostBytes = 64 * 1024;

/** The part of them that a push may have. */
const pushBytes = mostBytes - 1024;

/** Milliseconds between two signs of life. */
const beatEvery = silence / 2;

const contentStored = JSON.stringify({ type: 'content-stored' } satisfies LiveMessage);

/** How the end of a connection is told, besides RFC 6455's own codes. */
const refusedCode = 4_000;

/** The checks that a connection passes. */
export interface Admission {
  readonly store: Store;
  readonly hub: Hub;
  /**
   * Refuses a replica that may not be served; says whose it is.
   *
   * @param isGone tells whether its connection has ended meanwhile.
   * @throws KoinonError.
   */
  admit(request: JoinRequest, isGone: () => boolean): Promise<Access>;
  readonly blocklist: Pick<Blocklist, 'refuse' | 'onChange'>;
  /** Takes up a push of whoever has this token. @throws KoinonError. */
  push(body: unknown, token: string | undefined): Promise<PushResponse>;
  /** Asked again while a connection is open. */
  readonly identify: Identify;
  readonly userConnections: UserConnections;
  /** The problem document of an error. */
  problem(error: unknown): ProblemDocument;
}

/** The source of a connection. */
export interface Sender {
  readonly address: string;
  /** Counts something that it says. @throws KoinonError `too-many-requests`. */
  take(): void;
}

/** The tables that there are of those that a replica names: what it says is not kept. */
export const tablesOf = ({ schema }: Store, names: readonly string[]): ReadonlySet<string> => {
  const named = new Set(names);
  return new Set(Object.keys(schema.tables).filter((name) => named.has(name)));
};

/**
 * Serves one WebSocket until it closes: it joins, gets windows, pulls when it is behind, and joins again.
 *
 * @param settled called once, when the connection has joined or ended.
 */
export function serveConnection(socket: WebSocket, admission: Admission, sender: Sender, settled: () => void): void {
  const { store, hub, admit, problem, blocklist } = admission;
  let forgetUser: (() => void) | undefined;
  let isSettled = false;
  const settle = () => {
    if (!isSettled) settled();
    isSettled = true;
  };
  let joined: JoinRequest | undefined;
  let joins = 0;
  let waitingJoins = 0;
  let isPushing = false;
  let leave: (() => void) | undefined;
  let isSlow = false;
  let expiry: NodeJS.Timeout | undefined;
  let waiting: NodeJS.Timeout | undefined;
  let heardAt = Date.now();

  const say = (message: LiveMessage) => socket.send(JSON.stringify(message));
  const send = (text: string) => {
    if (isSlow || socket.readyState !== socket.OPEN) return;
    socket.send(text, () => {
      // The messages that waited have gone out: now it may catch up by itself.
      if (isSlow && socket.bufferedAmount === 0 && socket.readyState === socket.OPEN) {
        isSlow = false;
        say({ type: 'pull-required' });
      }
    });
    if (socket.bufferedAmount <= mostWaiting) return;
    isSlow = true;
    leave?.();
  };
  const refuse = (error: unknown) => {
    leave?.();
    say({ type: 'refused', problem: problem(error) });
    socket.close(refusedCode);
  };
  const takePush = async (request: unknown, token: string | undefined): Promise<PushResponse> => {
    if (isPushing)
      throw new KoinonError(
        'too-many-requests',
        'One push at a time is taken over a connection; send this one over HTTP.',
      );
    sender.take();
    isPushing = true;
    try {
      return await admission.push(request, token);
    } finally {
      isPushing = false;
    }
  };
  const push = async ({ push, request }: LivePush) => {
    if (joined === undefined) throw new KoinonError('malformed-request', 'push: a replica joins before it pushes.');
    const answer = await takePush(request, joined.token).catch((error: unknown) => ({ problem: problem(error) }));
    // A client that sends on without reading what is answered would have it piled up here.
    if (socket.bufferedAmount > mostWaiting) socket.terminate();
    else if (socket.readyState === socket.OPEN) say({ type: 'pushed', push, ...answer });
  };
  const join = async (request: JoinRequest) => {
    sender.take();
    const turn = ++joins;
    // Many may join at once. A replica that hears nothing takes its connection for broken, and would come again as one more.
    clearTimeout(waiting);
    waiting = setTimeout(() => say({ type: 'heartbeat' }), joinSign);
    if (++waitingJoins > mostJoins)
      throw new KoinonError(
        'too-many-requests',
        `${mostJoins} joins of this connection wait for an answer; wait for one before the next.`,
      );
    // The replica may go meanwhile, or join anew: only its last join is answered.
    const isGone = () => socket.readyState !== socket.OPEN || turn !== joins;
    const admitted = async () => {
      const access = await admit(request, isGone);
      return { access, cursor: await givenCursor(store, request.cursor, access.user) };
    };
    const found = await admitted()
      .catch((error: unknown) => {
        if (isGone()) return undefined;
        throw error;
      })
      .finally(() => waitingJoins--);
    if (found === undefined || isGone()) return;
    const { access, cursor } = found;
    settle();
    clearTimeout(expiry);
    forgetUser?.();
    forgetUser = admission.userConnections.add(access.user, () => refuse(notAuthenticated()));
    expiry = setTimeout(() => refuse(notAuthenticated()), untilExpiry(access.user));
    if (cursor.resume !== undefined)
      throw new KoinonError(
        'malformed-request',
        'cursor: the first download has to be complete before a replica joins.',
      );
    joined = request;
    const lacking = unsupported(store.schema, { ...request, ...request.only });
    const greeting = JSON.stringify({
      type: 'joined',
      join: request.join,
      pushBytes,
      unsupported: lacking.unsupported ?? {},
    }).slice(0, -1);
    const follower: Follower = {
      joined: ({ json }: Window, uploads: number) => {
        clearTimeout(waiting);
        send(`${greeting},"uploads":${uploads},${json}}`);
      },
      window: ({ json }: Window) => send(`{"type":"window",${json}}`),
      behind: () => say({ type: 'pull-required' }),
      ...(request.files && { contentStored: () => send(contentStored) }),
      moved: (tables) => send(JSON.stringify({ type: 'moved', tables } satisfies LiveMessage)),
      access,
      ...(request.queries && { queried: tablesOf(store, request.queries) }),
      asked: request.only,
      replica: request.replica,
      ...(request.tables && { tables: tablesOf(store, request.tables) }),
    };
    leave?.();
    leave = hub.follow(follower, cursor, request.cursor);
  };

  const said = async (text: string) => {
    const request = readLiveRequest(text);
    await ('push' in request ? push(request) : join(request));
  };

  const silent = setTimeout(
    () => refuse(new KoinonError('malformed-request', `Nothing was said within ${joinWithin} ms.`)),
    joinWithin,
  );
  const beat = setInterval(() => {
    if (joined !== undefined) void admission.identify(joined.token).catch(endUnknown(refuse));
    if (Date.now() - heardAt > silence) socket.terminate();
    else {
      say({ type: 'heartbeat' });
      socket.ping();
    }
  }, beatEvery);
  const stopHearing = blocklist.onChange(() => {
    try {
      if (joined !== undefined) blocklist.refuse(joined.replica);
    } catch (error) {
      refuse(error);
    }
  });
  const heard = () => {
    heardAt = Date.now();
  };
  socket.on('pong', heard);
  socket.on('message', (data, isBinary) => {
    heard();
    clearTimeout(silent);
    said(isBinary ? '' : String(data)).catch(refuse);
  });
  socket.on('close', () => {
    clearTimeout(silent);
    clearInterval(beat);
    clearTimeout(expiry);
    clearTimeout(waiting);
    forgetUser?.();
    settle();
    stopHearing();
    leave?.();
  });
  socket.on('error', () => socket.terminate());
}
