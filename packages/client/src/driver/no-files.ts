import { KoinonError } from '@koinon/core';
import type { SqlDriver } from './driver.ts';
import type { NodeDriverOptions } from './node.ts';

/** Stands for Node's driver in browsers and other shells, where a replica has no path. @throws KoinonError `storage-unavailable`. */
export async function openNodeDriver({ file }: NodeDriverOptions): Promise<SqlDriver> {
  throw new KoinonError(
    'storage-unavailable',
    `There are no files here to open ${file} as. In a browser run the replica in a worker by hostTabs of @koinon/client/browser; elsewhere give it a driver.`,
    { value: file },
  );
}

/** A browser has no file to copy. @throws KoinonError `storage-unavailable`. */
export async function copyPrebuilt(prebuilt: string, _file: string): Promise<void> {
  await openNodeDriver({ file: prebuilt });
}

/** A browser has no folders to look into; see `listReplicas` of @koinon/client/browser. */
export async function filesOf(_folder: string): Promise<readonly string[]> {
  return [];
}

export async function sizeOfFile(_file: string): Promise<number> {
  return 0;
}

export async function removeFile(file: string): Promise<void> {
  await openNodeDriver({ file });
}
