import type { SqlValue } from '@koinon/core';

/** A value that a statement can bind: what SQLite stores, and whole numbers that are to stay whole. */
export type BoundValue = SqlValue | bigint;

/** One prepared statement. Values are bound in the order of the `?` marks. */
export interface SqlStatement {
  /** Runs a statement that returns no rows; says how many rows it changed, and the key of the last inserted one. */
  run(...values: BoundValue[]): { readonly changes: number | bigint; readonly lastInsertRowid: number | bigint };
  /** The first row, or undefined. */
  get(...values: BoundValue[]): unknown;
  /** All rows, as objects by column name. */
  all(...values: BoundValue[]): unknown[];
  /** Row after row, without holding them all. */
  iterate(...values: BoundValue[]): Iterable<unknown>;
  /** Gives the statement's memory back, for an SQLite whose memory is not collected. It is not used again. */
  finalize?(): void;
}

/** An SQLite as Koinon needs it: small and synchronous. All that a storage driver has to bring. */
export interface SqlDriver {
  /** Runs statements without values or results. */
  exec(sql: string): void;
  /** Prepares one statement; throws where SQLite cannot read it. */
  prepare(sql: string): SqlStatement;
  /** Closes the database. Nothing is called afterwards. */
  close(): void;
  /** The place of the data: a file that outlives the process, or memory that does not. */
  readonly storage: 'file' | 'memory';
  /** Tells whether nobody else can write the data while this is open. */
  readonly isExclusive?: boolean;
  /** The bytes of what is written to a file that is there for as long as that takes. */
  copy?(write: (file: string) => void): Uint8Array<ArrayBuffer>;
  /** The identity of the open file, which a copy of it does not share. Left out where files are not copied behind the driver's back. */
  readonly fileId?: string;
  /** Tells whether the file was deleted, or another was put in its place: what is written goes nowhere then. */
  isLost?(): boolean;
  /** Why the data is in memory, where a file was wanted. */
  readonly storageProblem?: string;
}

/** Bytes that the write-ahead log may keep after something large: an app that runs for weeks would keep what it grew to. */
export const logBytes = 8 * 1024 * 1024;
