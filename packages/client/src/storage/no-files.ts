import { KoinonError } from '@koinon/core';
import type { SqlDriver } from './driver.ts';
import type { NodeDriverOptions } from './node.ts';

/** Stands for Node's driver in a browser, where a replica has no path. @throws KoinonError `storage-unavailable`. */
export async function openNodeDriver({ file }: NodeDriverOptions): Promise<SqlDriver> {
  throw new KoinonError(
    'storage-unavailable',
    `A browser opens no ${file}; run the replica in a worker by hostTabs of @koinon/client/browser.`,
    { value: file },
  );
}

/** A browser has no file to copy. @throws KoinonError `storage-unavailable`. */
export async function copyPrebuilt(prebuilt: string, _file: string): Promise<void> {
  await openNodeDriver({ file: prebuilt });
}

/** A browser has no folders to look into; see `listDatabases` of @koinon/client/browser. */
export async function filesOf(_folder: string): Promise<readonly string[]> {
  return [];
}

export async function sizeOfFile(_file: string): Promise<number> {
  return 0;
}

export async function removeFile(file: string): Promise<void> {
  await openNodeDriver({ file });
}
