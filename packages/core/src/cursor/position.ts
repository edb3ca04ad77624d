/**
 * A point in a feed, as the store that made it writes it: a decimal integer on SQLite. Only that store compares or
 * computes with it.
 */
export type Position = string;

/** How far an unfinished first download has come: every row up to this key has been sent. */
export interface Resume {
  readonly table: string;
  /** The last id sent; null before the table's first row. */
  readonly after: string | null;
}

/**
 * What a cursor says. Devices hold it sealed and never look inside: the set of positions known there, the feed they
 * belong to, the schema version they were given for, and how far a first download has come.
 */
export interface Cursor {
  readonly feed: string;
  readonly known: Position;
  readonly schemaVersion: number;
  readonly resume?: Resume;
}
