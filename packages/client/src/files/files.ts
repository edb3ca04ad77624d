import { type AnyRow, type FileAsked, type FileValue, KoinonError, type Schema, type TableName } from '@koinon/core';
import { fileValue, isFileName, isFileValue, mostFilesAsked, shown } from '@koinon/core/internal';
import { streamingDigest } from '#streaming-digest';
import { systemHost } from '../host/host.ts';
import type { Replica } from '../replica/replica.ts';
import type { TokenSource } from '../sync/transport.ts';
import type { ContentNote, Contents } from './contents.ts';
import { fileColumns, Places } from './place.ts';
import { type FileServer, fileContent, fileStates, sendContent } from './server.ts';

/** Something to save: bytes, a Blob or File, or a stream of bytes. */
export type FileSource = Blob | Uint8Array | ReadableStream<Uint8Array> | AsyncIterable<Uint8Array>;

/** Properties of a source that it does not have itself. */
export interface SaveOptions {
  /** The media type, `image/jpeg`; a Blob has one of its own. */
  readonly type?: string;
  /** The name that a person gave it; a File has one of its own. */
  readonly name?: string;
  /** The bytes that it may have at most; what is longer is refused, and nothing of it is kept. */
  readonly maximumBytes?: number;
}

/**
 * The place of a content: this device, whether or not the server has it as well, the server alone, or still the device that made it. `unknown`:
 * no row here holds the file, or the server could not be asked.
 */
export interface FileState {
  readonly at: 'here' | 'server' | 'awaited' | 'unknown';
  /** Tells whether the server has it. */
  readonly isSent: boolean;
  /** The part that has gone up or come down, while that is under way. */
  readonly moved?: { readonly way: 'up' | 'down'; readonly bytes: number };
}

/** A content that waits for its way to the server. */
export interface WaitingFile {
  readonly file: FileValue;
  /** The bytes that have gone up. */
  readonly sent: number;
  /** `uploading`; `queued`; `row`: its row has to be confirmed first; `paused`: by hand, or by `allow`; or the code of the last error. */
  readonly state: string;
}

/** Options of {@link openFiles}. */
export interface FilesOptions<S extends Schema = Schema> {
  /** The address of the server, such as `http://127.0.0.1:4280`. Without it contents stay on the device. */
  readonly server?: string;
  /** The token that says who asks. */
  readonly token?: TokenSource;
  /** The place of contents on the device: {@link folderContents}, {@link originContents} or {@link memoryContents}. */
  readonly contents: Contents;
  /** Asked before contents move by themselves: false on a link that costs, say. A content that a person opens is fetched in any case. */
  readonly allow?: (way: 'up' | 'down') => boolean;
  /** The columns whose contents are fetched before anybody opens them. */
  readonly ahead?: { readonly [T in TableName<S>]?: readonly string[] };
  /** The bytes that contents may take which the server has as well; pinned ones do not count. Default 500 MB. */
  readonly budget?: number;
  /** Uploads at once. Default 3. */
  readonly atOnce?: number;
}

/** A content as an address that an image shows. */
export interface FileUrl {
  readonly url: string;
  /** Gives the memory back; the address shows nothing then. */
  release(): void;
}

/** A content that is coming: it goes on as long as anybody waits for it. */
interface Download {
  readonly done: Promise<Blob>;
  readonly abort: AbortController;
  bytes: number;
  waiting: number;
}

/** Milliseconds until an upload that failed is tried again: the first time, and at most. */
const [firstRetry, longestRetry] = [1_000, 60_000];

/** Milliseconds that a content stays which no row holds, or that has come in part: it was just saved, or somebody goes on with it. */
const keepUnheld = 86_400_000;

/** Milliseconds between two questions whether the server still has what was sent to it. */
const askEvery = 3_600_000;

/** Answers of the server that are remembered; all are forgotten when there are more. */
const mostAnswers = 10_000;

/** The room for contents that the server has as well, in bytes. */
const usualBudget = 500_000_000;

/**
 * The photos and documents of a replica. A row holds the description of a file; its content is kept beside the database, goes up by itself once the
 * row is confirmed, and comes down when somebody opens it.
 *
 * @example
 * const files = await openFiles(replica, { contents: memoryContents() })
 * const photo = await files.saveFile(new Blob(['a drawing'], { type: 'text/plain' }))
 */
export class Files<S extends Schema> {
  private readonly replica: Replica<S>;
  private readonly options: FilesOptions<S>;
  private readonly server: FileServer | undefined;
  private readonly contents: Contents;
  private readonly columns: ReadonlyMap<string, readonly string[]>;
  private readonly places = new Places();
  private readonly notes = new Map<string, ContentNote>();
  private readonly stops: (() => void)[] = [];
  private readonly listeners = new Set<() => void>();
  private readonly uploads = new Map<string, { readonly abort: AbortController; sent: number }>();
  private readonly failures = new Map<string, { readonly code: string; readonly tries: number; readonly at: number }>();
  private readonly downloads = new Map<string, Download>();
  private readonly savings = new Set<string>();
  /** Files whose rows have changed: what has come of one in part may have to go with the row. */
  private readonly leftOver = new Set<string>();
  /** Contents on their way that somebody looked at, and when the server is asked for them again. */
  private readonly awaited = new Map<string, FileValue>();
  /** What the server said last of contents that are not here. */
  private readonly answers = new Map<string, { readonly state: string; readonly at: number }>();
  private awaitedWait = firstRetry;
  private awaitedAt = 0;
  private tidiedAt = Number.NEGATIVE_INFINITY;
  private isPaused = false;
  private isLeading = false;
  private isStale = false;
  private isClosed = false;
  private timer: { readonly at: number; stop(): void } | undefined;
  private working: Promise<void> = Promise.resolve();
  private askedAt = Number.NEGATIVE_INFINITY;

  /** Made by {@link openFiles}. */
  constructor(replica: Replica<S>, options: FilesOptions<S>) {
    this.replica = replica;
    this.options = options;
    this.contents = options.contents;
    this.server = options.server === undefined ? undefined : { url: options.server, token: options.token };
    this.columns = fileColumns(replica.schema);
  }

  /** Reads what is there, and begins to send. */
  async open(): Promise<void> {
    await this.readNotes();
    const { contents } = this;
    if (contents.watch)
      this.stops.push(
        contents.watch(() => {
          this.isStale = true;
          this.changed();
        }),
      );
    if (contents.lead)
      this.stops.push(
        contents.lead(() => {
          this.isLeading = true;
          this.changed();
        }),
      );
    else this.isLeading = true;
    for (const [table, columns] of this.columns) {
      this.stops.push(
        this.replica.listen(table as TableName<S>, (events) => {
          for (const { before, after } of events as unknown as readonly {
            readonly before: AnyRow | null;
            readonly after: AnyRow | null;
          }[])
            for (const id of this.places.changed(table, columns, before, after)) {
              this.leftOver.add(id);
              this.answers.delete(id);
            }
          this.changed();
        }),
      );
      for (const row of (await this.replica.rows({ from: table as TableName<S> })) as unknown as readonly AnyRow[])
        this.places.changed(table, columns, null, row);
    }
    // Rows are confirmed without a change that a listener hears.
    this.stops.push(this.replica.syncState().subscribe(() => this.changed()));
    this.changed();
  }

  /**
   * Saves a content on this device, and returns what a row holds of it. The content is hashed and stored while it is read.
   *
   * @throws KoinonError `argument-invalid` for a type or name that a file cannot have; `value-range` for one with more than `maximumBytes`;
   *   `storage-full`.
   * @example
   * const photo = await files.saveFile(new Uint8Array([1, 2]), { type: 'application/octet-stream', name: 'weights' })
   */
  async saveFile(source: FileSource, options: SaveOptions = {}): Promise<FileValue> {
    const given = source as { readonly type?: string; readonly name?: string };
    const type = (options.type ?? given.type ?? '').toLowerCase().replace(/;.*$/s, '').trim();
    const name = options.name ?? (typeof given.name === 'string' ? plainName(given.name) : undefined);
    const id = systemHost.newId();
    if (!isFileValue({ id, sha256: '0'.repeat(64), bytes: 0, type }))
      throw new KoinonError('argument-invalid', `A file has a media type such as image/jpeg, not ${shown(type)}.`, {
        value: type,
      });
    if (name !== undefined && !isFileName(name))
      throw new KoinonError(
        'argument-invalid',
        `The name of a file has 1 to 255 characters, no path and no control characters; ${shown(name)} is none.`,
        { value: name },
      );
    const digest = streamingDigest();
    const most = options.maximumBytes ?? Number.POSITIVE_INFINITY;
    let bytes = 0;
    this.savings.add(id);
    const sink = await this.contents.sink(id);
    try {
      for await (const chunk of chunksOf(source)) {
        bytes += chunk.byteLength;
        if (bytes > most)
          throw new KoinonError('value-range', `The file has more than ${most} bytes; nothing of it was kept.`, {
            value: bytes,
          });
        digest.update(chunk);
        await sink.write(chunk);
      }
      const file = fileValue({ id, sha256: digest.result(), bytes, type, ...(name === undefined ? {} : { name }) });
      const now = systemHost.now();
      await sink.close();
      await this.note({ file, state: 'unsent', savedAt: now, usedAt: now });
      return file;
    } catch (error) {
      await sink.stop(false).catch(() => undefined);
      throw stored(error);
    } finally {
      this.savings.delete(id);
    }
  }

  /**
   * The content of a file: from this device, or from the server, which sends what is missing of it. It is verified by its digest.
   *
   * @throws KoinonError `no-such-file` where neither has it; `file-awaited` while only the device that made it does; `server-unreachable`.
   * @example
   * const content = await files.openFile(photo)
   * show(await content.arrayBuffer())
   */
  async openFile(file: FileValue, options: { readonly signal?: AbortSignal } = {}): Promise<Blob> {
    const note = this.notes.get(file.id);
    const here = note && (await this.contents.open(file.id));
    if (note !== undefined && here !== undefined) {
      const now = systemHost.now();
      // The order of use need not be known to the second.
      if (now - note.usedAt > 60_000) await this.note({ ...note, usedAt: now });
      return here.slice(0, here.size, file.type);
    }
    const content = await this.fetched(file, options.signal);
    return content.slice(0, content.size, file.type);
  }

  /**
   * The content as an address for an image. Release it when the image is not shown any more.
   *
   * @example
   * const { url, release } = await files.fileUrl(photo)
   * show(url)
   * release()
   */
  async fileUrl(file: FileValue): Promise<FileUrl> {
    const url = URL.createObjectURL(await this.openFile(file));
    return { url, release: () => URL.revokeObjectURL(url) };
  }

  /**
   * The places of contents; the server is asked about those that are not here.
   *
   * @example
   * const [state] = await files.states([photo])
   */
  async states(files: readonly FileValue[]): Promise<readonly FileState[]> {
    await this.ask(files.filter(({ id }) => !this.notes.has(id) && !this.isAnswered(id)));
    return files.map((file): FileState => {
      const { id } = file;
      const note = this.notes.get(id);
      // What is sent may still be under way to its note of that.
      const up = note?.state === 'unsent' ? this.uploads.get(id) : undefined;
      const down = this.downloads.get(id);
      const moved = up ? { way: 'up' as const, bytes: up.sent } : down && { way: 'down' as const, bytes: down.bytes };
      if (note !== undefined) return { at: 'here', isSent: note.state !== 'unsent', ...(moved && { moved }) };
      const state = this.answers.get(id)?.state;
      const at = state === 'stored' ? 'server' : state === 'awaited' ? 'awaited' : 'unknown';
      if (at !== 'server') this.looksFor(file);
      return { at, isSent: state === 'stored', ...(moved && { moved }) };
    });
  }

  /** Asks the server where contents are. What it answered before stays where it cannot be reached. */
  private async ask(files: readonly FileValue[]): Promise<void> {
    const { server } = this;
    const places = files.flatMap(({ id }) => this.places.of(id).slice(0, 1));
    if (server === undefined) return;
    for (let from = 0; from < places.length; from += mostFilesAsked) {
      const some = places.slice(from, from + mostFilesAsked);
      const states = await fileStates(server, some).catch(() => undefined);
      if (states === undefined) return;
      if (this.answers.size >= mostAnswers) this.answers.clear();
      const at = systemHost.now();
      for (const [n, { id }] of some.entries()) this.answers.set(id, { state: states[n] ?? 'unknown', at });
    }
  }

  /** A listener is told when the state of a content changes: until then the answer of before is good enough, however often it is looked at. */
  private isAnswered(id: string): boolean {
    const answer = this.answers.get(id);
    return answer !== undefined && this.listeners.size > 0 && systemHost.now() - answer.at < longestRetry;
  }

  private looksFor(file: FileValue): void {
    if (this.server === undefined || this.places.of(file.id).length === 0) return;
    if (this.awaited.has(file.id) || this.awaited.size >= mostFilesAsked) return;
    this.awaited.set(file.id, file);
    this.awaitedWait = firstRetry;
    this.awaitedAt = systemHost.now() + firstRetry;
    this.changed(firstRetry);
  }

  /** The contents that have yet to go up, in the order in which they were saved. */
  async waiting(): Promise<readonly WaitingFile[]> {
    const found: WaitingFile[] = [];
    for (const { file, state } of this.unsent()) {
      if (state !== 'unsent') continue;
      const upload = this.uploads.get(file.id);
      const place = upload ? undefined : await this.confirmedPlace(file.id);
      const why = this.isPaused || this.options.allow?.('up') === false ? 'paused' : place ? 'queued' : 'row';
      found.push({
        file,
        sent: upload?.sent ?? 0,
        state: upload ? 'uploading' : (this.failures.get(file.id)?.code ?? why),
      });
    }
    return found;
  }

  /**
   * Calls when anything about a content has changed; also, within a minute, when one has come to the server of which `states` said that it had not.
   * Returns a function that ends that.
   */
  subscribe(listener: () => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  /** Keeps a content on this device, whatever room is needed; or no longer. */
  async pin(file: FileValue, isPinned = true): Promise<void> {
    if (isPinned) await this.openFile(file);
    const note = this.notes.get(file.id);
    if (note !== undefined) await this.note({ ...note, isPinned });
  }

  /** Stops sending and fetching by itself. */
  pause(): void {
    this.isPaused = true;
    for (const { abort } of this.uploads.values()) abort.abort();
    this.notify();
  }

  /** Goes on. Uploads that have failed are tried at once. */
  resume(): void {
    this.isPaused = false;
    this.failures.clear();
    this.changed();
  }

  /** Ends all that is under way. Contents stay, and go on when the replica is opened again. */
  async close(): Promise<void> {
    this.isClosed = true;
    this.timer?.stop();
    for (const stop of this.stops) stop();
    await this.stopAll();
    await this.working;
  }

  /** Something has changed: looks what there is to do, a moment later. */
  private changed(after = 50): void {
    const at = systemHost.now() + after;
    if (this.isClosed || (this.timer !== undefined && this.timer.at <= at)) return;
    this.timer?.stop();
    const stop = systemHost.after(after, () => {
      this.timer = undefined;
      this.working = this.working.then(() => this.work()).catch(() => undefined);
    });
    this.timer = { at, stop };
  }

  private async work(): Promise<void> {
    if (this.isClosed) return;
    if (this.isStale) await this.readNotes();
    if (this.isLeading) await this.collect();
    if (this.isLeading && this.server !== undefined && !this.isPaused) {
      await this.askForLost(this.server);
      if (this.options.allow?.('up') !== false) await this.sendSome(this.server);
      if (this.options.allow?.('down') !== false) this.fetchAhead();
    }
    await this.askForAwaited();
    const waits = [...this.failures.values()].map(({ at }) => at - systemHost.now());
    if (this.awaited.size > 0 && this.listeners.size > 0) waits.push(this.awaitedAt - systemHost.now());
    if (waits.length > 0) this.changed(Math.max(50, Math.min(...waits)));
    this.notify();
  }

  /** Contents that somebody looked at while they were on their way: the server is asked again, more and more seldom, until they are there. */
  private async askForAwaited(): Promise<void> {
    if (this.awaited.size === 0 || this.listeners.size === 0 || systemHost.now() < this.awaitedAt) return;
    await this.ask([...this.awaited.values()]);
    this.awaitedWait = Math.min(this.awaitedWait * 2, longestRetry);
    this.awaitedAt = systemHost.now() + this.awaitedWait;
    for (const { id } of [...this.awaited.values()])
      if (this.notes.has(id) || this.places.of(id).length === 0 || this.answers.get(id)?.state === 'stored')
        this.awaited.delete(id);
  }

  /** Reads the notes, which other tabs write as well. */
  private async readNotes(): Promise<void> {
    this.isStale = false;
    const found = await this.contents.notes();
    const ids = new Set(found.map(({ file }) => file.id));
    for (const id of this.notes.keys()) if (!ids.has(id) && !this.savings.has(id)) this.notes.delete(id);
    for (const note of found) this.notes.set(note.file.id, note);
  }

  /**
   * Removes all contents from this device, also those that were never sent: with `unlink({ rows: 'erase' })`, or when another person signs in.
   *
   * @example
   * await files.erase()
   */
  async erase(): Promise<void> {
    await this.stopAll();
    for (const { id } of await this.contents.kept()) await this.forget(id);
    for (const id of [...this.notes.keys()]) await this.forget(id);
  }

  /** Ends what is under way. What has come and gone so far stays. */
  private async stopAll(): Promise<void> {
    for (const { abort } of [...this.uploads.values(), ...this.downloads.values()]) abort.abort();
    await Promise.allSettled([...this.downloads.values()].map(({ done }) => done));
  }

  private unsent(): readonly ContentNote[] {
    return [...this.notes.values()].filter(({ state }) => state === 'unsent').sort((a, b) => a.savedAt - b.savedAt);
  }

  /** Begins uploads of contents whose rows the server has, as many as go at once. */
  private async sendSome(server: FileServer): Promise<void> {
    const atOnce = this.options.atOnce ?? 3;
    for (const { file } of this.unsent()) {
      if (this.uploads.size >= atOnce) return;
      const { id } = file;
      if (this.uploads.has(id) || (this.failures.get(id)?.at ?? 0) > systemHost.now()) continue;
      const place = await this.confirmedPlace(id);
      const note = this.notes.get(id);
      if (place === undefined || note === undefined) continue;
      const upload = { abort: new AbortController(), sent: 0 };
      this.uploads.set(id, upload);
      void this.send(server, place, note, upload).finally(() => {
        this.uploads.delete(id);
        this.changed();
      });
    }
  }

  private async send(
    server: FileServer,
    place: FileAsked,
    note: ContentNote,
    upload: { readonly abort: AbortController; sent: number },
  ): Promise<void> {
    const { id } = note.file;
    const { signal } = upload.abort;
    try {
      const content = await this.contents.open(id);
      // Somebody has emptied the folder.
      if (content === undefined) return await this.forget(id);
      // An address of another server is of no use here.
      const goesOn = note.uploadUrl?.startsWith(server.url) ? note.uploadUrl : undefined;
      await sendContent(server, place, content, goesOn, {
        begun: (uploadUrl) => void this.note({ ...note, uploadUrl }).catch(() => undefined),
        sent: (bytes) => {
          upload.sent = bytes;
          this.notify();
        },
        signal,
      });
      // The server may have been killed between the last byte and storing it.
      const [state] = await fileStates(server, [place], signal);
      const { uploadUrl: _over, ...rest } = note;
      await this.note(state === 'stored' ? { ...rest, state: 'sent' } : rest);
      this.failures.delete(id);
    } catch (error) {
      if (signal.aborted) return;
      const code = error instanceof KoinonError ? error.code : 'internal-failure';
      const tries = (this.failures.get(id)?.tries ?? 0) + 1;
      const wait = Math.min(firstRetry * 2 ** (tries - 1), longestRetry);
      this.failures.set(id, { code, tries, at: systemHost.now() + wait });
      // An upload that did not fit begins anew.
      if (code === 'file-differs' || code === 'no-such-file') {
        const { uploadUrl: _gone, ...rest } = note;
        await this.note(rest).catch(() => undefined);
      }
    }
  }

  /** A row that holds a file and that the server has so. */
  private async confirmedPlace(id: string): Promise<FileAsked | undefined> {
    for (const place of this.places.of(id)) {
      const { base } = await this.replica.rowState(place.table as TableName<S>, place.row);
      const value = (base as AnyRow | null)?.[place.column] as FileValue | null | undefined;
      if (value?.id === id) return place;
    }
    return undefined;
  }

  /** Contents that were made here and that the server does not have any more, its folder having been restored, say: they go up again. */
  private async askForLost(server: FileServer): Promise<void> {
    if (systemHost.now() - this.askedAt < askEvery) return;
    const made = [...this.notes.values()].filter(({ state }) => state !== 'unsent');
    const asked = made.flatMap((note) => {
      const [place] = this.places.of(note.file.id);
      return place === undefined ? [] : [{ note, place }];
    });
    for (let from = 0; from < asked.length; from += mostFilesAsked) {
      const some = asked.slice(from, from + mostFilesAsked);
      const states = await fileStates(
        server,
        some.map(({ place }) => place),
      ).catch(() => undefined);
      // Asked again when the server can be reached.
      if (states === undefined) return;
      for (const [n, { note }] of some.entries())
        if (states[n] === 'awaited') await this.note({ ...note, state: 'unsent' });
    }
    this.askedAt = systemHost.now();
  }

  private fetchAhead(): void {
    const { ahead = {} } = this.options;
    for (const { place, value } of this.places.all()) {
      const columns = (ahead as Readonly<Record<string, readonly string[] | undefined>>)[place.table];
      if (columns?.includes(place.column) !== true || this.notes.has(value.id) || this.downloads.size >= 3) continue;
      if ((this.failures.get(value.id)?.at ?? 0) > systemHost.now()) continue;
      void this.fetched(value).then(
        () => this.changed(),
        (error: unknown) => {
          const tries = (this.failures.get(value.id)?.tries ?? 0) + 1;
          const code = error instanceof KoinonError ? error.code : 'internal-failure';
          const wait = Math.min(firstRetry * 2 ** (tries - 1), longestRetry);
          this.failures.set(value.id, { code, tries, at: systemHost.now() + wait });
          this.changed(wait);
        },
      );
    }
  }

  /** Fetches a content; whoever asks for the same meanwhile gets it with the first. It is stopped when nobody waits for it any more. */
  private async fetched(file: FileValue, signal?: AbortSignal): Promise<Blob> {
    if (signal?.aborted) throw cancelled(signal.reason);
    const download = this.downloads.get(file.id) ?? this.beginDownload(file);
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

  private beginDownload(file: FileValue): Download {
    const abort = new AbortController();
    const download = { done: this.download(file, abort.signal), abort, bytes: 0, waiting: 0 };
    this.downloads.set(file.id, download);
    const over = () => {
      this.downloads.delete(file.id);
      this.notify();
    };
    download.done.then(over, over);
    return download;
  }

  private async download(file: FileValue, signal: AbortSignal, isAgain = false): Promise<Blob> {
    const { id, sha256 } = file;
    const [place] = this.places.of(id);
    if (this.server === undefined || place === undefined) throw gone();
    const digest = streamingDigest();
    const sink = await this.contents.sink(id);
    let size = sink.size;
    try {
      const part = size === 0 ? undefined : await this.contents.part(id);
      if (size > file.bytes) throw new KoinonError('file-differs', 'More has come than the file has.');
      for await (const chunk of part === undefined ? [] : chunksOf(part)) digest.update(chunk);
      if (size < file.bytes || file.bytes === 0) {
        const { start, body } = await fileContent(this.server, place, size, signal);
        // The server has sent all of it.
        if (start !== size) throw new KoinonError('file-differs', 'The server did not go on where it was asked to.');
        for await (const chunk of chunksOf(body)) {
          size += chunk.byteLength;
          digest.update(chunk);
          await sink.write(chunk);
          const under = this.downloads.get(id);
          if (under !== undefined) under.bytes = size;
          this.notify();
        }
      }
      if (size !== file.bytes || digest.result() !== sha256)
        throw size < file.bytes
          ? new KoinonError('server-unreachable', 'The connection was cut before the whole file had come; it goes on.')
          : new KoinonError('file-differs', 'The content is not the one that the row describes.');
      await sink.close();
    } catch (error) {
      const isWrong = error instanceof KoinonError && error.code === 'file-differs';
      await sink.stop(!isWrong).catch(() => undefined);
      if (isWrong && !isAgain) return this.download(file, signal, true);
      if (signal.aborted) throw cancelled(error);
      throw error instanceof KoinonError ? error : cutOff(stored(error));
    }
    // The row may have gone while the last bytes came, or the contents were erased.
    if (signal.aborted || this.places.of(id).length === 0) {
      await this.forget(id);
      throw signal.aborted ? cancelled(signal.reason) : gone();
    }
    const now = systemHost.now();
    await this.note({ file, state: 'fetched', savedAt: now, usedAt: now });
    await this.makeRoom(id);
    return (await this.contents.open(id)) as Blob;
  }

  /** Removes contents that were used longest ago, until the others fit. */
  private async makeRoom(besides: string): Promise<void> {
    const movable = [...this.notes.values()].filter(({ state, isPinned }) => state !== 'unsent' && !isPinned);
    let taken = movable.reduce((sum, { file }) => sum + file.bytes, 0);
    for (const { file } of movable.sort((a, b) => a.usedAt - b.usedAt)) {
      if (taken <= (this.options.budget ?? usualBudget)) return;
      if (file.id === besides) continue;
      taken -= file.bytes;
      await this.forget(file.id);
    }
  }

  /** Removes contents that no row holds any more: at once where they came from the server, after a day where they were made here. */
  private async collect(): Promise<void> {
    for (const { file, state, savedAt } of [...this.notes.values()]) {
      if (this.places.of(file.id).length > 0 || this.savings.has(file.id) || this.uploads.has(file.id)) continue;
      if (state === 'unsent' && systemHost.now() - savedAt < keepUnheld) continue;
      await this.forget(file.id);
    }
    // What has come in part of a row that is gone.
    for (const id of this.leftOver) {
      this.leftOver.delete(id);
      if (this.notes.has(id) || this.savings.has(id) || this.places.of(id).length > 0) continue;
      const download = this.downloads.get(id);
      download?.abort.abort();
      await Promise.allSettled([download?.done]);
      await this.contents.remove(id);
    }
    // Parts that nobody goes on with: the process was killed while one was saved, say.
    const now = systemHost.now();
    if (now - this.tidiedAt < keepUnheld / 24) return;
    this.tidiedAt = now;
    for (const { id, changedAt } of await this.contents.kept())
      if (!this.notes.has(id) && !this.savings.has(id) && !this.downloads.has(id) && now - changedAt >= keepUnheld)
        await this.contents.remove(id);
  }

  private async note(note: ContentNote): Promise<void> {
    this.notes.set(note.file.id, note);
    await this.contents.note(note);
    this.changed();
    this.notify();
  }

  private async forget(id: string): Promise<void> {
    this.notes.delete(id);
    await this.contents.remove(id);
    this.notify();
  }

  private notify(): void {
    for (const listener of [...this.listeners]) listener();
  }
}

/**
 * Opens the photos and documents of a replica, and sends what waits. One for each replica.
 *
 * @throws KoinonError `storage-unavailable` where contents cannot be kept there.
 * @example
 * const files = await openFiles(replica, { contents: memoryContents() })
 * await files.close()
 */
export async function openFiles<S extends Schema>(replica: Replica<S>, options: FilesOptions<S>): Promise<Files<S>> {
  const files = new Files(replica, options);
  await files.open();
  return files;
}

/** The bytes of a source, piece by piece. */
async function* chunksOf(source: FileSource): AsyncGenerator<Uint8Array> {
  if (source instanceof Uint8Array) yield source;
  else if (source instanceof Blob) yield* chunksOf(source.stream() as ReadableStream<Uint8Array>);
  else if (Symbol.asyncIterator in source) yield* source as AsyncIterable<Uint8Array>;
  else {
    const reader = (source as ReadableStream<Uint8Array>).getReader();
    try {
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return;
        yield value;
      }
    } finally {
      await reader.cancel().catch(() => undefined);
    }
  }
}

/** The name of a file without what a name cannot have. */
function plainName(name: string): string | undefined {
  const plain = name.replace(/^.*[/\\]/s, '').replace(/[\p{Cc}\u200e\u200f\u202a-\u202e\u2066-\u2069]/gu, '');
  return isFileName(plain) ? plain : undefined;
}

const gone = () =>
  new KoinonError('no-such-file', 'The content is not on this device, and no row here holds the file.');

const cancelled = (cause: unknown) => new KoinonError('cancelled', 'It was cancelled; nothing is lost.', { cause });

/** A failure of the storage under a code of ours. */
function stored(error: unknown): unknown {
  const { code, name } = error as { code?: string; name?: string };
  if (code !== 'ENOSPC' && name !== 'QuotaExceededError') return error;
  return new KoinonError(
    'storage-full',
    'There is no room for the file; nothing of it was kept. Free some, and save it again.',
    {
      cause: error,
    },
  );
}

function cutOff(error: unknown): unknown {
  if (error instanceof KoinonError) return error;
  return new KoinonError('server-unreachable', 'The connection was cut before the whole file had come; it goes on.', {
    cause: error,
  });
}
