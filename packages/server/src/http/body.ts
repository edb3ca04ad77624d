import type { Socket } from 'node:net';
import { Transform } from 'node:stream';
import { promisify } from 'node:util';
import { gunzip, inflate } from 'node:zlib';
import { KoinonError, limits } from '@koinon/core';
import { shown } from '@koinon/core/internal';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import { networkOf } from './limiter.ts';

/** How much of a body is decompressed whatever its ratio, and how many times its own size beyond that. */
const ratioLimit = { freeBytes: 4 * 1024 * 1024, times: 100 };

/** Levels of arrays and objects in a body: a condition has 128 at most, a JSON value in a change 70. */
const deepest = 160;

/** Values in a push, and in another request: parsing takes time and memory by their number. */
const valuesOf = { push: 2_000_000, question: 100_000 };

/** Milliseconds in which a body that is under way has to come nearer to its end, and the bytes that count as that. */
const progress = { within: 30_000, bytes: 512 };

/** Milliseconds that a server which stops gives to bodies under way. */
const closeGrace = 5_000;

declare module 'fastify' {
  interface FastifyContextConfig {
    /** The body is written as it comes, and takes no room in memory. */
    readonly isStreamed?: boolean;
  }
}

const decompress = { gzip: promisify(gunzip), deflate: promisify(inflate) } as const;

/** Bytes that a value of a parsed body takes in memory, about. */
const bytesOfValue = 64;

/**
 * Reads the bodies of a server's requests: each is decompressed and parsed within bounds that are looked at before time and
 * memory are spent on it. All that are under way share {@link BodyRoom}, until they are answered.
 */
export function readBodies(app: FastifyInstance, room: BodyRoom): void {
  const parseJson = app.getDefaultJsonParser('error', 'error');
  app.addContentTypeParser(
    'application/json',
    { parseAs: 'buffer' },
    async (request: FastifyRequest, given: Buffer) => {
      const bytes = await decompressed(request, given);
      const most = bodyLimitOf(request) > limits.questionBytes ? valuesOf.push : valuesOf.question;
      const values = refuseCostly(bytes, most);
      room.take(request, (bytes === given ? 0 : bytes.byteLength) + values * bytesOfValue);
      return new Promise<unknown>((parsed, failed) => {
        const done = (error: Error | null, body?: unknown) => (error ? failed(error) : parsed(body));
        void parseJson(request, bytes.toString(), done);
      });
    },
  );
  /** Connections on which a body is under way. */
  const coming = new Set<Socket>();
  app.addHook('preClose', async () => {
    setTimeout(() => {
      for (const socket of coming) socket.destroy();
    }, closeGrace).unref();
  });
  app.addHook('preParsing', async (request, reply, payload) => {
    if (!hasBody(request)) return payload;
    endWithoutProgress(request, coming);
    if (request.routeOptions.config.isStreamed) return payload;
    const over = () => {
      reply.raw.off('finish', over).off('close', over);
      room.leave(request);
    };
    reply.raw.on('finish', over).on('close', over);
    const counted = new Transform({
      transform(chunk: Buffer, _, done) {
        try {
          room.take(request, chunk.byteLength);
          done(null, chunk);
        } catch (error) {
          // The rest of the body is not read: the connection ends with the answer.
          reply.header('connection', 'close');
          payload.unpipe(counted);
          done(error as Error);
        }
      },
    });
    payload.once('error', (error) => counted.destroy(error));
    return payload.pipe(counted);
  });
  // A handler may go on after its connection has gone, and an answer may be under way after its handler has ended.
  app.addHook('onRoute', (route) => {
    const { handler } = route;
    route.handler = async function answer(request, reply) {
      room.use(request);
      try {
        return await handler.call(this, request, reply);
      } finally {
        room.leave(request);
      }
    };
  });
}

/** The body of one request, and who needs it: the connection, and the handler. */
interface Held {
  readonly address: string;
  bytes: number;
  users: number;
}

/**
 * The memory for the bodies of all requests that are under way. One address may take half of it, so that no single sender
 * keeps out everybody else.
 */
export class BodyRoom {
  readonly bytes: number;
  readonly #byRequest = new WeakMap<FastifyRequest, Held>();
  readonly #byAddress = new Map<string, number>();
  #taken = 0;

  constructor(bytes: number) {
    this.bytes = bytes;
  }

  /** Counts bytes of a request's body. @throws KoinonError `too-many-requests` where there is no room for them. */
  take(request: FastifyRequest, bytes: number): void {
    const held = this.#byRequest.get(request) ?? { address: networkOf(request.ip), bytes: 0, users: 1 };
    // It has been answered, and nobody reads what still comes of it.
    if (held.users === 0) return;
    const ofAddress = this.#byAddress.get(held.address) ?? 0;
    if (this.#taken + bytes > this.bytes || ofAddress + bytes > this.bytes / 2)
      throw new KoinonError(
        'too-many-requests',
        'The server is busy with other large requests; send this one again in a moment. Nothing of it was done.',
      );
    held.bytes += bytes;
    this.#byRequest.set(request, held);
    this.#byAddress.set(held.address, ofAddress + bytes);
    this.#taken += bytes;
  }

  /** Says that a handler works with the body: it is in memory until that ends, too. */
  use(request: FastifyRequest): void {
    const held = this.#byRequest.get(request);
    if (held !== undefined) held.users++;
  }

  /** Gives the room of a body back when the last one who needs it has left. */
  leave(request: FastifyRequest): void {
    const held = this.#byRequest.get(request);
    if (held === undefined || held.users === 0 || --held.users > 0) return;
    const left = (this.#byAddress.get(held.address) ?? 0) - held.bytes;
    if (left > 0) this.#byAddress.set(held.address, left);
    else this.#byAddress.delete(held.address);
    this.#taken -= held.bytes;
  }
}

/** Bytes that the body of a request may have. */
export const bodyLimitOf = ({ routeOptions }: FastifyRequest): number => routeOptions.bodyLimit ?? limits.questionBytes;

async function decompressed(request: FastifyRequest, given: Buffer): Promise<Buffer> {
  const encoding = request.headers['content-encoding']?.toLowerCase() || 'identity';
  if (encoding === 'identity') return given;
  if (encoding !== 'gzip' && encoding !== 'deflate')
    throw new KoinonError(
      'malformed-request',
      `The server does not read requests compressed by ${shown(encoding)}; it reads gzip and deflate.`,
    );
  const most = bodyLimitOf(request);
  const byRatio = Math.max(ratioLimit.freeBytes, given.byteLength * ratioLimit.times);
  try {
    return await decompress[encoding](given, { maxOutputLength: Math.min(most, byRatio) });
  } catch (cause) {
    if ((cause as { code?: string }).code !== 'ERR_BUFFER_TOO_LARGE')
      throw new KoinonError('malformed-request', `The request is not compressed by ${encoding}, as it says.`, {
        cause,
      });
    throw new KoinonError(
      'too-large',
      byRatio < most
        ? `The request is more than ${ratioLimit.times} times as large as its compressed form; send it as it is.`
        : `The request is larger than ${most} bytes; send it in parts.`,
    );
  }
}

const [quote, backslash, comma] = [0x22, 0x5c, 0x2c];
const opening = new Set([0x5b, 0x7b]);
const closing = new Set([0x5d, 0x7d]);

/** Counts the values of a JSON text, without parsing it. @throws KoinonError `too-large`. */
function refuseCostly(bytes: Buffer, mostValues: number): number {
  let depth = 0;
  let values = 1;
  for (let at = 0; at < bytes.length; at++) {
    const byte = bytes[at] as number;
    if (byte === quote) at = endOfText(bytes, at);
    else if (byte === comma) values++;
    else if (opening.has(byte)) {
      values++;
      if (++depth > deepest)
        throw new KoinonError('too-large', `The request has more than ${deepest} levels of arrays and objects.`);
    } else if (closing.has(byte)) depth--;
    if (values > mostValues)
      throw new KoinonError('too-large', `The request has more than ${mostValues} values; send it in parts.`);
  }
  return values;
}

/** The end of a text: the next quotation mark that no odd number of backslashes stands before. */
function endOfText(bytes: Buffer, from: number): number {
  for (let at = bytes.indexOf(quote, from + 1); at !== -1; at = bytes.indexOf(quote, at + 1)) {
    let escapes = 0;
    while (bytes[at - 1 - escapes] === backslash) escapes++;
    if (escapes % 2 === 0) return at;
  }
  return bytes.length;
}

const hasBody = ({ headers }: FastifyRequest): boolean =>
  headers['content-length'] !== undefined || headers['transfer-encoding'] !== undefined;

/** Ends the connection of a request whose body has stopped coming. */
function endWithoutProgress({ raw }: FastifyRequest, coming: Set<Socket>): void {
  const { socket } = raw;
  coming.add(socket);
  let before = socket.bytesRead;
  const looking = setInterval(() => {
    if (socket.bytesRead - before < progress.bytes) socket.destroy();
    before = socket.bytesRead;
  }, progress.within);
  const stop = () => {
    clearInterval(looking);
    coming.delete(socket);
  };
  raw.once('end', stop);
  raw.once('close', stop);
}
