import type { OutgoingHttpHeaders } from 'node:http';
import { Readable } from 'node:stream';
import { eventStream, jsonLines, readFeedRequest } from '@koinon/core/internal';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { askAgainAfter, endUnknown, untilExpiry } from '../../auth/authenticate.ts';
import { FeedReader } from '../../realtime/feed-reader.ts';
import { tokenOf } from '../admission.ts';
import type { Service } from '../service.ts';

/** The feed for programs: read once, or followed as server-sent events. */
export function feedRoutes(app: FastifyInstance, root: string, service: Service): void {
  const { store, admission, held } = service;
  app.get(`${root}/feed`, { compress: false }, async (request, reply) => {
    const { 'last-event-id': last } = request.headers;
    const asked = readFeedRequest(request.query);
    const reader = await FeedReader.open(
      store,
      typeof last === 'string' ? { ...asked, after: last } : asked,
      admission.accessOf(admission.userOf(request)),
    );
    if (request.method === 'HEAD') return reply.type(asked.follow === true ? eventStream : jsonLines).send();
    if (asked.follow !== true) return reply.type(jsonLines).send(Readable.from(reader.lines()));
    held.refuseFull();
    reply.hijack();
    reply.raw.writeHead(200, {
      ...(reply.getHeaders() as OutgoingHttpHeaders),
      'content-type': eventStream,
      'cache-control': 'no-cache',
      'x-accel-buffering': 'no',
      connection: 'close',
    });
    await follow(service, reader, request, reply);
    return reply;
  });
}

/** Sends the feed as it grows, for as long as the token is good, the user is known, and the reader is there. */
async function follow(
  { hub, admission, held, userConnections }: Service,
  reader: FeedReader,
  request: FastifyRequest,
  reply: FastifyReply,
): Promise<void> {
  const over = new AbortController();
  const release = () => over.abort();
  held.add(release);
  const user = admission.userOf(request);
  const expiry = setTimeout(release, untilExpiry(user));
  const asking = setInterval(() => void admission.identify(tokenOf(request)).catch(endUnknown(release)), askAgainAfter);
  const leave = userConnections.add(user, release);
  reply.raw.on('close', release);
  await reader.follow(hub, reply.raw, over.signal).catch((err) => request.log.error({ err }, 'the feed ended'));
  clearTimeout(expiry);
  clearInterval(asking);
  leave();
  held.delete(release);
}
