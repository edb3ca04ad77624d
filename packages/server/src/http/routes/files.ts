import type { ServerResponse } from 'node:http';
import { type FileAsked, type FileValue, KoinonError, limits } from '@koinon/core';
import { filesPath, readFileAsked, readFileStatesRequest, uploadsPath } from '@koinon/core/internal';
import type { FastifyInstance, FastifyReply } from 'fastify';
import type { User } from '../../auth/authenticate.ts';
import { type Rights, readableFile, readableFiles } from '../../files/access.ts';
import { announceStored, onStored } from '../../files/arrivals.ts';
import { FileJob } from '../../files/job.ts';
import type { ByteRange, FileStorage, StoredFile } from '../../files/storage.ts';
import { Uploads } from '../../files/uploads.ts';
import type { Service } from '../service.ts';

/** The contents of files: reading them, asking where they are, and sending them. */
export function fileRoutes(
  app: FastifyInstance,
  root: string,
  service: Service,
  storage: FileStorage,
  keepDays = 90,
): void {
  const { store, admission, scopes, rules, hub, observe } = service;
  const rights: Rights = { store, scopes, rules };
  const uploads = new Uploads(rights, storage, `${app.prefix}${root}${uploadsPath}`, {
    stored(bytes) {
      observe({ what: 'content', way: 'up', bytes });
      announceStored(storage);
    },
    failed: (err) => app.log.error({ err }, 'an upload failed'),
  });
  const job = new FileJob({ store, storage, uploads }, keepDays, (err) =>
    app.log.error({ err }, 'contents that no row holds could not be looked through'),
  );
  job.start();
  const stopHearing = onStored(storage, () => hub.contentStored());
  app.addHook('onClose', async () => {
    stopHearing();
    await job.stop();
  });

  app.get<{ Params: { id: string }; Querystring: Readonly<Record<string, unknown>> }>(
    `${root}${filesPath}/:id`,
    // Pictures do not get smaller, and a part of a content is a part of its own bytes.
    { compress: false },
    async (request, reply) => {
      const asked = readFileAsked({ ...request.query, id: request.params.id });
      const user = admission.userOf(request);
      const value = await readableFile(rights, user, asked);
      if (value === undefined) throw noSuchFile();
      const [stored] = await storedOf(rights, storage, user, [asked], [value]);
      if (stored === undefined)
        throw new KoinonError(
          'file-awaited',
          'The content of the file has not come yet: its device has yet to send it.',
        );
      observe({ what: 'content', way: 'down', bytes: stored.bytes });
      return send(reply, storage, stored, value, request.headers.range);
    },
  );

  app.post(`${root}${filesPath}/states`, { bodyLimit: limits.questionBytes }, async (request) => {
    const { files } = readFileStatesRequest(request.body);
    const user = admission.userOf(request);
    const values = await readableFiles(rights, user, files);
    const stored = await storedOf(rights, storage, user, files, values);
    const states = values.map((value, n) => (value === undefined ? 'unknown' : stored[n] ? 'stored' : 'awaited'));
    return { states };
  });

  // The body of an upload is written as it comes, and is not in memory.
  app.addContentTypeParser('application/offset+octet-stream', (_request, payload, done) => done(null, payload));
  app.route({
    method: ['POST', 'HEAD', 'PATCH', 'DELETE'],
    url: `${root}${uploadsPath}*`,
    config: { isStreamed: true },
    async handler(request, reply) {
      const user = admission.userOf(request);
      reply.hijack();
      copyHeaders(reply, reply.raw);
      await uploads.answer(user, request.raw, reply.raw);
    },
  });
}

/** Files that are looked for in the storage at once: one that is not on this machine answers slowly. */
const findsAtOnce = 16;

const noSuchFile = () => new KoinonError('no-such-file', 'There is no such file, or not for this user.');

/**
 * The contents of files: of each the one that was sent for this row, or for another one with the same file that the user may read as well, since
 * rows are copied.
 */
async function storedOf(
  rights: Rights,
  storage: FileStorage,
  user: User | undefined,
  asked: readonly FileAsked[],
  values: readonly (FileValue | undefined)[],
): Promise<readonly (StoredFile | undefined)[]> {
  const found: (readonly StoredFile[])[] = [];
  const ofOne = async (value: FileValue | undefined) => {
    const all = value === undefined ? [] : await storage.find(value.id);
    return all.filter((file) => file.sha256 === value?.sha256 && file.bytes === value.bytes);
  };
  for (let from = 0; from < values.length; from += findsAtOnce)
    found.push(...(await Promise.all(values.slice(from, from + findsAtOnce).map(ofOne))));
  const own = found.map((files, n) => files.find(({ place }) => isSamePlace(place, asked[n] as FileAsked)));
  const others = found.flatMap((files, n) => (own[n] === undefined ? files : []));
  const readable =
    others.length === 0
      ? []
      : await readableFiles(
          rights,
          user,
          others.map(({ place }) => place),
        );
  const shared = new Set(others.filter((_, n) => readable[n] !== undefined));
  return found.map((files, n) => own[n] ?? files.find((file) => shared.has(file)));
}

const isSamePlace = (a: FileAsked, b: FileAsked) => a.table === b.table && a.row === b.row && a.column === b.column;

/** Sends a content, or the part of it that is asked for (RFC 9110, 14). A browser never runs it. */
async function send(
  reply: FastifyReply,
  storage: FileStorage,
  file: StoredFile,
  { type, name }: FileValue,
  range: string | undefined,
): Promise<FastifyReply> {
  const { bytes, sha256 } = file;
  reply
    .type(type)
    .header('content-disposition', `attachment${name === undefined ? '' : `; filename*=UTF-8''${extended(name)}`}`)
    .header('x-content-type-options', 'nosniff')
    .header('content-security-policy', "default-src 'none'; sandbox")
    .header('cross-origin-resource-policy', 'cross-origin')
    .header('cache-control', 'private, no-cache')
    .header('accept-ranges', 'bytes')
    .header('etag', `"${sha256}"`);
  const part = range === undefined ? undefined : partOf(range, bytes);
  if (part === 'beyond') return reply.status(416).header('content-range', `bytes */${bytes}`).send();
  if (part === undefined) return reply.header('content-length', bytes).send(await storage.read(file));
  return reply
    .status(206)
    .header('content-range', `bytes ${part.start}-${part.end}/${bytes}`)
    .header('content-length', part.end - part.start + 1)
    .send(await storage.read(file, part));
}

/** The one range that is asked for; undefined where none is, or several. */
function partOf(header: string, bytes: number): ByteRange | 'beyond' | undefined {
  const [, from, to] = /^bytes=(\d+)-(\d*)$/.exec(header) ?? [];
  if (from === undefined) return undefined;
  const start = Number(from);
  const end = Math.min(to ? Number(to) : bytes - 1, bytes - 1);
  return start >= bytes || end < start ? 'beyond' : { start, end };
}

/** A name as a header carries it (RFC 8187). */
function extended(name: string): string {
  return encodeURIComponent(name).replace(/['()*]/g, (sign) => `%${sign.charCodeAt(0).toString(16).toUpperCase()}`);
}

/** The headers that hooks have set: whoever answers by himself has to send them as well. */
function copyHeaders(reply: FastifyReply, raw: ServerResponse): void {
  for (const [name, value] of Object.entries(reply.getHeaders())) if (value !== undefined) raw.setHeader(name, value);
}
