import type { AnyRow, FileAsked, FileValue, Schema, TableName } from '@koinon/core';
import type { Replica } from '../replica/replica.ts';
import type { Kept } from './kept.ts';
import type { Places } from './place.ts';
import type { Retries } from './retries.ts';
import type { FileServer } from './server.ts';

/** What the parts of a device's files share. */
export interface Surroundings {
  readonly server: FileServer | undefined;
  readonly kept: Kept;
  readonly places: Places;
  readonly retries: Retries;
  readonly confirmed: Pick<ConfirmedPlaces<Schema>, 'of' | 'forget'>;
  /** Tells those who listen that something about a content has changed. */
  notify(): void;
  /** There may be something to do, after so many milliseconds. */
  changed(after?: number): void;
}

/**
 * The confirmed rows of files: those whose base, which the server has sent, holds the file. Answers are remembered, since each takes a query, and
 * apps ask after each step of each upload.
 */
export class ConfirmedPlaces<S extends Schema> {
  private readonly replica: Replica<S>;
  private readonly places: Places;
  private readonly found = new Map<string, FileAsked>();
  private readonly unconfirmed = new Set<string>();
  /** Counts what may have changed an answer: one that was asked for before is not remembered. */
  private changes = 0;

  constructor(replica: Replica<S>, places: Places) {
    this.replica = replica;
    this.places = places;
  }

  /** A row that holds a file and that the server has so. A promise only where that is not known. */
  of(id: string): FileAsked | undefined | Promise<FileAsked | undefined> {
    return this.unconfirmed.has(id) ? undefined : (this.found.get(id) ?? this.find(id));
  }

  private async find(id: string): Promise<FileAsked | undefined> {
    const { changes } = this;
    for (const place of this.places.of(id)) {
      const { base } = await this.replica.rowState(place.table as TableName<S>, place.row);
      const value = (base as AnyRow | null)?.[place.column] as FileValue | null | undefined;
      if (value?.id !== id) continue;
      if (this.changes === changes) this.found.set(id, place);
      return place;
    }
    if (this.changes === changes) this.unconfirmed.add(id);
    return undefined;
  }

  /** A row of the file is another one than before, or the server says that it is. */
  forget(id: string): void {
    this.changes++;
    this.found.delete(id);
    this.unconfirmed.delete(id);
  }

  /** Rows may have been confirmed. */
  lookAgain(): void {
    this.changes++;
    this.unconfirmed.clear();
  }
}
