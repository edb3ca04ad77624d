import type { IncomingMessage } from 'node:http';
import type { Duplex } from 'node:stream';
import { KoinonError, problemJson } from '@koinon/core';
import { WebSocketServer } from 'ws';
import type { AllowsOrigin } from '../http/origins.ts';
import { type Admission, mostBytes, serveConnection } from './connection.ts';

/** The code of RFC 6455 for a service that is about to start again: come back, here or elsewhere. */
const restarting = 1012;

/** What is behind a WebSocket path: takes the upgrade of an HTTP connection. */
export interface Sockets {
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void;
  /** Sends every replica away, to another process or back when this one is there again. */
  close(): Promise<void>;
}

/** Who may connect. */
export interface SocketLimits {
  /** Connections at once; over that, replicas are sent away and pull meanwhile. */
  readonly most: number;
  readonly isOwnHost: (hostname: string) => boolean;
  readonly allowsOrigin: AllowsOrigin;
}

/** Accepts WebSockets. */
export function acceptSockets(admission: Admission, limits: SocketLimits): Sockets {
  const { most } = limits;
  const server = new WebSocketServer({ noServer: true, maxPayload: mostBytes, perMessageDeflate: false });
  return {
    upgrade(request, socket, head) {
      socket.on('error', () => socket.destroy());
      const error = !isAllowed(request, limits)
        ? new KoinonError(
            'not-loopback',
            `Pages of ${request.headers.origin} may not use this server, unless it names that among its origins.`,
          )
        : server.clients.size >= most
          ? new KoinonError(
              'too-many-requests',
              `${most} replicas are connected already; pull meanwhile, and try again.`,
            )
          : undefined;
      if (error === undefined) {
        server.handleUpgrade(request, socket, head, (connection) => serveConnection(connection, admission));
        return;
      }
      const problem = admission.problem(error);
      const body = JSON.stringify(problem);
      socket.end(
        `HTTP/1.1 ${problem.status} ${problem.title}\r\ncontent-type: ${problemJson}\r\ncontent-length: ${Buffer.byteLength(body)}\r\nconnection: close\r\n\r\n${body}`,
      );
    },
    async close() {
      for (const connection of server.clients) connection.close(restarting, 'restarting');
      const ended = new Promise<void>((done) => server.close(() => done()));
      // Who does not answer the closing is cut off.
      const cut = setTimeout(() => {
        for (const connection of server.clients) connection.terminate();
      }, 1_000);
      await ended;
      clearTimeout(cut);
    },
  };
}

/**
 * Whether who opens a socket may: the request is sent to this server's host, by a page that may use it. Browsers let a page
 * of any origin open one, and say which it is; other programs say nothing.
 */
function isAllowed({ headers: { origin, host } }: IncomingMessage, { isOwnHost, allowsOrigin }: SocketLimits): boolean {
  if (!URL.canParse(`http://${host}`)) return false;
  const to = new URL(`http://${host}`).hostname;
  return isOwnHost(to.replace(/^\[|\]$/g, '')) && (origin === undefined || allowsOrigin(origin, host));
}
