import { type FileAsked, type FileStatesResponse, KoinonError } from '@koinon/core';
import { checkFileStatesResponse, contentStoredHeader, filesPath, uploadsPath } from '@koinon/core/internal';
import { Upload } from 'tus-js-client';
import { systemHost } from '../host/host.ts';
import type { TokenSource } from '../sync/transport.ts';
import { cancelled } from './faults.ts';
import { chunksOf } from './source.ts';

/** Bytes that are read of a content at once, and sent in one request. */
const pieceBytes = 4 * 1024 * 1024;

/** Milliseconds without an answer, or without a byte, after which a connection counts as cut. */
const patience = 60_000;

/** Bytes of a content that a server is thought to look through in a millisecond before it answers to the last of them. */
const lookedThrough = 10_000;

/** How a server is reached. */
export interface FileServer {
  /** Its address, such as `http://127.0.0.1:4280`. */
  readonly url: string;
  readonly token?: TokenSource | undefined;
  /** Ends whatever is under way. */
  readonly closed: AbortSignal;
}

/** Told of an upload that is under way. */
export interface UploadEvents {
  /** The address at which it can go on. */
  begun(url: string): void;
  sent(bytes: number): void;
  readonly signal: AbortSignal;
}

/** Asks where the contents of files are. */
export async function fileStates(
  server: FileServer,
  files: readonly FileAsked[],
  signal?: AbortSignal,
): Promise<FileStatesResponse['states']> {
  const { response, silence } = await asked(server, `${filesPath}/states`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ files }),
    ...(signal && { signal }),
  });
  const answer: unknown = await response.json().catch(() => undefined);
  silence.end();
  const { states } = checkFileStatesResponse(answer);
  if (states.length === files.length) return states;
  throw new KoinonError('server-answer', 'The server answered a question about files with another number of states.');
}

/** The content of a file from a byte on. */
export async function fileContent(
  server: FileServer,
  { id, table, row, column }: FileAsked,
  from: number,
  signal?: AbortSignal,
): Promise<{ readonly start: number; readonly body: AsyncIterable<Uint8Array> }> {
  const query = new URLSearchParams({ table, row, column });
  const { response, silence } = await asked(server, `${filesPath}/${id}?${query}`, {
    // A proxy that compresses would only cost time; a browser decides about this by itself.
    headers: { 'accept-encoding': 'identity', ...(from === 0 ? {} : { range: `bytes=${from}-` }) },
    ...(signal && { signal }),
  });
  const start = Number(/^bytes (\d+)-/.exec(response.headers.get('content-range') ?? '')?.[1] ?? 0);
  if (response.body === null || (start !== 0 && start !== from)) {
    silence.end();
    throw new KoinonError('server-answer', 'The server sent another part of a file than the one that was asked for.');
  }
  return { start, body: heard(response.body, silence) };
}

/** Waits for signs of life. */
interface Silence {
  /** There was one. */
  heard(): void;
  /** None is waited for any more. */
  end(): void;
}

/** Calls once there has been no sign of life for so many milliseconds. */
function onSilence(milliseconds: number, act: () => void): Silence {
  let end = systemHost.after(milliseconds, act);
  return {
    heard() {
      end();
      end = systemHost.after(milliseconds, act);
    },
    end: () => end(),
  };
}

async function* heard(body: ReadableStream<Uint8Array>, silence: Silence): AsyncGenerator<Uint8Array> {
  try {
    for await (const chunk of chunksOf(body)) {
      silence.heard();
      yield chunk;
    }
  } finally {
    silence.end();
  }
}

async function asked(
  server: FileServer,
  path: string,
  request: RequestInit,
): Promise<{ readonly response: Response; readonly silence: Silence }> {
  const token = await server.token?.();
  const headers = { ...request.headers, ...(token === undefined ? {} : { authorization: `Bearer ${token}` }) };
  // An answer that never comes would hold up everything else.
  const cut = new AbortController();
  const silence = onSilence(patience, () => cut.abort());
  const signal = AbortSignal.any([server.closed, cut.signal, ...(request.signal ? [request.signal] : [])]);
  const url = `${server.url.replace(/\/+$/, '')}/v1${path}`;
  let response: Response;
  try {
    response = await fetch(url, { ...request, headers, signal, redirect: 'manual' });
  } catch (cause) {
    silence.end();
    if (request.signal?.aborted || server.closed.aborted) throw cancelled(cause);
    throw unreachable(server, cause);
  }
  if (response.ok) return { response, silence };
  const problem = (await response.json().catch(() => undefined)) as { code?: string; detail?: string } | undefined;
  silence.end();
  if (response.status === 404 && problem?.code === 'file-awaited')
    throw new KoinonError('file-awaited', problem.detail ?? 'The content of the file has not come yet.');
  if (response.status === 404) throw problem?.code === 'not-found' ? notKept(server) : noSuchFile();
  if (response.status === 401)
    throw new KoinonError('not-authenticated', 'Nobody is signed in; the file waits, and nothing is lost.');
  throw new KoinonError('server-answer', `The server answered ${response.status} to a request for a file.`);
}

/** Sends a content, or goes on with it. Tells whether the server has said that it is stored. @throws KoinonError `no-such-file` where the server has no such row yet, or the user may not write it. */
export function sendContent(
  server: FileServer,
  { id, table, row, column }: FileAsked,
  content: Blob,
  uploadUrl: string | undefined,
  { begun, sent, signal }: UploadEvents,
): Promise<boolean> {
  return new Promise<boolean>((done, failed) => {
    let isStored = false;
    const silence = onSilence(patience + content.size / lookedThrough, () =>
      stop(unreachable(server, new Error('Nothing was heard for a while'))),
    );
    const stop = (fault: KoinonError) => {
      silence.end();
      void upload.abort().then(() => failed(fault));
    };
    const upload = new Upload(content, {
      endpoint: `${server.url.replace(/\/+$/, '')}/v1${uploadsPath}`,
      ...(uploadUrl === undefined ? {} : { uploadUrl }),
      uploadSize: content.size,
      chunkSize: pieceBytes,
      // It is tried again by the outbox of files, which knows when.
      retryDelays: [],
      storeFingerprintForResuming: false,
      metadata: { id, table, row, column },
      fileReader: { openFile: async () => pieces(content) },
      async onBeforeRequest(request) {
        const token = await server.token?.();
        if (token !== undefined) request.setHeader('Authorization', `Bearer ${token}`);
      },
      // One that goes in a single request has nowhere to go on.
      onUploadUrlAvailable: () => content.size > pieceBytes && upload.url && begun(upload.url),
      onAfterResponse(_request, response) {
        isStored = response.getHeader(contentStoredHeader) === 'true';
      },
      onProgress(bytes) {
        silence.heard();
        sent(bytes);
      },
      onSuccess() {
        silence.end();
        done(isStored);
      },
      onError(error) {
        silence.end();
        const response = 'originalResponse' in error ? error.originalResponse : null;
        const status = response?.getStatus();
        const code = codeIn(response?.getBody());
        if (status === 404 && code === 'not-found') failed(notKept(server));
        else if (status === 404 || status === 410) failed(noSuchFile());
        else if (status === 401)
          failed(new KoinonError('not-authenticated', 'Nobody is signed in; the file waits, and nothing is lost.'));
        else if (code === 'file-differs' || code === 'file-type')
          failed(new KoinonError(code, `The server refuses the content of the file: ${code.replace('-', ' ')}.`));
        else if (code === 'storage-full' || code === 'too-many-requests')
          failed(new KoinonError(code, 'The server has no room for the file now. It waits, and nothing is lost.'));
        else if (status)
          failed(new KoinonError('server-answer', `The server answered ${status} to an upload. The file waits.`));
        else failed(unreachable(server, error));
      },
    });
    signal.addEventListener('abort', () => stop(cancelled(signal.reason)), { once: true });
    upload.start();
  });
}

/** Reads a content a piece at a time: the memory does not grow with it. */
function pieces(blob: Blob) {
  return {
    size: blob.size,
    async slice(start: number, end: number) {
      const bytes = new Uint8Array(await blob.slice(start, Math.min(end, blob.size)).arrayBuffer());
      return { value: Object.assign(bytes, { size: bytes.byteLength }), done: end >= blob.size };
    },
    close: () => undefined,
  };
}

function codeIn(body: string | undefined): string | undefined {
  try {
    return (JSON.parse(body ?? '') as { code?: string }).code;
  } catch {
    return undefined;
  }
}

const noSuchFile = () =>
  new KoinonError('no-such-file', 'The server has no such file for this user: the row has yet to come, or has gone.');

const notKept = ({ url }: FileServer) =>
  new KoinonError(
    'files-not-kept',
    `The server at ${url} keeps no contents of files. They stay on this device until it is started with a place for them.`,
  );

function unreachable({ url }: FileServer, cause: unknown): KoinonError {
  return new KoinonError(
    'server-unreachable',
    `The server at ${url} cannot be reached (${(cause as Error).message}). The file waits, and nothing is lost.`,
    { cause },
  );
}
