import { createHash } from 'node:crypto';
import type { FileAsked } from '@koinon/core';

/** Content that is stored: which file it is, and in which row and column somebody put it. */
export interface StoredFile {
  /** The row and column for which it was sent; the content is that place's. */
  readonly place: FileAsked;
  /** The SHA-256 of the content, in hexadecimal digits. */
  readonly sha256: string;
  /** Its size in bytes. */
  readonly bytes: number;
  /** When it was stored, in milliseconds since 1970. */
  readonly storedAt: number;
  /** Since when its row does not hold it, as far as somebody has looked; in milliseconds since 1970. */
  readonly unheldSince?: number;
}

/** A part of a content, in bytes; `end` is the last one. */
export interface ByteRange {
  readonly start: number;
  readonly end: number;
}

/**
 * The place where a server keeps the contents of files. Contents are found by the id of the file and the row and column that they were
 * sent for. A stored content does not change.
 */
export interface FileStorage {
  /** The contents that are stored of a file. One is told only where its bytes are there as well: a storage may have lost some. */
  find(id: string): Promise<readonly StoredFile[]>;
  /** A stream of a content, or of a part of it. */
  read(file: StoredFile, range?: ByteRange): Promise<NodeJS.ReadableStream>;
  /** Stores a content that lies in a file of the server's own, and takes that away. Whole, or not at all. */
  put(file: StoredFile, from: string): Promise<void>;
  /** Writes down anew what is known of a stored content. */
  note(file: StoredFile): Promise<void>;
  /** Removes a content. */
  remove(file: StoredFile): Promise<void>;
  /** All that is stored, in no order. */
  all(): AsyncIterable<StoredFile>;
  /** A folder of this machine for uploads that are under way; several processes need the same one. */
  readonly uploads: string;
}

/** A name that no other place has, and that every storage takes. */
export function placeName({ table, row, column }: FileAsked): string {
  return createHash('sha256')
    .update(JSON.stringify([table, row, column]))
    .digest('hex')
    .slice(0, 40);
}
