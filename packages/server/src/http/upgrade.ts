import type { IncomingMessage } from 'node:http';
import type { Duplex } from 'node:stream';
import { KoinonError, type LiveMessage } from '@koinon/core';
import { WebSocketServer } from 'ws';
import { type Admission, mostBytes, type Sender, serveConnection } from '../realtime/connection.ts';
import { endWithProblem } from './problems.ts';

/** The code of RFC 6455 for a service that is about to start again: come back, here or elsewhere. */
const restarting = 1012;

/**
 * How fast the replicas of a server that stops come back, so that the other processes can bring them all up: replicas a second, and the
 * shortest and the longest time over which they are spread, in milliseconds.
 */
const comingBack = { perSecond: 200, least: 1_000, most: 60_000 };

/** Connections of one address at once that have not said yet who they are. */
const mostUnjoined = 200;

/** The sockets behind a WebSocket path. */
export interface Sockets {
  /** @throws KoinonError `too-many-requests` where no more are taken, all in all or from this address. */
  refuseFull(address: string): void;
  /** Takes the upgrade of an HTTP connection. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer, sender: Sender): void;
  /** Sends every replica away, to another process or back when this one is there again. */
  close(): Promise<void>;
}

/** Accepts WebSockets. @param most connections at once; over that, replicas are sent away and pull meanwhile. */
export function acceptSockets(admission: Admission, most: number): Sockets {
  const server = new WebSocketServer({ noServer: true, maxPayload: mostBytes, perMessageDeflate: false });
  const unjoined = new Map<string, number>();
  const count = (address: string, by: 1 | -1) => {
    const now = (unjoined.get(address) ?? 0) + by;
    if (now > 0) unjoined.set(address, now);
    else unjoined.delete(address);
  };
  server.on('wsClientError', (error, socket) =>
    endWithProblem(
      socket,
      new KoinonError('malformed-request', `The upgrade to a WebSocket cannot be read: ${error.message}.`),
    ),
  );
  return {
    refuseFull(address) {
      if (server.clients.size >= most)
        throw new KoinonError(
          'too-many-requests',
          `${most} replicas are connected already; pull meanwhile, and try again.`,
        );
      if ((unjoined.get(address) ?? 0) >= mostUnjoined)
        throw new KoinonError(
          'too-many-requests',
          `${mostUnjoined} connections of this address have not joined yet; pull meanwhile, and try again.`,
        );
    },
    upgrade(request, socket, head, sender) {
      server.handleUpgrade(request, socket, head, (connection) => {
        count(sender.address, 1);
        serveConnection(connection, admission, sender, () => count(sender.address, -1));
      });
    },
    async close() {
      const { perSecond, least, most } = comingBack;
      const within = Math.min(most, Math.max(least, Math.ceil((server.clients.size / perSecond) * 1_000)));
      const farewell = JSON.stringify({ type: 'restarting', within } satisfies LiveMessage);
      for (const connection of server.clients) {
        connection.send(farewell);
        connection.close(restarting, 'restarting');
      }
      const ended = new Promise<void>((done) => server.close(() => done()));
      // A client that does not answer the closing is cut off.
      const cut = setTimeout(() => {
        for (const connection of server.clients) connection.terminate();
      }, 1_000);
      await ended;
      clearTimeout(cut);
    },
  };
}
