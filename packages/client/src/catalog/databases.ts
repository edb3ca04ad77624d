import { KoinonError } from '@koinon/core';
import { shown } from '@koinon/core/internal';
import { deletePrivateFile, privateFolders } from '../driver/wasm.ts';

/** One of several replicas on an origin. */
export interface ReplicaEntry {
  /** The name it was opened by: the `name` of `hostTabs`. */
  readonly database: string;
  /** The name that people have given it; null where nobody has. */
  readonly name: string | null;
  /** Bytes on disk. */
  readonly size: number;
}

const nameFile = 'name';

/** The replicas of this origin: of several users, organisations or servers, side by side. */
export async function listReplicas(): Promise<readonly ReplicaEntry[]> {
  const entries: ReplicaEntry[] = [];
  for (const [database, folder] of await privateFolders()) {
    const name = await folder.getFileHandle(nameFile).then(
      async (handle) => (await handle.getFile()).text(),
      () => null,
    );
    entries.push({ database, name, size: await sizeOf(folder) });
  }
  return entries.sort((a, b) => ((a.name ?? a.database) < (b.name ?? b.database) ? -1 : 1));
}

/** Gives a replica the name that people know it by. @throws KoinonError `storage-refused` where there is none. */
export async function renameReplica(database: string, name: string): Promise<void> {
  const folder = (await privateFolders()).get(database);
  if (folder === undefined)
    throw new KoinonError('storage-refused', `There is no replica ${shown(database)} on this origin.`, {
      value: database,
    });
  const writable = await (await folder.getFileHandle(nameFile, { create: true })).createWritable();
  await writable.write(name);
  await writable.close();
}

/** Removes a replica from this origin, with everything in it. No tab may have it open. */
export const deleteReplica = deletePrivateFile;

async function sizeOf(folder: FileSystemDirectoryHandle): Promise<number> {
  let size = 0;
  for await (const handle of folder.values())
    size +=
      handle.kind === 'directory'
        ? await sizeOf(handle as FileSystemDirectoryHandle)
        : (await (handle as FileSystemFileHandle).getFile()).size;
  return size;
}
