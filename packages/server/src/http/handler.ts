import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import type { Schema } from '@koinon/core';
import fastify from 'fastify';
import { UserConnections } from '../auth/connections.ts';
import type { PluginOptions } from './options.ts';
import { koinonPlugin } from './plugin.ts';
import { answerFrameworkError } from './problems.ts';

/** Options of {@link requestHandler}. */
export interface HandlerOptions<S extends Schema = Schema> extends PluginOptions<S> {
  /**
   * Addresses of proxies in front of it, or ranges of them (`10.0.0.0/8`): whom they name in `X-Forwarded-For` counts as who
   * asks, for `requestsPerMinute` and the log. Default: none; all that comes through a proxy is one address then.
   */
  readonly proxies?: readonly string[];
}

/** Answers the protocol's requests for a server that is there already. */
export interface RequestHandler {
  /** Answers one request, whose path begins with `/v1/`. */
  handle(request: IncomingMessage, response: ServerResponse): void;
  /** Takes the upgrade of a connection to a WebSocket, for the path `/v1/live`. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void;
  /** Ends the live connections and feeds of a user; their number is returned. */
  disconnect(user: string): number;
  /** Writes down what is to be kept. The store stays open: it is the caller's. */
  close(): Promise<void>;
}

/**
 * The protocol as a plain Node request handler, for a service that is not Fastify's.
 *
 * @example
 * const koinon = await requestHandler({ store })
 * createServer((request, response) => (request.url.startsWith('/v1/') ? koinon.handle(request, response) : mine(request, response)))
 */
export async function requestHandler<S extends Schema = Schema>({
  proxies = [],
  ...options
}: HandlerOptions<S>): Promise<RequestHandler> {
  const app = fastify({ trustProxy: [...proxies], frameworkErrors: answerFrameworkError });
  const { userConnections = new UserConnections() } = options;
  await app.register(koinonPlugin<S>, { ...options, userConnections });
  await app.ready();
  return {
    handle: (request, response) => app.routing(request, response),
    upgrade: (request, socket, head) => void app.server.emit('upgrade', request, socket, head),
    disconnect: (user) => userConnections.disconnect(user),
    close: () => app.close(),
  };
}
