import { systemHost } from '../host/host.ts';
import type { ContentNote, Contents } from './contents.ts';
import type { Places } from './place.ts';

/** Milliseconds that a content stays which no row holds, or that has come in part: an undo may bring the row back, or somebody goes on with it. */
const keepUnheld = 86_400_000;

/** Milliseconds between two searches for what nobody knows of. */
const tidyEvery = 3_600_000;

/** Tells whether a content may make room for another one. */
const isMovable = ({ state, isPinned }: ContentNote) => state !== 'unsent' && !isPinned;

/** The contents that are on this device, as far as they are noted. */
export class Kept {
  private readonly contents: Contents;
  private readonly changed: () => void;
  private readonly notes = new Map<string, ContentNote>();
  /** Contents that are being saved: another tab does not know of them yet. */
  readonly saving = new Set<string>();
  private readonly writing = new Map<string, Promise<void>>();
  private tidiedAt = Number.NEGATIVE_INFINITY;

  /** @param changed called when something was noted or removed. */
  constructor(contents: Contents, changed: () => void) {
    this.contents = contents;
    this.changed = changed;
  }

  get(id: string): ContentNote | undefined {
    return this.notes.get(id);
  }

  has(id: string): boolean {
    return this.notes.has(id);
  }

  all(): readonly ContentNote[] {
    return [...this.notes.values()];
  }

  /** Reads the notes, which other tabs write as well. */
  async read(): Promise<void> {
    const found = await this.contents.notes();
    const ids = new Set(found.map(({ file }) => file.id));
    for (const id of this.notes.keys()) if (!ids.has(id) && !this.saving.has(id)) this.notes.delete(id);
    for (const note of found) this.notes.set(note.file.id, note);
  }

  /** Notes a content that has just been stored. */
  async put(note: ContentNote): Promise<void> {
    const { id } = note.file;
    this.notes.set(id, note);
    await this.inTurn(id, async () => {
      // A later note is written at once; a content that was removed has no note.
      const now = this.notes.get(id);
      if (now !== undefined) await this.contents.note(now);
    });
    this.changed();
  }

  /** One after the other for each content: of two notes written at once the earlier one might be the one that stays. */
  private async inTurn(id: string, work: () => Promise<void>): Promise<void> {
    const before = this.writing.get(id);
    const turn = (before ?? Promise.resolve()).catch(() => undefined).then(work);
    this.writing.set(id, turn);
    try {
      await turn;
    } finally {
      if (this.writing.get(id) === turn) this.writing.delete(id);
    }
  }

  /** Changes the note of a content as it is by now; a content that has been removed meanwhile stays removed. */
  async amend(id: string, change: (note: ContentNote) => ContentNote): Promise<void> {
    const note = this.notes.get(id);
    if (note !== undefined) await this.put(change(note));
  }

  /** Removes a content, and what has come of it in part. */
  async forget(id: string): Promise<void> {
    this.notes.delete(id);
    await this.inTurn(id, () => this.contents.remove(id));
    this.changed();
  }

  /** Removes everything that is there. */
  async erase(): Promise<void> {
    for (const { id } of await this.contents.kept()) await this.forget(id);
    for (const id of [...this.notes.keys()]) await this.forget(id);
  }

  /** The bytes that contents take which count for the budget. */
  taken(): number {
    return this.all().reduce((sum, note) => (isMovable(note) ? sum + note.file.bytes : sum), 0);
  }

  /** Removes contents that were used longest ago, until the others fit. Those stay that the server does not have. */
  async makeRoom(budget: number, isWanted: (id: string) => boolean): Promise<void> {
    const movable = this.all().filter((note) => isMovable(note) && !isWanted(note.file.id));
    let taken = movable.reduce((sum, { file }) => sum + file.bytes, 0);
    for (const { file } of movable.sort((a, b) => a.usedAt - b.usedAt)) {
      if (taken <= budget) return;
      taken -= file.bytes;
      await this.forget(file.id);
    }
  }

  /** Removes contents that no row holds any more: at once where the server has them, after a day where it has not. */
  async collect(places: Places, isBusy: (id: string) => boolean): Promise<void> {
    const now = systemHost.now();
    for (const { file, state, unheldSince } of this.all()) {
      const { id } = file;
      if (this.saving.has(id)) continue;
      if (places.of(id).length > 0) {
        if (unheldSince !== undefined) await this.amend(id, ({ unheldSince: _held, ...note }) => note);
      } else if (state === 'unsent' && unheldSince === undefined)
        await this.amend(id, (note) => ({ ...note, unheldSince: now }));
      else if (!isBusy(id) && (state !== 'unsent' || now - (unheldSince ?? now) >= keepUnheld)) await this.forget(id);
    }
    if (now - this.tidiedAt < tidyEvery) return;
    this.tidiedAt = now;
    // Parts that nobody goes on with: the process was killed while one was saved, say.
    for (const { id, changedAt } of await this.contents.kept())
      if (!this.has(id) && !this.saving.has(id) && !isBusy(id) && now - changedAt >= keepUnheld)
        await this.contents.remove(id);
  }
}
