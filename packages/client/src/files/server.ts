import { type FileAsked, type FileStatesResponse, KoinonError } from '@koinon/core';
import { checkFileStatesResponse, filesPath, uploadsPath } from '@koinon/core/internal';
import { Upload } from 'tus-js-client';
import type { TokenSource } from '../sync/transport.ts';

/** Bytes that are read of a content at once, and sent in one request. */
const pieceBytes = 4 * 1024 * 1024;

/** How a server is reached. */
export interface FileServer {
  /** Its address, such as `http://127.0.0.1:4280`. */
  readonly url: string;
  readonly token?: TokenSource | undefined;
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
  const response = await asked(server, `${filesPath}/states`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ files }),
    ...(signal && { signal }),
  });
  const { states } = checkFileStatesResponse(await response.json().catch(() => undefined));
  if (states.length === files.length) return states;
  throw new KoinonError('server-answer', 'The server answered a question about files with another number of states.');
}

/** The content of a file from a byte on. */
export async function fileContent(
  server: FileServer,
  { id, table, row, column }: FileAsked,
  from: number,
  signal?: AbortSignal,
): Promise<{ readonly start: number; readonly body: ReadableStream<Uint8Array> }> {
  const query = new URLSearchParams({ table, row, column });
  const response = await asked(server, `${filesPath}/${id}?${query}`, {
    // A proxy that compresses would only cost time; a browser decides about this by itself.
    headers: { 'accept-encoding': 'identity', ...(from === 0 ? {} : { range: `bytes=${from}-` }) },
    ...(signal && { signal }),
  });
  const start = Number(/^bytes (\d+)-/.exec(response.headers.get('content-range') ?? '')?.[1] ?? 0);
  if (response.body === null || (start !== 0 && start !== from))
    throw new KoinonError('server-answer', 'The server sent another part of a file than the one that was asked for.');
  return { start, body: response.body };
}

async function asked(server: FileServer, path: string, request: RequestInit): Promise<Response> {
  const token = await server.token?.();
  const headers = { ...request.headers, ...(token === undefined ? {} : { authorization: `Bearer ${token}` }) };
  let response: Response;
  try {
    response = await fetch(`${server.url.replace(/\/+$/, '')}/v1${path}`, { ...request, headers, redirect: 'manual' });
  } catch (cause) {
    if (request.signal?.aborted) throw cancelled(cause);
    throw unreachable(server, cause);
  }
  if (response.ok) return response;
  const problem = (await response.json().catch(() => undefined)) as { code?: string; detail?: string } | undefined;
  if (response.status === 404 && problem?.code === 'file-awaited')
    throw new KoinonError('file-awaited', problem.detail ?? 'The content of the file has not come yet.');
  if (response.status === 404) throw noSuchFile();
  if (response.status === 401)
    throw new KoinonError('not-authenticated', 'Nobody is signed in; the file waits, and nothing is lost.');
  throw new KoinonError('server-answer', `The server answered ${response.status} to a request for a file.`);
}

/** Sends a content, or goes on with it. @throws KoinonError `no-such-file` where the server has no such row yet, or the user may not write it. */
export function sendContent(
  server: FileServer,
  { id, table, row, column }: FileAsked,
  content: Blob,
  uploadUrl: string | undefined,
  { begun, sent, signal }: UploadEvents,
): Promise<void> {
  return new Promise((done, failed) => {
    const upload = new Upload(content, {
      endpoint: `${server.url.replace(/\/+$/, '')}/v1${uploadsPath}`,
      ...(uploadUrl === undefined ? {} : { uploadUrl }),
      uploadSize: content.size,
      chunkSize: pieceBytes,
      // It is tried again by the outbox of files, which knows when.
      retryDelays: [],
      storeFingerprintForResuming: false,
      metadata: { id, table, row, column },
      fileReader: { openFile: async (blob: Blob) => pieces(blob) } as never,
      async onBeforeRequest(request) {
        const token = await server.token?.();
        if (token !== undefined) request.setHeader('Authorization', `Bearer ${token}`);
      },
      onUploadUrlAvailable: () => upload.url && begun(upload.url),
      onProgress: (bytes) => sent(bytes),
      onSuccess: () => done(),
      onError(error) {
        const response = 'originalResponse' in error ? error.originalResponse : null;
        const status = response?.getStatus();
        const code = codeIn(response?.getBody());
        if (status === 404) failed(noSuchFile());
        else if (status === 401)
          failed(new KoinonError('not-authenticated', 'Nobody is signed in; the file waits, and nothing is lost.'));
        else if (code === 'file-differs' || code === 'file-type')
          failed(new KoinonError(code, `The server refuses the content of the file: ${code.replace('-', ' ')}.`));
        else failed(unreachable(server, error));
      },
    });
    signal.addEventListener('abort', () => void upload.abort().then(() => failed(cancelled(undefined))), {
      once: true,
    });
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

const cancelled = (cause: unknown) => new KoinonError('cancelled', 'It was cancelled; nothing is lost.', { cause });

function unreachable({ url }: FileServer, cause: unknown): KoinonError {
  return new KoinonError(
    'server-unreachable',
    `The server at ${url} cannot be reached (${(cause as Error).message}). The file waits, and nothing is lost.`,
    { cause },
  );
}
