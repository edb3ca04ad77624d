import { AsyncLocalStorage } from 'node:async_hooks';
import { createHash, randomUUID } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { readdir, rm, stat } from 'node:fs/promises';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import type { FileAsked, FileValue } from '@koinon/core';
import { contentStoredHeader, readFileAsked } from '@koinon/core/internal';
import { FileStore } from '@tus/file-store';
import { Server } from '@tus/server';
import type { User } from '../auth/authenticate.ts';
import { type Rights, writableFile } from './access.ts';
import type { FileStorage } from './storage.ts';

// Uploads that go on after a cut, by the open protocol tus 1.0 (https://tus.io/protocols/resumable-upload).

/** Milliseconds that an upload may rest before it is given up; and before it makes room for another one of its user. */
const mostRest = 7 * 86_400_000;
const restForOthers = 60_000;

/** Uploads that one user may have under way. */
const mostUploads = 100;

/** The uploads of one server. */
export class Uploads {
  private readonly rights: Rights;
  private readonly storage: FileStorage;
  private readonly tus: Server;
  private readonly stored: (bytes: number) => void;
  private readonly asking = new AsyncLocalStorage<User | undefined>();

  /**
   * @param path of the uploads, as requests name it.
   * @param tell `stored` is told of each content that was stored, and `failed` of requests that failed by no fault of their sender.
   */
  constructor(
    rights: Rights,
    storage: FileStorage,
    path: string,
    tell: { readonly stored: (bytes: number) => void; readonly failed: (error: unknown) => void },
  ) {
    this.rights = rights;
    this.storage = storage;
    this.stored = tell.stored;
    this.tus = new Server({
      path,
      datastore: new FileStore({ directory: storage.uploads }),
      // Behind a proxy the server does not know its own address.
      relativeLocation: true,
      // Which pages may ask is decided before.
      allowedOrigins: () => false,
      // An id begins with its user and its place, so that those of one user are found by their names.
      namingFunction: (_request, metadata) =>
        `${shortDigest(this.userId)}-${shortDigest(JSON.stringify(placeIn(metadata) ?? null))}-${randomUUID()}`,
      onUploadCreate: async (_request, { id, size, metadata }) => {
        const asked = placeIn(metadata);
        const value = asked && (await writableFile(this.rights, this.user, asked));
        if (asked === undefined || value === undefined) throw noSuchFile;
        if (size !== value.bytes) throw refused(422, 'file-differs', 'The size is not that of the file in the row.');
        await this.makeRoom(id);
        return { metadata: { ...asked, user: this.userId } };
      },
      onIncomingRequest: async (request, id) => {
        if (request.method === 'POST') return;
        const { metadata } = await this.tus.datastore.getUpload(id);
        // The address of an upload is known to nobody but who began it.
        if (metadata?.user !== this.userId) throw noSuchFile;
      },
      onUploadFinish: async (_request, { id, metadata }) => {
        await this.finish(id, metadata ?? {});
        return { headers: { [contentStoredHeader]: 'true' } };
      },
      onResponseError(_request, error) {
        if ('status_code' in error) return undefined;
        tell.failed(error);
        // The words of the system name folders of the server.
        return (error as { code?: string }).code === 'ENOSPC' ? noRoom : failure;
      },
    });
  }

  /** Answers a request of the protocol on behalf of a user. */
  answer(user: User | undefined, request: IncomingMessage, response: ServerResponse): Promise<void> {
    return this.asking.run(user, async () => void (await this.tus.handle(request, response)));
  }

  /** Gives up what has rested for too long. */
  async tidy(now: number): Promise<void> {
    for (const { id, rest } of await this.found('', now)) if (rest >= mostRest) await this.remove(id);
  }

  private get user(): User | undefined {
    return this.asking.getStore();
  }

  private get userId(): string {
    return this.user?.id ?? '';
  }

  /** Looks at what has come, and stores it. A content that does not fit is thrown away, and sent again from the start. */
  private async finish(id: string, metadata: Readonly<Record<string, string | null>>): Promise<void> {
    const path = join(this.storage.uploads, id);
    const asked = placeIn(metadata);
    const value = asked && (await writableFile(this.rights, this.user, asked));
    const fault = asked === undefined || value === undefined ? noSuchFile : await faultOf(path, value);
    if (fault === undefined && asked !== undefined && value !== undefined) {
      const { sha256, bytes } = value;
      await this.storage.put({ place: asked, sha256, bytes, storedAt: Date.now() }, path);
      this.stored(bytes);
      await rm(`${path}.json`, { force: true });
      return;
    }
    await this.remove(id);
    throw fault;
  }

  /** Nobody may fill the disk with beginnings: those of this user go that have rested, and then there are no more than so many. */
  private async makeRoom(id: string): Promise<void> {
    const [user = '', place = ''] = id.split('-');
    const own = (await this.found(`${user}-`, Date.now())).filter((upload) => upload.id !== id);
    const rested = own.filter(({ rest }) => rest > restForOthers).sort((a, b) => b.rest - a.rest);
    const isOfPlace = (upload: { readonly id: string }) => upload.id.startsWith(`${user}-${place}-`);
    const excess = Math.max(own.length - mostUploads + 1, 0);
    const going = [...rested.filter(isOfPlace), ...rested.filter((upload) => !isOfPlace(upload)).slice(0, excess)];
    for (const upload of going) await this.remove(upload.id);
    if (own.length - going.length >= mostUploads)
      throw refused(429, 'too-many-requests', `${mostUploads} uploads of this user are under way; end one first.`);
  }

  /** The uploads whose ids begin so, and for how many milliseconds nothing has come of each. */
  private async found(start: string, now: number): Promise<{ readonly id: string; readonly rest: number }[]> {
    const names = (await readdir(this.storage.uploads)).filter((name) => name.startsWith(start));
    const uploads: { readonly id: string; readonly rest: number }[] = [];
    for (const id of new Set(names.map((name) => name.replace(/\.json$/, '')))) {
      // A beginning without content has its note alone.
      const there = await stat(join(this.storage.uploads, id))
        .catch(() => stat(join(this.storage.uploads, `${id}.json`)))
        .catch(() => undefined);
      if (there !== undefined) uploads.push({ id, rest: now - there.mtimeMs });
    }
    return uploads;
  }

  private async remove(id: string): Promise<void> {
    for (const ending of ['.json', '']) await rm(join(this.storage.uploads, `${id}${ending}`), { force: true });
  }
}

/** The answer about a file that is not there, or not for this user. */
const noSuchFile = refused(404, 'no-such-file', 'There is no such file.');

const noRoom = refused(
  507,
  'storage-full',
  'The server has no room for the content now; nothing is lost, send it again later.',
);

const failure = refused(
  500,
  'internal-failure',
  'The server could not take the content; nothing is lost, send it again later.',
);

/** A name for the user or the place of an upload. */
const shortDigest = (text: string) => createHash('sha256').update(text).digest('hex').slice(0, 12);

/** An error as the protocol's package carries it. */
function refused(status: number, code: string, detail: string) {
  const problem = { type: `urn:koinon:problem:${code}`, title: code.replaceAll('-', ' '), status, code, detail };
  return { status_code: status, body: JSON.stringify(problem) };
}

/** The row and column that an upload is for. */
function placeIn(metadata: Readonly<Record<string, string | null>> | undefined): FileAsked | undefined {
  const { id, table, row, column } = metadata ?? {};
  try {
    return readFileAsked({ id, table, row, column });
  } catch {
    return undefined;
  }
}

/** The fault of content that has come; undefined where it is what its row says. */
async function faultOf(path: string, { sha256, bytes, type }: FileValue) {
  const hash = createHash('sha256');
  let [size, head] = [0, Buffer.alloc(0)];
  await pipeline(createReadStream(path), async (chunks: AsyncIterable<Buffer>) => {
    for await (const chunk of chunks) {
      if (head.length < longestHead) head = Buffer.concat([head, chunk.subarray(0, longestHead - head.length)]);
      size += chunk.byteLength;
      hash.update(chunk);
    }
  });
  if (size !== bytes || hash.digest('hex') !== sha256)
    return refused(422, 'file-differs', 'The content is not the one that the row describes; send it again.');
  return isOfKind(head, type) ? undefined : refused(422, 'file-type', `The content is not of the type ${type}.`);
}

/** Bytes at the beginning of a content that tell its kind. */
const longestHead = 16;

/** The beginnings of contents, by media type: what calls itself one of these has to begin so (the formats' own specifications). */
const beginnings: Readonly<Record<string, (head: Buffer) => boolean>> = {
  'image/jpeg': (head) => head.subarray(0, 3).equals(Buffer.from([0xff, 0xd8, 0xff])),
  'image/png': (head) => head.subarray(0, 8).equals(Buffer.from('\x89PNG\r\n\x1a\n', 'latin1')),
  'image/gif': (head) => /^GIF8[79]a/.test(head.toString('latin1')),
  'image/webp': (head) => /^RIFF....WEBP/s.test(head.toString('latin1')),
  'application/pdf': (head) => head.toString('latin1').startsWith('%PDF-'),
};

function isOfKind(head: Buffer, type: string): boolean {
  return beginnings[type]?.(head) ?? true;
}
