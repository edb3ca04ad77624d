import compress from '@fastify/compress';
import cors, { type FastifyCorsOptions } from '@fastify/cors';
import { KoinonError, protocolVersion, type Schema } from '@koinon/core';
import { contentStoredHeader, livePath } from '@koinon/core/internal';
import type { FastifyError, FastifyInstance, FastifyRequest } from 'fastify';
import type { User } from '../auth/authenticate.ts';
import { UserConnections } from '../auth/connections.ts';
import { EffectJob } from '../effects/job.ts';
import { Hub } from '../realtime/hub.ts';
import { ruleSet } from '../rules/rules.ts';
import { type ScopeSet, scopeSet } from '../scope/evaluate.ts';
import { RetentionJob } from '../store/retention-job.ts';
import { checkAtStart } from '../store/start-check.ts';
import type { Store } from '../store/store.ts';
import type { TrackingFault } from '../store/tracking.ts';
import { ViewJob } from '../store/view-job.ts';
import { Admission } from './admission.ts';
import { BodyRoom, readBodies } from './body.ts';
import { HeldRequests } from './held-requests.ts';
import type { PluginOptions } from './options.ts';
import { type AllowsOrigin, allowOrigins } from './origins.ts';
import { asKoinonError, sendProblem } from './problems.ts';
import { aboutRoutes } from './routes/about.ts';
import { feedRoutes } from './routes/feed.ts';
import { fileRoutes } from './routes/files.ts';
import { liveRoutes } from './routes/live.ts';
import { pullRoutes } from './routes/pull.ts';
import { pushRoutes } from './routes/push.ts';
import { queryRoutes } from './routes/query.ts';
import { trashRoutes } from './routes/trash.ts';
import { waitRoutes } from './routes/wait.ts';
import type { Service } from './service.ts';
import { WaitingLine } from './waiting-line.ts';

/**
 * The routes of the protocol as a Fastify plugin, to be registered in a service of your own (under a prefix, if you
 * like) or by {@link startServer}. Every error is a problem document (RFC 9457).
 *
 * @example
 * const app = fastify()
 * await app.register(koinonPlugin, { prefix: '/data', store: await sqliteStore(cooperative, 'server.db') })
 */
export async function koinonPlugin<S extends Schema = Schema>(
  app: FastifyInstance,
  options: PluginOptions<S>,
): Promise<void> {
  const {
    store,
    connections = 10_000,
    bodyBytes = 512 * 1024 * 1024,
    userConnections = new UserConnections(),
    origins = [],
    observe = () => undefined,
  } = options;
  const root = `/v${protocolVersion}`;
  const allowsOrigin = allowOrigins(origins);
  await answerPages(app, root, allowsOrigin);
  await app.register(compress, {
    global: true,
    threshold: 2_048,
    encodings: ['gzip', 'deflate'],
    globalDecompression: false,
  });
  readBodies(app, new BodyRoom(bodyBytes));
  const scopes = scopeSet(store.schema as S, options.scopes, (message) => app.log.warn(message));
  if (!scopes.isOpen) await tryScopes(store, scopes, (message) => app.log.error(message));
  const admission = new Admission(app, options, scopes);
  // On a live connection the token comes with the first message.
  const open = ['/about', '/openapi.json', livePath].map((path) => `${app.prefix}${root}${path}`);
  await admission.guard(app, new Set(open));
  const report = ({ table, message, isRepaired }: TrackingFault) => app.log.error({ table, isRepaired }, message);
  if (store.standby !== undefined)
    store.standby.onChange = (fault) =>
      fault === undefined
        ? app.log.warn('The standby can be read again.')
        : app.log.error(`${fault} The database itself answers.`);
  const retention = new RetentionJob(store, options, report);
  const views = new ViewJob(store, report);
  retention.start();
  views.start();
  // Nobody waits for it; a database that cannot be read now says so at the first request.
  void checkAtStart(store, report).catch(() => undefined);
  app.addHook('onClose', async () => {
    await effects.stop();
    await views.stop();
    await retention.stop();
  });
  answerErrors(app, root);
  const rules = ruleSet(options, (err, { table, id }) =>
    app.log.error({ err, table, id }, 'an upload could not be written'),
  );
  for (const name of Object.keys(store.schema.actions))
    if (rules.actions[name] === undefined)
      app.log.warn({ action: name }, 'no function carries out this action: its calls wait on their devices');
  const effects = new EffectJob(store, rules.effects, options, (err, { name, key, attempt }) =>
    app.log.error({ err, effect: name, key, attempt }, 'an effect failed, and is tried again'),
  );
  effects.start();
  const service: Service = {
    store,
    admission,
    scopes,
    rules,
    effects,
    hub: new Hub(store, (rows, replicas) => observe({ what: 'window', rows, replicas })),
    // Live connections find room in the database besides: over them an edit costs least.
    line: new WaitingLine(Math.max(1, Math.floor(store.width * 0.6))),
    held: new HeldRequests(connections),
    retention,
    userConnections,
    observe,
    debug: (of, message) => app.log.debug(of, message),
  };
  aboutRoutes(app, root, service, options.authenticate === undefined);
  pullRoutes(app, root, service);
  pushRoutes(app, root, service);
  trashRoutes(app, root, service);
  queryRoutes(app, root, service, options.queryLimits);
  feedRoutes(app, root, service);
  if (options.files !== undefined) fileRoutes(app, root, service, options.files, options.keepDays);
  waitRoutes(app, root, service);
  liveRoutes(app, root, service, { allowsOrigin, most: connections });
}

/** Lets pages of the origins that are allowed read what they are answered, refusals included: first of all hooks. */
async function answerPages(app: FastifyInstance, root: string, allowsOrigin: AllowsOrigin): Promise<void> {
  app.addHook('onRequest', async ({ headers: { origin, host } }, reply) => {
    // Which requests are taken compressed is said with each answer (RFC 9110); pages see that where they are let.
    reply.header('vary', 'origin').header('accept-encoding', 'gzip, deflate');
    if (origin === undefined || !allowsOrigin(origin, host)) return;
    reply
      .header('access-control-allow-origin', origin)
      .header(
        'access-control-expose-headers',
        `accept-encoding, content-range, ${contentStoredHeader}, location, upload-offset, upload-length`,
      );
  });
  await app.register(async (preflights) => preflights.register(cors, () => preflight(allowsOrigin)), { prefix: root });
}

/** Every error is a problem document. */
function answerErrors(app: FastifyInstance, root: string): void {
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
}

/** Evaluates the scopes for a user who is not there: a mistake in them is told at start, and not by the first device. */
async function tryScopes(store: Store, scopes: ScopeSet, report: (message: string) => void): Promise<void> {
  const nobody: User = { id: 'nobody', claims: {} };
  await store
    .read((reader) => scopes.evaluate(nobody, reader))
    // A scope may well need claims that this user has not got.
    .catch((error: unknown) => error instanceof KoinonError && report(error.message));
}

/** How the requests are answered by which browsers ask whether a page may send its own. */
function preflight(allowsOrigin: AllowsOrigin) {
  return (
    { headers: { origin, host } }: FastifyRequest,
    answer: (error: null, how: FastifyCorsOptions) => void,
  ): void =>
    answer(null, {
      origin: origin !== undefined && allowsOrigin(origin, host) ? origin : false,
      methods: ['GET', 'POST', 'HEAD', 'PATCH', 'DELETE'],
      allowedHeaders: [
        ...['authorization', 'content-encoding', 'content-type', 'last-event-id', 'range'],
        // Of resumable uploads.
        ...[
          'tus-resumable',
          'upload-length',
          'upload-metadata',
          'upload-offset',
          'x-http-method-override',
          'x-request-id',
        ],
      ],
      maxAge: 3_600,
    });
}
