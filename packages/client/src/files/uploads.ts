import { type FileAsked, type FileValue, KoinonError } from '@koinon/core';
import { mostFilesAsked } from '@koinon/core/internal';
import { systemHost } from '../host/host.ts';
import type { ContentNote, Contents } from './contents.ts';
import { type FileServer, fileStates, sendContent } from './server.ts';
import type { Surroundings } from './surroundings.ts';

/** A content that waits for its way to the server. */
export interface WaitingFile {
  readonly file: FileValue;
  /** The bytes that have gone up. */
  readonly sent: number;
  /** `uploading`; `queued`; `row`: its row has to be confirmed first; `paused`: by hand, or by `allow`; or the code of the last error. */
  readonly state: string;
}

/** Milliseconds between two questions whether the server still has what is here. */
const askEvery = 3_600_000;

/** The note of a content whose upload does not go on where it was. */
const begunAnew = ({ uploadUrl: _gone, ...note }: ContentNote): ContentNote => note;

interface Upload {
  readonly abort: AbortController;
  readonly done: Promise<void>;
  sent: number;
}

/** The contents that go to the server. */
export class Uploads {
  private readonly at: Surroundings;
  private readonly contents: Contents;
  private readonly atOnce: number;
  private readonly under = new Map<string, Upload>();
  /** Contents of others that the server has lost: this device may have the last copy. */
  private readonly offered = new Set<string>();
  private askedAt = Number.NEGATIVE_INFINITY;

  /** @param atOnce uploads at once. */
  constructor(at: Surroundings, contents: Contents, atOnce: number) {
    this.at = at;
    this.contents = contents;
    this.atOnce = atOnce;
  }

  /** Tells whether a content is on its way up, or is to be. */
  isUnderWay(id: string): boolean {
    return this.under.has(id) || this.offered.has(id);
  }

  /** The bytes that have gone up of a content that is under way. */
  sentOf(id: string): number | undefined {
    return this.under.get(id)?.sent;
  }

  /** The contents that have yet to go up, in the order in which they were saved. */
  async waiting(isPaused: boolean): Promise<readonly WaitingFile[]> {
    const found: WaitingFile[] = [];
    for (const { file, state } of this.queue()) {
      if (state !== 'unsent') continue;
      const sent = this.sentOf(file.id);
      const asked = sent === undefined ? this.at.confirmed.of(file.id) : undefined;
      // There may be thousands: those that are known cost no turn of the event loop.
      const place = asked instanceof Promise ? await asked : asked;
      const why = isPaused ? 'paused' : place ? 'queued' : 'row';
      found.push({
        file,
        sent: sent ?? 0,
        state: sent === undefined ? (this.at.retries.codeOf(file.id) ?? why) : 'uploading',
      });
    }
    return found;
  }

  /** Begins uploads of contents whose rows the server has, as many as go at once. */
  async sendSome(server: FileServer): Promise<void> {
    for (const { file } of this.queue()) {
      const { id } = file;
      if (this.under.size >= this.atOnce) return;
      if (this.under.has(id) || this.at.retries.waits(id)) continue;
      const place = await this.at.confirmed.of(id);
      const note = this.at.kept.get(id);
      if (place === undefined || note === undefined) continue;
      const abort = new AbortController();
      const done = this.send(server, place, note, abort.signal).finally(() => {
        this.under.delete(id);
        // The next one begins at once.
        this.at.changed(0);
      });
      this.under.set(id, { abort, done, sent: 0 });
    }
  }

  /** Stops all; they go on where they were. */
  async stop(): Promise<void> {
    const stopped = [...this.under.values()];
    for (const { abort } of stopped) abort.abort();
    await Promise.allSettled(stopped.map(({ done }) => done));
  }

  /** Contents that the server does not have any more, its folder having been restored, say: they go up again. */
  async askForLost(server: FileServer): Promise<void> {
    if (systemHost.now() - this.askedAt < askEvery) return;
    const asked = this.at.kept.all().flatMap((note) => {
      const [place] = note.state === 'unsent' ? [] : this.at.places.of(note.file.id);
      return place === undefined ? [] : [{ note, place }];
    });
    for (let from = 0; from < asked.length; from += mostFilesAsked) {
      const some = asked.slice(from, from + mostFilesAsked);
      const places = some.map(({ place }) => place);
      const states = await fileStates(server, places).catch(() => undefined);
      // Asked again when the server can be reached.
      if (states === undefined) return;
      for (const [n, { note }] of some.entries()) {
        if (states[n] !== 'awaited') continue;
        const { id } = note.file;
        if (note.state === 'sent') await this.at.kept.amend(id, (now) => ({ ...now, state: 'unsent' }));
        else this.offered.add(id);
      }
    }
    this.askedAt = systemHost.now();
  }

  private queue(): readonly ContentNote[] {
    return this.at.kept
      .all()
      .filter(({ state, file }) => state === 'unsent' || this.offered.has(file.id))
      .sort((a, b) => a.savedAt - b.savedAt);
  }

  private async send(server: FileServer, place: FileAsked, note: ContentNote, signal: AbortSignal): Promise<void> {
    const { kept, retries } = this.at;
    const { id } = note.file;
    try {
      const content = await this.contents.open(id);
      // Somebody has emptied the folder.
      if (content === undefined) return await kept.forget(id);
      // An address of another server is of no use here.
      const goesOn = note.uploadUrl?.startsWith(server.url) ? note.uploadUrl : undefined;
      const isStored = await sendContent(server, place, content, goesOn, {
        begun: (uploadUrl) => void kept.amend(id, (now) => ({ ...now, uploadUrl })).catch(() => undefined),
        sent: (bytes) => {
          const upload = this.under.get(id);
          if (upload !== undefined) upload.sent = bytes;
          this.at.notify();
        },
        signal,
      });
      // The server may have been killed between the last byte and storing it.
      const [state] = isStored ? ['stored'] : await fileStates(server, [place], signal);
      retries.over(id);
      if (state !== 'stored') return await kept.amend(id, begunAnew);
      this.offered.delete(id);
      await kept.amend(id, (now) => begunAnew({ ...now, state: now.state === 'unsent' ? 'sent' : now.state }));
    } catch (error) {
      if (signal.aborted) return;
      const code = error instanceof KoinonError ? error.code : undefined;
      // A reader of the row may not write it: somebody else has to send the content.
      if (code === 'no-such-file' && this.offered.delete(id)) return;
      retries.failed(id, error);
      if (code === 'no-such-file') this.at.confirmed.forget(id);
      // An upload that did not fit begins anew.
      if (code === 'file-differs' || code === 'no-such-file') await kept.amend(id, begunAnew).catch(() => undefined);
    }
  }
}
