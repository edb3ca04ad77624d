import { type FileValue, KoinonError } from '@koinon/core';
import { streamingDigest } from '#streaming-digest';
import { systemHost } from '../host/host.ts';
import type { ContentNote, Contents } from './contents.ts';
import { cancelled, storageFault } from './faults.ts';
import { chunksOf } from './source.ts';

/** The outcome of copying contents from one place to another. */
export interface CopiedFiles {
  /** The contents that were copied, and their bytes. */
  readonly copied: number;
  readonly bytes: number;
  /** The files that rows hold and whose content was not where it was copied from. */
  readonly missing: readonly FileValue[];
}

/** How contents are copied. */
export interface CopyOptions {
  /** Stops; what has been copied stays. */
  readonly signal?: AbortSignal;
  /** Told after each content: how many have been looked at, of how many. */
  readonly onProgress?: (done: number, of: number) => void;
}

/**
 * Copies contents that the other place does not have, each verified by its digest.
 *
 * @param noteOf the note with which a content is kept in the other place.
 */
export async function copyContents(
  wanted: readonly FileValue[],
  from: Contents,
  to: Contents,
  noteOf: (file: FileValue) => Promise<ContentNote>,
  { signal, onProgress }: CopyOptions,
): Promise<CopiedFiles> {
  const there = new Set((await to.notes()).map(({ file }) => file.id));
  const missing: FileValue[] = [];
  let [copied, bytes] = [0, 0];
  for (const [n, file] of wanted.entries()) {
    if (signal?.aborted) throw cancelled(signal.reason);
    if (!there.has(file.id)) {
      const content = await from.open(file.id);
      if (content === undefined || !(await copyOne(file, content, to))) missing.push(file);
      else {
        await to.note(await noteOf(file));
        copied++;
        bytes += file.bytes;
      }
    }
    onProgress?.(n + 1, wanted.length);
  }
  return { copied, bytes, missing };
}

/** Copies one. False where it is not what its description says. */
async function copyOne(file: FileValue, content: Blob, to: Contents): Promise<boolean> {
  const digest = streamingDigest();
  // The part that an earlier copying has left may be of something else.
  await to.remove(file.id);
  const sink = await to.sink(file.id);
  try {
    for await (const chunk of chunksOf(content)) {
      digest.update(chunk);
      await sink.write(chunk);
    }
    if (content.size !== file.bytes || digest.result() !== file.sha256) {
      await sink.stop(false);
      return false;
    }
    await sink.close();
    return true;
  } catch (error) {
    await sink.stop(false).catch(() => undefined);
    const fault = storageFault(error);
    throw fault instanceof KoinonError
      ? fault
      : new KoinonError('storage-unavailable', 'A content could not be copied.', { cause: error });
  }
}

/** The note of a content that the device has had before. */
export function copiedNote(file: FileValue, state: ContentNote['state']): ContentNote {
  const now = systemHost.now();
  return { file, state, savedAt: now, usedAt: now };
}
