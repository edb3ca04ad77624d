import { promisify } from 'node:util';
import { gunzip, inflate } from 'node:zlib';
import { KoinonError, limits } from '@koinon/core';
import { shown } from '@koinon/core/internal';
import type { FastifyInstance, FastifyRequest } from 'fastify';

/** How much of a body is decompressed whatever its ratio, and how many times its own size beyond that. */
const ratioLimit = { freeBytes: 4 * 1024 * 1024, times: 100 };

/** Levels of arrays and objects in a body: a condition has 128 at most, a JSON value in a change 70. */
const deepest = 160;

/** Values in a push, and in another request: parsing takes time and memory by their number. */
const valuesOf = { push: 2_000_000, question: 100_000 };

/** Milliseconds in which a body that is under way has to come nearer to its end, and the bytes that count as that. */
const progress = { within: 30_000, bytes: 512 };

const decompress = { gzip: promisify(gunzip), deflate: promisify(inflate) } as const;

/**
 * Reads the bodies of a server's requests: each is decompressed and parsed within bounds that are looked at before time and
 * memory are spent on it.
 */
export function readBodies(app: FastifyInstance): void {
  const parseJson = app.getDefaultJsonParser('error', 'error');
  app.addContentTypeParser(
    'application/json',
    { parseAs: 'buffer' },
    async (request: FastifyRequest, given: Buffer) => {
      const bytes = await decompressed(request, given);
      refuseCostly(bytes, bodyLimitOf(request) > limits.questionBytes ? valuesOf.push : valuesOf.question);
      return new Promise<unknown>((parsed, failed) => {
        const done = (error: Error | null, body?: unknown) => (error ? failed(error) : parsed(body));
        void parseJson(request, bytes.toString(), done);
      });
    },
  );
  app.addHook('preParsing', async (request) => endWithoutProgress(request));
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

/** Counts what a JSON text holds, without parsing it. @throws KoinonError `too-large`. */
function refuseCostly(bytes: Buffer, mostValues: number): void {
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
}

/** Where a text ends: at the next quotation mark that no odd number of backslashes stands before. */
function endOfText(bytes: Buffer, from: number): number {
  for (let at = bytes.indexOf(quote, from + 1); at !== -1; at = bytes.indexOf(quote, at + 1)) {
    let escapes = 0;
    while (bytes[at - 1 - escapes] === backslash) escapes++;
    if (escapes % 2 === 0) return at;
  }
  return bytes.length;
}

/** Ends the connection of a request whose body has stopped coming. */
function endWithoutProgress({ raw, headers }: FastifyRequest): void {
  if (headers['content-length'] === undefined && headers['transfer-encoding'] === undefined) return;
  const { socket } = raw;
  let before = socket.bytesRead;
  const looking = setInterval(() => {
    if (socket.bytesRead - before < progress.bytes) socket.destroy();
    before = socket.bytesRead;
  }, progress.within);
  const stop = () => clearInterval(looking);
  raw.once('end', stop);
  raw.once('close', stop);
}
