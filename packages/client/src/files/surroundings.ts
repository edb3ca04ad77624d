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
  /** A row that holds a file and that the server has so. */
  confirmedPlace(id: string): Promise<FileAsked | undefined>;
  /** Tells those who listen that something about a content has changed. */
  notify(): void;
  /** There may be something to do, after so many milliseconds. */
  changed(after?: number): void;
}

/** Looks for a confirmed row among the places of a file: one whose base, which the server has sent, holds it. */
export async function confirmedPlace<S extends Schema>(
  replica: Replica<S>,
  places: Places,
  id: string,
): Promise<FileAsked | undefined> {
  for (const place of places.of(id)) {
    const { base } = await replica.rowState(place.table as TableName<S>, place.row);
    const value = (base as AnyRow | null)?.[place.column] as FileValue | null | undefined;
    if (value?.id === id) return place;
  }
  return undefined;
}
