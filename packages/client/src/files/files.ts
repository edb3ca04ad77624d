import { type AnyRow, type FileAsked, type FileValue, KoinonError, type Schema, type TableName } from '@koinon/core';
import { fileValue, isFileName, isFileValue, shown } from '@koinon/core/internal';
import { streamingDigest } from '#streaming-digest';
import { systemHost } from '../host/host.ts';
import type { Replica } from '../replica/replica.ts';
import type { TokenSource } from '../sync/transport.ts';
import { Answers } from './answers.ts';
import type { Contents } from './contents.ts';
import { type CopiedFiles, type CopyOptions, copiedNote, copyContents } from './copies.ts';
import { Downloads } from './downloads.ts';
import { storageFault } from './faults.ts';
import { Kept } from './kept.ts';
import { isMetered as isLinkMetered } from './metered.ts';
import { fileColumns, Places } from './place.ts';
import { Retries } from './retries.ts';
import type { FileServer } from './server.ts';
import { chunksOf, type FileSource, plainName } from './source.ts';
import { ConfirmedPlaces, type Surroundings } from './surroundings.ts';
import { Uploads, type WaitingFile } from './uploads.ts';

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

/** When a content is fetched before anybody opens it: `unmetered` only over a link that does not cost by the byte. */
export type Ahead = 'always' | 'unmetered' | 'never';

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
  /** The columns whose contents are fetched before anybody opens them, as far as `budget` allows: `{ photo: { preview: 'always' } }`. */
  readonly ahead?: { readonly [T in TableName<S>]?: Readonly<Record<string, Ahead>> };
  /** Tells whether the link costs by the byte. Default: what the browser says of it; nobody knows that in Node. */
  readonly isMetered?: () => boolean;
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

/** The room for contents that the server has as well, in bytes. */
const usualBudget = 500_000_000;

/** Milliseconds after which the order of use is noted anew. */
const usedEvery = 60_000;

/** Milliseconds until notes are read again that could not be read. */
const rereadAfter = 500;

/** Milliseconds for which changes are told of together. */
const tellEvery = 30;

/** Milliseconds from a change until it is looked what there is to do. */
const soon = 50;

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
  private readonly kept: Kept;
  private readonly places = new Places();
  private readonly confirmed: ConfirmedPlaces<S>;
  private readonly retries = new Retries();
  private readonly uploads: Uploads;
  private readonly downloads: Downloads;
  private readonly answers: Answers;
  private readonly stops: (() => void)[] = [];
  private readonly listeners = new Set<() => void>();
  /** Files whose rows have changed: what has come of one in part may have to go with the row. */
  private readonly leftOver = new Set<string>();
  private cancelTelling: (() => void) | undefined;
  private isPaused = false;
  private isLeading = false;
  /** Tells whether all places are known: before that, each content would be one that no row holds. */
  private isOpen = false;
  private isStale = false;
  private readonly closing = new AbortController();
  private timer: { readonly at: number; stop(): void } | undefined;
  private working: Promise<void> = Promise.resolve();

  /** Made by {@link openFiles}. */
  constructor(replica: Replica<S>, options: FilesOptions<S>) {
    this.replica = replica;
    this.options = options;
    this.contents = options.contents;
    this.server =
      options.server === undefined
        ? undefined
        : { url: options.server, token: options.token, closed: this.closing.signal };
    this.kept = new Kept(this.contents, () => {
      this.changed();
      this.notify();
    });
    this.confirmed = new ConfirmedPlaces(replica, this.places);
    const at: Surroundings = {
      ...{ server: this.server, kept: this.kept, places: this.places, retries: this.retries },
      confirmed: this.confirmed,
      notify: () => this.notify(),
      changed: (after) => this.changed(after),
    };
    this.answers = new Answers(at, () => this.listeners.size > 0);
    this.uploads = new Uploads(at, this.contents, options.atOnce ?? 3);
    this.downloads = new Downloads(at, this.contents, (besides) =>
      this.kept.makeRoom(options.budget ?? usualBudget, (id) => id === besides || this.uploads.isUnderWay(id)),
    );
  }

  /** Reads what is there, and begins to send. */
  async open(): Promise<void> {
    await this.kept.read();
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
    for (const [table, columns] of fileColumns(this.replica.schema)) {
      this.stops.push(
        this.replica.listen(table as TableName<S>, (events) => {
          for (const { before, after } of events as unknown as readonly {
            readonly before: AnyRow | null;
            readonly after: AnyRow | null;
          }[])
            for (const id of this.places.changed(table, columns, before, after)) {
              this.leftOver.add(id);
              this.answers.forget(id);
              this.confirmed.forget(id);
            }
          this.changed();
        }),
      );
      for (const row of (await this.replica.rows({ from: table as TableName<S> })) as unknown as readonly AnyRow[])
        this.places.changed(table, columns, null, row);
    }
    // Rows are confirmed without a change that a listener hears.
    let known = 0;
    this.stops.push(
      this.replica.syncState().subscribe(({ rows: [state] }) => {
        if (state !== undefined && state.contentsStored !== known) this.answers.askNow();
        known = state?.contentsStored ?? known;
        this.confirmed.lookAgain();
        this.changed();
      }),
    );
    this.isOpen = true;
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
    this.kept.saving.add(id);
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
      await this.kept.put({ file, state: 'unsent', savedAt: now, usedAt: now, unheldSince: now });
      return file;
    } catch (error) {
      await sink.stop(false).catch(() => undefined);
      throw storageFault(error);
    } finally {
      this.kept.saving.delete(id);
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
    const note = this.kept.get(file.id);
    const here = note && (await this.contents.open(file.id));
    if (note !== undefined && here !== undefined) {
      const now = systemHost.now();
      if (now - note.usedAt > usedEvery) await this.kept.amend(file.id, (noted) => ({ ...noted, usedAt: now }));
      return here.slice(0, here.size, file.type);
    }
    const content = await this.downloads.fetch(file, options.signal);
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
    const told = await this.answers.of(files);
    return files.map(({ id }): FileState => {
      const note = this.kept.get(id);
      const [sent, come] = [this.uploads.sentOf(id), this.downloads.bytesOf(id)];
      if (note !== undefined) {
        // A content that was sent may still be under way to its note of that.
        const isUp = note.state === 'unsent' && sent !== undefined;
        return { at: 'here', isSent: note.state !== 'unsent', ...(isUp && { moved: { way: 'up', bytes: sent } }) };
      }
      const state = told.get(id);
      const at = state === 'stored' ? 'server' : state === 'awaited' ? 'awaited' : 'unknown';
      return {
        ...{ at, isSent: state === 'stored' },
        ...(come !== undefined && { moved: { way: 'down' as const, bytes: come } }),
      };
    });
  }

  /** The contents that have yet to go up, in the order in which they were saved. */
  waiting(): Promise<readonly WaitingFile[]> {
    return this.uploads.waiting(this.isPaused || this.options.allow?.('up') === false);
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
    await this.kept.amend(file.id, (note) => ({ ...note, isPinned }));
  }

  /**
   * Copies the contents that rows hold and that are on this device to another place: with a copy of the database, or beside an export of its rows.
   *
   * @throws KoinonError `storage-full`, `cancelled`.
   * @example
   * const { copied, missing } = await files.copyTo(memoryContents())
   */
  async copyTo(contents: Contents, options: CopyOptions = {}): Promise<CopiedFiles> {
    const wanted = this.places.all().map(({ value }) => value);
    const noteOf = async (file: FileValue) => copiedNote(file, this.kept.get(file.id)?.state ?? 'fetched');
    return copyContents(wanted, this.contents, contents, noteOf, options);
  }

  /**
   * Takes contents in that rows here hold, from a place to which they were copied. Those that the server does not have go up.
   *
   * @throws KoinonError `storage-full`, `cancelled`.
   * @example
   * const { missing } = await files.takeFrom(memoryContents())
   */
  async takeFrom(contents: Contents, options: CopyOptions = {}): Promise<CopiedFiles> {
    const wanted = this.places.all().flatMap(({ value }) => (this.kept.has(value.id) ? [] : [value]));
    const told = await this.answers.of(wanted);
    const noteOf = async (file: FileValue) => copiedNote(file, told.get(file.id) === 'stored' ? 'fetched' : 'unsent');
    const taken = await copyContents(wanted, contents, this.contents, noteOf, options);
    await this.kept.read();
    this.changed();
    return taken;
  }

  /** Stops sending and fetching by itself. */
  pause(): void {
    this.isPaused = true;
    void this.uploads.stop();
    this.notify();
  }

  /** Goes on. Uploads that have failed are tried at once. */
  resume(): void {
    this.isPaused = false;
    this.retries.clear();
    this.changed();
  }

  /**
   * Removes all contents from this device, also those that were never sent: with `unlink({ rows: 'erase' })`, or when another person signs in.
   *
   * @example
   * await files.erase()
   */
  async erase(): Promise<void> {
    await Promise.all([this.uploads.stop(), this.downloads.stop()]);
    await this.kept.erase();
  }

  /** Ends all that is under way. Contents stay, and go on when the replica is opened again. */
  async close(): Promise<void> {
    this.closing.abort();
    this.timer?.stop();
    this.cancelTelling?.();
    for (const stop of this.stops) stop();
    await this.working;
    await Promise.all([this.uploads.stop(), this.downloads.stop()]);
  }

  /** Something has changed: looks what there is to do, a moment later. */
  private changed(after = soon): void {
    const at = systemHost.now() + after;
    if (!this.isOpen || this.closing.signal.aborted || (this.timer !== undefined && this.timer.at <= at)) return;
    this.timer?.stop();
    const stop = systemHost.after(after, () => {
      this.timer = undefined;
      this.working = this.working.then(() => this.work()).catch(() => undefined);
    });
    this.timer = { at, stop };
  }

  private async work(): Promise<void> {
    if (this.closing.signal.aborted) return;
    if (this.isStale) {
      this.isStale = false;
      await this.kept.read().catch((error: unknown) => {
        // Another tab may be replacing a note just now.
        this.isStale = true;
        this.changed(rereadAfter);
        throw error;
      });
    }
    if (this.isLeading) await this.collect();
    const { server, options } = this;
    if (this.isLeading && server !== undefined && !this.isPaused) {
      await this.uploads.askForLost(server);
      if (options.allow?.('up') !== false) await this.uploads.sendSome(server);
      if (options.allow?.('down') !== false) this.fetchAhead();
    }
    await this.answers.askForAwaited();
    for (const wait of [this.retries.next(), this.answers.next()])
      if (wait !== undefined) this.changed(Math.max(soon, wait));
    this.notify();
  }

  private fetchAhead(): void {
    const { ahead, isMetered = isLinkMetered, budget = usualBudget } = this.options;
    if (ahead === undefined) return;
    const columns: Readonly<Record<string, Readonly<Record<string, Ahead>> | undefined>> = ahead;
    const isCostly = isMetered();
    const isWanted = ({ table, column }: FileAsked) => {
      const when = columns[table]?.[column];
      return when === 'always' || (when === 'unmetered' && !isCostly);
    };
    this.downloads.fetchAhead(isWanted, budget);
  }

  /** Removes what no row holds any more. */
  private async collect(): Promise<void> {
    await this.kept.collect(
      this.places,
      (id) => this.uploads.isUnderWay(id) || this.downloads.bytesOf(id) !== undefined,
    );
    // What has come in part of a row that is gone.
    for (const id of this.leftOver) {
      this.leftOver.delete(id);
      if (this.kept.has(id) || this.kept.saving.has(id) || this.places.of(id).length > 0) continue;
      await this.downloads.stop(id);
      await this.contents.remove(id);
    }
  }

  /** Tells those who listen, a moment later: several uploads move at once, each many times a second. */
  private notify(): void {
    this.cancelTelling ??= systemHost.after(tellEvery, () => {
      this.cancelTelling = undefined;
      for (const listener of [...this.listeners]) listener();
    });
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
