import { type FileAsked, type FileValue, KoinonError } from '@koinon/core';
import { streamingDigest } from '#streaming-digest';
import { systemHost } from '../host/host.ts';
import type { Contents } from './contents.ts';
import { cancelled, cutOff, gone, storageFault } from './faults.ts';
import { fileContent } from './server.ts';
import { chunksOf } from './source.ts';
import type { Surroundings } from './surroundings.ts';

/** Contents that are fetched ahead at once. */
const aheadAtOnce = 3;

/** A content that is coming: it goes on as long as anybody waits for it. */
interface Download {
  readonly file: FileValue;
  readonly done: Promise<Blob>;
  readonly abort: AbortController;
  bytes: number;
  waiting: number;
}

/** The contents that are coming from the server. */
export class Downloads {
  private readonly at: Surroundings;
  private readonly contents: Contents;
  private readonly makeRoom: (besides: string) => Promise<void>;
  private readonly under = new Map<string, Download>();

  /** @param makeRoom called when a content has come, with its id. */
  constructor(at: Surroundings, contents: Contents, makeRoom: (besides: string) => Promise<void>) {
    this.at = at;
    this.contents = contents;
    this.makeRoom = makeRoom;
  }

  /** The bytes that have come of a content that is coming. */
  bytesOf(id: string): number | undefined {
    return this.under.get(id)?.bytes;
  }

  /** Fetches a content; whoever asks for the same meanwhile gets it with the first. It is stopped when nobody waits for it any more. */
  async fetch(file: FileValue, signal?: AbortSignal): Promise<Blob> {
    if (signal?.aborted) throw cancelled(signal.reason);
    const download = this.under.get(file.id) ?? this.begin(file);
    download.waiting++;
    let stop = () => {};
    const stopped = new Promise<never>((_, failed) => {
      stop = () => failed(cancelled(signal?.reason));
      signal?.addEventListener('abort', stop, { once: true });
    });
    try {
      return await Promise.race([download.done, stopped]);
    } finally {
      signal?.removeEventListener('abort', stop);
      if (--download.waiting === 0) download.abort.abort();
    }
  }

  /**
   * Begins with contents that are not here, a few at a time, those of the latest changes first. One that has no room is not fetched: another one that
   * was would have to go for it.
   *
   * @param isWanted tells whether the contents of a column are fetched ahead.
   * @param budget the bytes that all of them may take.
   */
  fetchAhead(isWanted: (place: FileAsked) => boolean, budget: number): void {
    const { places, kept, retries } = this.at;
    if (this.under.size >= aheadAtOnce) return;
    let taken = kept.taken() + [...this.under.values()].reduce((sum, { file }) => sum + file.bytes, 0);
    for (const { place, value } of places.all().toReversed()) {
      if (this.under.size >= aheadAtOnce) return;
      const { id, bytes } = value;
      if (!isWanted(place) || kept.has(id) || retries.waits(id) || this.under.has(id)) continue;
      if (taken + bytes > budget) continue;
      taken += bytes;
      this.fetch(value)
        .then(
          () => retries.over(id),
          // What was stopped is not at fault.
          (error: unknown) => (error as KoinonError).code !== 'cancelled' && retries.failed(id, error),
        )
        // The next one begins at once.
        .finally(() => this.at.changed(0));
    }
  }

  /** Stops one, or all; what has come so far stays. */
  async stop(id?: string): Promise<void> {
    const stopped = id === undefined ? [...this.under.values()] : [this.under.get(id) ?? []].flat();
    for (const { abort } of stopped) abort.abort();
    await Promise.allSettled(stopped.map(({ done }) => done));
  }

  private begin(file: FileValue): Download {
    const abort = new AbortController();
    const download = { file, done: this.download(file, abort.signal), abort, bytes: 0, waiting: 0 };
    this.under.set(file.id, download);
    const over = () => {
      this.under.delete(file.id);
      this.at.notify();
    };
    download.done.then(over, over);
    return download;
  }

  private async download(file: FileValue, signal: AbortSignal, isAgain = false): Promise<Blob> {
    const { server, places, kept } = this.at;
    const { id, sha256 } = file;
    const [place] = places.of(id);
    if (server === undefined || place === undefined) throw gone();
    const digest = streamingDigest();
    const sink = await this.contents.sink(id);
    let size = sink.size;
    try {
      const part = size === 0 ? undefined : await this.contents.part(id);
      if (size > file.bytes) throw new KoinonError('file-differs', 'More has come than the file has.');
      for await (const chunk of part === undefined ? [] : chunksOf(part)) digest.update(chunk);
      if (size < file.bytes || file.bytes === 0) {
        const { start, body } = await fileContent(server, place, size, signal);
        // The server has sent all of it.
        if (start !== size) throw new KoinonError('file-differs', 'The server did not go on where it was asked to.');
        for await (const chunk of chunksOf(body)) {
          size += chunk.byteLength;
          // A server that goes on and on does not fill the disk.
          if (size > file.bytes) throw new KoinonError('file-differs', 'More has come than the file has.');
          digest.update(chunk);
          await sink.write(chunk);
          const download = this.under.get(id);
          if (download !== undefined) download.bytes = size;
          this.at.notify();
        }
      }
      if (size < file.bytes) throw cutOff();
      if (digest.result() !== sha256)
        throw new KoinonError('file-differs', 'The content is not the one that the row describes.');
      await sink.close();
    } catch (error) {
      const isWrong = error instanceof KoinonError && error.code === 'file-differs';
      await sink.stop(!isWrong).catch(() => undefined);
      if (isWrong && !isAgain) return this.download(file, signal, true);
      if (signal.aborted) throw cancelled(error);
      const fault = storageFault(error);
      throw fault instanceof KoinonError ? fault : cutOff(fault);
    }
    // The row may have gone while the last bytes came, or the contents were erased.
    if (signal.aborted || places.of(id).length === 0) {
      await kept.forget(id);
      throw signal.aborted ? cancelled(signal.reason) : gone();
    }
    const now = systemHost.now();
    await kept.put({ file, state: 'fetched', savedAt: now, usedAt: now });
    await this.makeRoom(id);
    return (await this.contents.open(id)) as Blob;
  }
}
