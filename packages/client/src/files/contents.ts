import type { FileValue } from '@koinon/core';
import { systemHost } from '../host/host.ts';

/** The note of a content that a device holds. */
export interface ContentNote {
  readonly file: FileValue;
  /** `unsent`: made here, and not on the server yet. `sent`: made here, and there as well. `fetched`: from the server. */
  readonly state: 'unsent' | 'sent' | 'fetched';
  /** When it was saved or fetched, and when it was opened last, in milliseconds since 1970. */
  readonly savedAt: number;
  readonly usedAt: number;
  /** Since when no row holds it, in milliseconds since 1970: an undo may bring one back. */
  readonly unheldSince?: number;
  /** The address at which the upload goes on. */
  readonly uploadUrl?: string;
  /** It stays, whatever room is needed. */
  readonly isPinned?: boolean;
}

/** A content that is there, whole or in part. */
export interface KeptContent {
  readonly id: string;
  readonly changedAt: number;
}

/** Takes a content in, piece by piece. */
export interface ContentSink {
  /** The bytes that are there already, of an earlier try. */
  readonly size: number;
  /** Takes the next piece. */
  write(chunk: Uint8Array): Promise<void>;
  /** All has come: from now on it is there under its id. */
  close(): Promise<void>;
  /** Stops. The part that has come stays for the next try, or goes. */
  stop(keep: boolean): Promise<void>;
}

/**
 * The place on a device where the contents of files are. A content is there whole or not at all, also after the process was killed. A shell of your
 * own may bring one.
 */
export interface Contents {
  /** The notes of all contents. */
  notes(): Promise<readonly ContentNote[]>;
  /** Writes down what is known of a content. */
  note(note: ContentNote): Promise<void>;
  /** Begins to take a content in, or goes on with it. */
  sink(id: string): Promise<ContentSink>;
  /** The part that has come of a content. */
  part(id: string): Promise<Blob | undefined>;
  /** A content, read when somebody reads it. */
  open(id: string): Promise<Blob | undefined>;
  /** All contents that are there, also those that have come in part or have no note, and when each changed last, in milliseconds since 1970. */
  kept(): Promise<readonly KeptContent[]>;
  /** Removes a content and its note. */
  remove(id: string): Promise<void>;
  /**
   * Several tabs or processes may have the same contents: calls `begin` when this one is to send and tidy, which one does at a time. Returns a
   * function that lets the next one begin. Without it this one always is.
   */
  lead?(begin: () => void): () => void;
  /** Calls when another one has noted or removed something. Returns a function that ends that. */
  watch?(listener: () => void): () => void;
}

/**
 * Keeps the contents of files in memory: for tests, and where there is no storage. They are gone with the process.
 *
 * @example
 * const contents = memoryContents()
 */
export function memoryContents(): Contents {
  const notes = new Map<string, ContentNote>();
  const whole = new Map<string, Blob>();
  const parts = new Map<string, Uint8Array<ArrayBuffer>[]>();
  const sizeOf = (chunks: readonly Uint8Array[]) => chunks.reduce((sum, { byteLength }) => sum + byteLength, 0);
  return {
    notes: async () => [...notes.values()],
    note: async (note) => void notes.set(note.file.id, note),
    async sink(id) {
      const chunks = parts.get(id) ?? [];
      parts.set(id, chunks);
      return {
        size: sizeOf(chunks),
        write: async (chunk) => void chunks.push(new Uint8Array(chunk)),
        async close() {
          whole.set(id, new Blob(chunks));
          parts.delete(id);
        },
        async stop(keep) {
          if (!keep) parts.delete(id);
        },
      };
    },
    part: async (id) => (parts.has(id) ? new Blob(parts.get(id)) : undefined),
    open: async (id) => whole.get(id),
    // Nothing is left over of a process that was killed.
    kept: async () => [...whole.keys(), ...parts.keys()].map((id) => ({ id, changedAt: systemHost.now() })),
    async remove(id) {
      notes.delete(id);
      whole.delete(id);
      parts.delete(id);
    },
  };
}
