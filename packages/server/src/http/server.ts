import type { ServerResponse } from 'node:http';
import { KoinonError, type Schema } from '@koinon/core';
import fastify from 'fastify';
import type { Logger } from 'pino';
import { UserConnections } from '../auth/connections.ts';
import type { HandlerOptions } from './handler.ts';
import { koinonPlugin } from './plugin.ts';
import { answerFrameworkError, answerParserError } from './problems.ts';

/** Options of {@link startServer}. */
export interface ServerOptions<S extends Schema = Schema> extends HandlerOptions<S> {
  /** The address to bind to; without `authenticate` loopback only. Default `127.0.0.1`. */
  readonly host?: string;
  /** The port; 0 takes a free one. Default 4280. */
  readonly port?: number;
  /** The log of requests and failures. Default: none. */
  readonly logger?: Logger;
}

/** A server that is listening. */
export interface RunningServer {
  /** Such as `http://127.0.0.1:4280`. */
  readonly url: string;
  /**
   * Ends the live connections and feeds of a user who has been removed, say; their number is returned. Devices ask for another
   * token then, and `authenticate` decides.
   */
  disconnect(user: string): number;
  /** Answers what has begun, then stops listening and closes the store. */
  close(): Promise<void>;
}

const loopback = /^(127(\.\d{1,3}){3}|::1|localhost)$/;

/**
 * Serves a store over HTTP. Without `authenticate` it answers this machine only: another address is refused, and so is a
 * request whose Host header names another (a page of another origin that points a name of its own here).
 *
 * @throws KoinonError `not-loopback`, `address-in-use`.
 * @example
 * const store = await sqliteStore(cooperative, 'server.db')
 * const server = await startServer({ store, port: 4280 })
 * show(server.url)
 */
export async function startServer<S extends Schema = Schema>({
  store,
  host = '127.0.0.1',
  port = 4280,
  proxies = [],
  logger,
  ...options
}: ServerOptions<S>): Promise<RunningServer> {
  if (!loopback.test(host) && options.authenticate === undefined)
    throw new KoinonError(
      'not-loopback',
      `Without \`authenticate\` anybody who reaches the server may do everything, so it answers this machine only; bind it to 127.0.0.1, not ${host}.`,
    );
  // An idle connection must not keep the server from stopping; one with a request under way gets its answer first.
  const app = fastify({
    forceCloseConnections: 'idle',
    trustProxy: [...proxies],
    frameworkErrors: answerFrameworkError,
    clientErrorHandler: answerParserError,
    ...(logger ? { loggerInstance: logger } : { logger: false }),
  });
  let isClosing = false;
  const underWay = new Set<ServerResponse>();
  /** A connection on which nothing was ever asked counts as neither idle nor active, and would keep the server for a minute. */
  const cutUnused = () => {
    if (isClosing && underWay.size === 0) app.server.closeAllConnections();
  };
  app.server.on('request', (_request, response) => {
    underWay.add(response);
    response.on('close', () => {
      underWay.delete(response);
      cutUnused();
    });
  });
  app.addHook('onSend', async (_request, reply) => {
    // The connection of a request that was under way would otherwise stay open after its answer, and stopping wait for it.
    if (isClosing) reply.header('connection', 'close');
  });
  const { userConnections = new UserConnections() } = options;
  await app.register(koinonPlugin<S>, {
    store,
    userConnections,
    ...(options.authenticate === undefined && { isOwnHost: (name: string) => loopback.test(name) }),
    ...options,
  });
  const url = await app.listen({ host, port }).catch((error: { code?: string }) => {
    if (error.code !== 'EADDRINUSE') throw error;
    throw new KoinonError(
      'address-in-use',
      `Port ${port} of ${host} is taken by another program; choose another port, or 0 for a free one.`,
      { value: port },
    );
  });
  return {
    url,
    disconnect: (user) => userConnections.disconnect(user),
    async close() {
      isClosing = true;
      const closing = app.close();
      // Again and again: such a connection may come at any time before the port is closed.
      const cutting = setInterval(cutUnused, 50);
      await closing.finally(() => clearInterval(cutting));
      await store.close();
    },
  };
}
