import {
  type JoinRequest,
  KoinonError,
  type LiveMessage,
  type ProblemDocument,
  readJoinRequest,
  silence,
} from '@koinon/core';
import type { WebSocket } from 'ws';
import { notAuthenticated } from '../auth/authenticate.ts';
import { type Access, cursorOf } from '../pull/pull.ts';
import type { Store } from '../stores/store.ts';
import type { Follower, Hub, Window } from './hub.ts';

/** Bytes that may wait for one connection; a reader slower than that is told to pull. */
const mostWaiting = 4 * 1024 * 1024;

/** Milliseconds in which a new connection has to say who it is. */
const joinWithin = 10_000;

/** How the end of a connection is told, besides RFC 6455's own codes. */
const refusedCode = 4_000;

/** What a connection is admitted by. */
export interface Admission {
  readonly store: Store;
  readonly hub: Hub;
  /** Refuses a replica that may not be served; says whose it is. @throws KoinonError. */
  admit(request: JoinRequest): Promise<Access>;
  /** The problem document of an error. */
  problem(error: unknown): ProblemDocument;
}

/** Serves one WebSocket until it closes: it joins, gets windows, pulls when it is behind, and joins again. */
export function serveConnection(socket: WebSocket, { store, hub, admit, problem }: Admission): void {
  let leave: (() => void) | undefined;
  let isSlow = false;
  let expiry: NodeJS.Timeout | undefined;
  let heardAt = Date.now();

  const say = (message: LiveMessage) => socket.send(JSON.stringify(message));
  const send = (text: string) => {
    if (isSlow || socket.readyState !== socket.OPEN) return;
    socket.send(text, () => {
      // What waited has gone out: now it may catch up by itself.
      if (isSlow && socket.bufferedAmount === 0 && socket.readyState === socket.OPEN) {
        isSlow = false;
        say({ tell: 'behind' });
      }
    });
    if (socket.bufferedAmount <= mostWaiting) return;
    isSlow = true;
    leave?.();
  };
  const refuse = (error: unknown) => {
    leave?.();
    say({ tell: 'refused', problem: problem(error) });
    socket.close(refusedCode);
  };
  const join = async (text: string) => {
    const request = readJoinRequest(text);
    const access = await admit(request);
    const until = access.user?.expires;
    clearTimeout(expiry);
    // Longer than a timer can count is longer than any connection lasts.
    if (until !== undefined)
      expiry = setTimeout(() => refuse(notAuthenticated()), Math.min(until - Date.now(), 2 ** 31 - 1));
    const cursor = cursorOf(store, request.cursor, access.user);
    if (cursor.resume !== undefined)
      throw new KoinonError(
        'malformed-request',
        'cursor: the first download has to be complete before a replica joins.',
      );
    const follower: Follower = {
      joined: ({ json }: Window) => send(`{"tell":"joined","join":${request.join},${json}}`),
      window: ({ json }: Window) => send(`{"tell":"window",${json}}`),
      behind: () => say({ tell: 'behind' }),
      access,
      asked: request.only,
      replica: request.replica,
      ...(request.tables && { tables: new Set(request.tables) }),
    };
    leave?.();
    if (socket.readyState === socket.OPEN) leave = hub.follow(follower, cursor, request.cursor);
  };

  const silent = setTimeout(
    () => refuse(new KoinonError('malformed-request', `Nothing was said within ${joinWithin} ms.`)),
    joinWithin,
  );
  const beat = setInterval(() => {
    if (Date.now() - heardAt > silence) socket.terminate();
    else {
      say({ tell: 'beat' });
      socket.ping();
    }
  }, silence / 2);
  const heard = () => {
    heardAt = Date.now();
  };
  socket.on('pong', heard);
  socket.on('message', (data, isBinary) => {
    heard();
    clearTimeout(silent);
    join(isBinary ? '' : String(data)).catch(refuse);
  });
  socket.on('close', () => {
    clearTimeout(silent);
    clearInterval(beat);
    clearTimeout(expiry);
    leave?.();
  });
  socket.on('error', () => socket.terminate());
}
