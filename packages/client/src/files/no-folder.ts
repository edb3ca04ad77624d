import { KoinonError } from '@koinon/core';
import type { Contents } from './contents.ts';

/** A folder is nothing that this shell has. @throws KoinonError `storage-unavailable`. */
export function folderContents(folder: string): Contents {
  throw new KoinonError('storage-unavailable', 'There are no folders here: use originContents in a browser.', {
    value: folder,
  });
}

/** Neither has it files by their paths. @throws KoinonError `storage-unavailable`. */
export async function fileAt(path: string): Promise<Blob> {
  throw new KoinonError('storage-unavailable', 'There are no paths here: save a Blob or File.', { value: path });
}
