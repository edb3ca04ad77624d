import { type IncomingMessage, type OutgoingHttpHeaders, ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import { Readable } from 'node:stream';
import { setImmediate } from 'node:timers/promises';
import compress from '@fastify/compress';
import cors, { type FastifyCorsOptions } from '@fastify/cors';
import {
  type About,
  type AppliedResponse,
  KoinonError,
  limits,
  type Outcome,
  type PushResponse,
  protocolVersion,
  type Schema,
  type WaitResponse,
} from '@koinon/core';
import {
  eventStream,
  jsonLines,
  livePath,
  readAppliedRequest,
  readFeedRequest,
  readPullRequest,
  readPushRequest,
  readRestoreRequest,
  readTrashRequest,
  readWaitRequest,
  shown,
} from '@koinon/core/internal';
import type { FastifyError, FastifyInstance, FastifyRequest } from 'fastify';
import { type Authenticate, askAgainAfter, endUnknown, type User, untilExpiry } from '../auth/authenticate.ts';
import { Blocklist } from '../auth/blocklist.ts';
import { UserConnections } from '../auth/connections.ts';
import { identifyBy } from '../auth/identity.ts';
import { Owners } from '../auth/owners.ts';
import { FeedReader } from '../feed/feed.ts';
import { type Access, givenCursor, pull } from '../pull/pull.ts';
import { push } from '../push/push.ts';
import { Hub } from '../realtime/hub.ts';
import { acceptSockets } from '../realtime/upgrade.ts';
import { waitForChange } from '../realtime/wait.ts';
import { type RuleOptions, ruleSet } from '../rules/rules.ts';
import { type ScopeSet, scopeSet } from '../scope/evaluate.ts';
import type { Scopes } from '../scope/scopes.ts';
import { RetentionJob, type RetentionOptions } from '../stores/retention-job.ts';
import type { Store } from '../stores/store.ts';
import { restore, trash } from '../trash/trash.ts';
import { BodyRoom, readBodies } from './body.ts';
import { RequestLimiter } from './limiter.ts';
import { openApi } from './openapi.ts';
import { type AllowsOrigin, allowOrigins, hostnameOf } from './origins.ts';
import { asKoinonError, problemOf, sendProblem } from './problems.ts';

/** What a request, or a live window, has moved. `took` is in milliseconds. */
export type Moved =
  | { readonly what: 'pull'; readonly rows: number; readonly bytes: number; readonly took: number }
  | {
      readonly what: 'push';
      readonly changes: number;
      readonly outcomes: readonly Outcome['outcome'][];
      readonly took: number;
    }
  | { readonly what: 'window'; readonly rows: number; readonly replicas: number };

/** Options of {@link koinonPlugin}. */
export interface PluginOptions<S extends Schema = Schema> extends RetentionOptions, RuleOptions<S> {
  readonly store: Store;
  /** Apps whose schema is older are told to upgrade; they keep working by themselves, and keep what is unsent. */
  readonly minimumSchemaVersion?: number;
  /**
   * Whether a host name that a request was sent to is this server's. A page of another origin may point a name of its own
   * at a server that only this machine or network should reach. Default: any name.
   */
  readonly isOwnHost?: (hostname: string) => boolean;
  /**
   * Origins of pages, and of apps in a web view, that may use this server besides those of its own host: as browsers send
   * them, `https://app.example`, without a path.
   */
  readonly origins?: readonly string[];
  /**
   * Replicas that may be connected at once; as many requests may be held open besides: `wait`, and feeds that are followed.
   * Default 10,000.
   */
  readonly connections?: number;
  /**
   * Bytes that the bodies of all requests under way may take in memory, parsed values included; half of them from one
   * address. A request beyond that is told `too-many-requests`. Default 512 MiB, which one largest push of an address fits.
   */
  readonly bodyBytes?: number;
  /**
   * Whose token a request carries (`Authorization: Bearer …`); {@link jwtAuthentication} makes one. Without it whoever
   * reaches the server may do everything.
   */
  readonly authenticate?: Authenticate;
  /**
   * Which rows and columns each user gets, and what he may write, by table: all tables that the server keeps are named. Without it
   * everybody gets everything. They are tried at start with a user called `nobody`.
   */
  readonly scopes?: Scopes<S>;
  /** Told of what each request and each live window has moved: for logs and measurements. */
  readonly observe?: (moved: Moved) => void;
  /**
   * Requests a minute from one address, over which it is told to wait: of every kind and path, and what is said over live
   * connections. Default 6,000. Of IPv6 the addresses of one /64 network count as one.
   */
  readonly requestsPerMinute?: number;
  /** Replicas that one user may have; those not heard of for `keepDays` do not count. Default 100. */
  readonly replicasPerUser?: number;
  /** Takes in the connections of users, so that they can be ended from outside. {@link startServer} has one of its own. */
  readonly userConnections?: UserConnections;
}

/**
 * The routes of the protocol as a Fastify plugin, to be registered in a service of your own (under a prefix, if you
 * like) or by {@link startServer}. Every error is a problem document (RFC 9457).
 */
export async function koinonPlugin<S extends Schema = Schema>(
  app: FastifyInstance,
  {
    store,
    minimumSchemaVersion = 1,
    requestsPerMinute = 6_000,
    replicasPerUser = 100,
    userConnections = new UserConnections(),
    connections = 10_000,
    bodyBytes = 512 * 1024 * 1024,
    isOwnHost = () => true,
    origins = [],
    observe = () => undefined,
    authenticate,
    scopes: given,
    rules,
    ruleTimeLimit,
    ...retentionOptions
  }: PluginOptions<S>,
): Promise<void> {
  const root = `/v${protocolVersion}`;
  const allowsOrigin = allowOrigins(origins);
  // First of all, so that a page can read what it is refused with.
  app.addHook('onRequest', async ({ headers: { origin, host } }, reply) => {
    // Which requests are taken compressed is said with each answer (RFC 9110); pages see that where they are let.
    reply.header('vary', 'origin').header('accept-encoding', 'gzip, deflate');
    if (origin === undefined || !allowsOrigin(origin, host)) return;
    reply.header('access-control-allow-origin', origin).header('access-control-expose-headers', 'accept-encoding');
  });
  await app.register(async (preflights) => preflights.register(cors, () => preflight(allowsOrigin)), { prefix: root });
  await app.register(compress, {
    global: true,
    threshold: 2_048,
    encodings: ['gzip', 'deflate'],
    globalDecompression: false,
  });
  readBodies(app, new BodyRoom(bodyBytes));
  const limiter = new RequestLimiter(requestsPerMinute, (address) =>
    app.log.warn({ address, requestsPerMinute }, 'an address sends too many requests'),
  );
  // Before anything is done for a request: who asks is told by a token, and tokens can be guessed.
  app.addHook('onRequest', async ({ ip }, reply) => {
    try {
      limiter.take(ip);
    } catch (error) {
      reply.header('retry-after', limiter.secondsLeft(ip));
      throw error;
    }
  });
  const retention = new RetentionJob(store, retentionOptions, ({ table, message, isRepaired }) =>
    app.log.error({ table, isRepaired }, message),
  );
  retention.start();
  app.addHook('onClose', () => retention.stop());
  const ruled = ruleSet({ ...(rules && { rules }), ...(ruleTimeLimit && { ruleTimeLimit }) }, (err, { table, id }) =>
    app.log.error({ err, table, id }, 'an upload could not be written'),
  );
  const blocklist = new Blocklist(store);
  await blocklist.start();
  app.addHook('onClose', async () => blocklist.stop());
  const owners = new Owners(store, replicasPerUser);
  const scopes = scopeSet(store.schema as S, given, (message) => app.log.warn(message));
  if (!scopes.isOpen) await tryScopes(store, scopes, (message) => app.log.error(message));
  const accessOf = (user: User | undefined): Access => ({ scopes, user });
  const users = new WeakMap<object, User>();
  const identify = identifyBy(authenticate, (reason) => app.log.info({ reason }, 'a token was refused'));
  const meet = async (replica: string | undefined, user: User | undefined): Promise<void> => {
    if (replica !== undefined && user !== undefined) await owners.check(replica, user);
    if (replica !== undefined) blocklist.refuse(replica);
  };
  const admitted = <R extends { readonly schemaVersion?: number }>(request: R): R => {
    const { schemaVersion = 1 } = request;
    if (schemaVersion >= minimumSchemaVersion) return request;
    throw new KoinonError(
      'upgrade-needed',
      `This app has schema version ${schemaVersion}; the server takes ${minimumSchemaVersion} and newer. Update the app; what is unsent is kept.`,
      { value: schemaVersion },
    );
  };
  app.addHook('onRequest', async (request) => {
    // As it was sent: a proxy's word for it can be anybody's.
    const hostname = hostnameOf(request.headers.host);
    if (!isOwnHost(hostname ?? ''))
      throw new KoinonError(
        'not-loopback',
        `This server answers requests to this machine only, not to ${shown(request.headers.host)}.`,
      );
  });
  // Anybody may know which server this is, and how it is asked. On a live connection the token comes with the first message.
  const open = new Set(['/about', '/openapi.json', livePath].map((path) => `${app.prefix}${root}${path}`));
  app.addHook('onRequest', async (request) => {
    if (open.has(request.routeOptions.url ?? '') || authenticate === undefined) return;
    users.set(request, (await identify(tokenOf(request))) as User);
  });
  const hub = new Hub(store, (rows, replicas) => observe({ what: 'window', rows, replicas }));
  const sockets = acceptSockets(
    {
      store,
      hub,
      problem: (error) => problemOf(asKoinonError(error as Error as FastifyError)),
      async admit(request) {
        const user = await identify(request.token);
        await meet(admitted(request).replica, user);
        return accessOf(user);
      },
      identify,
      userConnections,
      blocklist,
      push: async (body, token) => takePush(body, await identify(token)),
    },
    connections,
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
    // Through the same hooks as every request.
    const response = new ServerResponse(request);
    response.shouldKeepAlive = false;
    response.on('finish', () => socket.end());
    response.assignSocket(socket);
    app.routing(request, response);
  };
  app.server.on('upgrade', upgrade);
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
  app.addHook('preClose', async () => {
    app.server.off('upgrade', upgrade);
    await sockets.close();
    for (const release of [...held]) release();
    await hub.close();
  });
  /** Ends the long requests that are held open: those that wait, and feeds that are followed. */
  const held = new Set<() => void>();
  const refuseFull = () => {
    if (held.size >= connections)
      throw new KoinonError('too-many-requests', `${connections} requests are held open already; pull instead.`);
  };
  const moved = () => {
    hub.wake();
    store.announce();
  };
  app.setErrorHandler((error: FastifyError | KoinonError, request, reply) => {
    const known = asKoinonError(error, request);
    if (known.status >= 500) request.log.error({ err: error }, 'a request failed');
    return sendProblem(reply, known);
  });
  app.setNotFoundHandler((request, reply) =>
    sendProblem(
      reply,
      new KoinonError('not-found', `There is no ${request.method} ${request.url}; see ${root}/about.`),
    ),
  );

  app.get(`${root}/about`, async (): Promise<About> => {
    const { feed, schema } = store;
    // How much is written here is not for everybody to know.
    const position = authenticate ? null : store.ordinal(await store.read((reader) => reader.position()));
    return {
      server: 'koinon',
      protocol: protocolVersion,
      feed,
      schemaVersion: schema.version,
      tables: Object.keys(schema.tables),
      position,
    };
  });

  app.get(`${root}/openapi.json`, async () => openApi);

  app.post(`${root}/pull`, { bodyLimit: limits.questionBytes }, async (request, reply) => {
    const asked = admitted(readPullRequest(request.body));
    await meet(asked.replica, users.get(request));
    const began = performance.now();
    const { header, rows } = await pull(store, asked, accessOf(users.get(request)));
    const { replica, schemaVersion = null } = asked;
    if (replica !== undefined)
      retention.met({ replica, schemaVersion, position: header.to, rowsDown: rows.length, rowsUp: 0 });
    const lines = [header, ...rows].map((line) => `${JSON.stringify(line)}\n`).join('');
    observe({ what: 'pull', rows: rows.length, bytes: lines.length, took: performance.now() - began });
    return reply.type(jsonLines).send(lines);
  });

  app.get(`${root}/trash`, async (request) =>
    trash(store, readTrashRequest(request.query), accessOf(users.get(request))),
  );

  app.post(`${root}/restore`, { bodyLimit: limits.questionBytes }, async (request, reply) => {
    const user = users.get(request);
    await restore(store, readRestoreRequest(request.body), { ...ruled, user }, accessOf(user));
    moved();
    return reply.status(204).send();
  });

  app.get(`${root}/feed`, { compress: false }, async (request, reply) => {
    const { 'last-event-id': last } = request.headers;
    const asked = readFeedRequest(request.query);
    const reader = await FeedReader.open(
      store,
      typeof last === 'string' ? { ...asked, after: last } : asked,
      accessOf(users.get(request)),
    );
    if (request.method === 'HEAD') return reply.type(asked.follow === true ? eventStream : jsonLines).send();
    if (asked.follow !== true) return reply.type(jsonLines).send(Readable.from(reader.lines()));
    refuseFull();
    reply.hijack();
    reply.raw.writeHead(200, {
      ...(reply.getHeaders() as OutgoingHttpHeaders),
      'content-type': eventStream,
      'cache-control': 'no-cache',
      'x-accel-buffering': 'no',
      connection: 'close',
    });
    const over = new AbortController();
    const release = () => over.abort();
    held.add(release);
    const user = users.get(request);
    // It lasts as long as the token that it was asked for with, and as the user is known.
    const expiry = setTimeout(release, untilExpiry(user));
    const asking = setInterval(() => void identify(tokenOf(request)).catch(endUnknown(release)), askAgainAfter);
    const leave = userConnections.add(user, release);
    reply.raw.on('close', release);
    await reader.follow(hub, reply.raw, over.signal).catch((err) => request.log.error({ err }, 'the feed ended'));
    clearTimeout(expiry);
    clearInterval(asking);
    leave();
    held.delete(release);
    return reply;
  });

  app.post(`${root}/wait`, { bodyLimit: limits.questionBytes }, async (request): Promise<WaitResponse> => {
    const asked = admitted(readWaitRequest(request.body));
    await meet(asked.replica, users.get(request));
    const { cursor: token, only, replica } = asked;
    const access = accessOf(users.get(request));
    refuseFull();
    return {
      moved: await waitForChange(
        hub,
        { cursor: await givenCursor(store, token, access.user), token, access, asked: only, replica },
        held,
      ),
    };
  });

  const takePush = async (body: unknown, user: User | undefined): Promise<PushResponse> => {
    const asked = admitted(readPushRequest(body));
    await meet(asked.replica, user);
    const began = performance.now();
    const answer = await push(store, asked, { ...ruled, user }, scopes);
    moved();
    const { outcomes } = answer;
    const changes = asked.transactions.reduce((sum, each) => sum + each.changes.length, 0);
    observe({
      what: 'push',
      changes,
      outcomes: outcomes.map(({ outcome }) => outcome),
      took: performance.now() - began,
    });
    const { replica, schemaVersion = null, transactions } = asked;
    const rowsUp = transactions.reduce((sum, { changes }) => sum + changes.length, 0);
    retention.met({ replica, schemaVersion, position: null, rowsDown: 0, rowsUp });
    // Those who follow are told first: whoever sent something has it on the screen already.
    await setImmediate();
    return answer;
  };

  app.post(`${root}/applied`, { bodyLimit: limits.questionBytes }, async (request): Promise<AppliedResponse> => {
    const { replica, origins } = readAppliedRequest(request.body);
    await meet(replica, users.get(request));
    return { receipts: await store.read((reader) => reader.appliedOrigins(replica, origins)) };
  });

  app.post(`${root}/push`, { bodyLimit: limits.requestBytes }, async (request) =>
    takePush(request.body, users.get(request)),
  );
}

/** Evaluates the scopes for a user who is not there: a mistake in them is told at start, and not by the first device. */
async function tryScopes(store: Store, scopes: ScopeSet, report: (message: string) => void): Promise<void> {
  const nobody: User = { id: 'nobody', claims: {} };
  await store
    .read((reader) => scopes.evaluate(nobody, reader))
    // A scope may well need claims that this user has not got.
    .catch((error: unknown) => error instanceof KoinonError && report(error.message));
}

const tokenOf = ({ headers }: FastifyRequest): string | undefined =>
  /^Bearer +(\S+)$/i.exec(headers.authorization ?? '')?.[1];

/** How the requests are answered by which browsers ask whether a page may send its own. */
function preflight(allowsOrigin: AllowsOrigin) {
  return (
    { headers: { origin, host } }: FastifyRequest,
    answer: (error: null, how: FastifyCorsOptions) => void,
  ): void =>
    answer(null, {
      origin: origin !== undefined && allowsOrigin(origin, host) ? origin : false,
      methods: ['GET', 'POST'],
      allowedHeaders: ['authorization', 'content-encoding', 'content-type', 'last-event-id'],
      maxAge: 3_600,
    });
}
