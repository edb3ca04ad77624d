import { KoinonError } from '@koinon/core';
import { replicaApplicationId } from '@koinon/core/internal';
import { filesOf, openNodeDriver, removeFile, sizeOfFile } from '#node-driver';
import { Database } from '../database/database.ts';
import { meta, setMeta } from '../database/layout.ts';
import { countUnsent } from '../outbox/stored.ts';

/** One of several replicas on a device. */
export interface ReplicaFile {
  /** Its place. */
  readonly file: string;
  /** The name that people have given it; null where nobody has. */
  readonly name: string | null;
  /** Whose it is, as the server last said. */
  readonly user: string | null;
  /** Bytes on disk. */
  readonly size: number;
  readonly replicaId: string;
  /** Tells whether it is tied to a server: false after it was unlinked, or where it never met one. */
  readonly isLinked: boolean;
  /** Transactions that no server has confirmed. */
  readonly unsent: number;
}

/**
 * The replicas in a folder, by name and file: of several users, organisations or servers, side by side. A new one is made
 * by opening a file that is not there. Files that are none are passed over.
 *
 * @example
 * for (const { name, file, unsent } of await listReplicas('.')) show(name ?? file, unsent)
 */
export async function listReplicas(folder: string): Promise<readonly ReplicaFile[]> {
  const found: ReplicaFile[] = [];
  for (const file of await filesOf(folder)) {
    const database = await openReplicaFile(file, true).catch(() => undefined);
    if (database === undefined) continue;
    try {
      found.push({
        file,
        name: meta(database, 'name') ?? null,
        user: meta(database, 'user') ?? null,
        size: await sizeOfFile(file),
        replicaId: meta(database, 'replica') ?? '',
        isLinked: meta(database, 'cursor') !== undefined && meta(database, 'unlinked') === undefined,
        unsent: countUnsent(database),
      });
    } finally {
      database.close();
    }
  }
  return found.sort((a, b) => ((a.name ?? a.file) < (b.name ?? b.file) ? -1 : 1));
}

/**
 * Gives a replica the name that people know it by.
 *
 * @throws KoinonError `storage-foreign`, `storage-refused`.
 * @example
 * await renameReplica('phone.db', 'The cooperative')
 */
export async function renameReplica(file: string, name: string): Promise<void> {
  const database = await openReplicaFile(file, false);
  try {
    database.transact(() => setMeta(database, 'name', name));
  } finally {
    database.close();
  }
}

/**
 * Removes a replica from the device, with all that is unsent: {@link listReplicas} says whether anything is. Close it first.
 *
 * @throws KoinonError `storage-foreign`, `storage-refused` for what is no replica.
 * @example
 * const [first] = await listReplicas('.')
 * if (first?.unsent === 0) await deleteReplica(first.file)
 */
export async function deleteReplica(file: string): Promise<void> {
  (await openReplicaFile(file, true)).close();
  await removeFile(file);
}

async function openReplicaFile(file: string, readOnly: boolean): Promise<Database> {
  // Opening one that is not there would make it.
  if ((await sizeOfFile(file)) === 0)
    throw new KoinonError('storage-refused', `There is no replica ${file}.`, { value: file });
  const database = new Database(await openNodeDriver({ file, readOnly }));
  const [{ application_id: found }] = database.once('PRAGMA application_id') as [{ application_id: number }];
  if (found === replicaApplicationId) return database;
  database.close();
  throw new KoinonError('storage-foreign', `${file} is an SQLite database, but not a Koinon replica.`, { value: file });
}
