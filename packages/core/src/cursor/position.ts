import type { Condition } from '../query/condition.ts';

/**
 * A point in a feed, as the store that made it writes it: a decimal integer on SQLite. Only that store compares or
 * computes with it.
 */
export type Position = string;

/** Which rows and columns of one table a cursor was given for. */
export interface TableFilter {
  /** The rows; all of them without it. */
  readonly where?: Condition;
  /** Columns that are left out. */
  readonly without?: readonly string[];
}

/** The part that a cursor was given for, by table; a table that is not named is given whole. */
export type Scope = Readonly<Record<string, TableFilter>>;

/** How far an unfinished first download has come: every row up to this key has been sent. */
export interface Resume {
  readonly table: string;
  /** The last id sent; null before the table's first row. */
  readonly after: string | null;
}

/**
 * The content of a cursor. Devices hold it sealed and never look inside: the set of positions known there, the feed they
 * belong to, the scope and schema version they were given for, and how far a first download has come.
 */
export interface Cursor {
  readonly feed: string;
  readonly known: Position;
  /**
   * The position at which the pages of a long delta began: a row that has changed again since is sent with all that became of it from
   * there on, for an earlier page may have left it out.
   */
  readonly since?: Position;
  /**
   * How far the feed had come when the last page of such a delta was read. That page left out what had changed again by then: no later page may be
   * read from an earlier state.
   */
  readonly readAt?: Position;
  readonly schemaVersion: number;
  /** Whose it is, where the server knows users: to another it would tell what that one had. */
  readonly user?: string;
  readonly scope?: Scope;
  /** Rows by key come first: those of the scope that are not surely there, and those that are no longer of it. */
  readonly resume?: Resume;
  /** While rows come by key: the scope whose rows were there before; without it none were. */
  readonly held?: Scope;
  /** Other scopes of which rows may be there, until the changes behind the rows by key have been sent. */
  readonly also?: readonly PassedScope[];
}

/** A scope of which rows may be there. */
export interface PassedScope {
  readonly scope: Scope;
  /**
   * How far the feed had come when its rows were last read by key; without it they were not. A row that was made, or moved into
   * the scope, later than this and than the cursor cannot be there for it.
   */
  readonly readAt?: Position;
}
