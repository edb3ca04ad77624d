import { type IncomingMessage, ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import { KoinonError } from '@koinon/core';
import { livePath, shown } from '@koinon/core/internal';
import type { FastifyError, FastifyInstance } from 'fastify';
import type { AllowsOrigin } from '../origins.ts';
import { asKoinonError, problemOf } from '../problems.ts';
import type { Service } from '../service.ts';
import { acceptSockets } from '../upgrade.ts';
import { WaitingLine } from '../waiting-line.ts';
import { takePush } from './push.ts';

/** Replicas that are looked up at once when they join: so many come back together that requests would find no room. */
const joinsAtOnce = 2;

/**
 * Live connections. An upgrade goes through the same hooks as every request.
 *
 * @param most connections at once.
 */
export function liveRoutes(
  app: FastifyInstance,
  root: string,
  service: Service,
  { allowsOrigin, most }: { readonly allowsOrigin: AllowsOrigin; readonly most: number },
): void {
  const { store, hub, admission, held, userConnections } = service;
  const { identify, blocklist, limiter } = admission;
  // Replicas that join wait for as long as it takes: they are told of nothing meanwhile, and nobody else asks for them.
  const joining = new WaitingLine(joinsAtOnce, Number.POSITIVE_INFINITY);
  const sockets = acceptSockets(
    {
      store,
      hub,
      problem: (error) => problemOf(asKoinonError(error as Error as FastifyError)),
      admit: (request, isGone) =>
        joining.take(isGone, async () => {
          const user = await identify(request.token);
          await admission.admit(request, user);
          return admission.accessOf(user);
        }),
      identify,
      userConnections,
      blocklist,
      push: async (body, token) => takePush(service, body, await identify(token)),
    },
    most,
  );
  const path = `${app.prefix}${root}${livePath}`;
  /** Connections that are to become sockets, by their requests. */
  const upgrades = new WeakMap<IncomingMessage, { readonly socket: Socket; readonly head: Buffer }>();
  const upgrade = (request: IncomingMessage, socket: Socket, head: Buffer) => {
    if (request.url?.split('?')[0] !== path) {
      // Another plugin of the same server may know the path; where none does, nobody would answer.
      if (app.server.listenerCount('upgrade') === 1) socket.destroy();
      return;
    }
    socket.on('error', () => socket.destroy());
    upgrades.set(request, { socket, head });
    const response = new ServerResponse(request);
    response.shouldKeepAlive = false;
    response.on('finish', () => socket.end());
    response.assignSocket(socket);
    app.routing(request, response);
  };
  app.server.on('upgrade', upgrade);
  app.addHook('preClose', async () => {
    app.server.off('upgrade', upgrade);
    await sockets.close();
    held.releaseAll();
    await hub.close();
  });
  app.get(`${root}${livePath}`, async (request, reply) => {
    const connecting = upgrades.get(request.raw);
    if (connecting === undefined)
      throw new KoinonError('malformed-request', `${path} takes WebSockets (RFC 6455), which begin with an upgrade.`);
    const { origin, host } = request.headers;
    // Browsers let a page of any origin open one, and say which it is; other programs say nothing.
    if (origin !== undefined && !allowsOrigin(origin, host))
      throw new KoinonError(
        'not-loopback',
        `Pages of ${shown(origin)} may not use this server, unless it names that among its origins.`,
      );
    const { ip } = request;
    sockets.refuseFull(ip);
    reply.hijack();
    reply.raw.detachSocket(connecting.socket);
    sockets.upgrade(request.raw, connecting.socket, connecting.head, { address: ip, take: () => limiter.take(ip) });
    return reply;
  });
}
