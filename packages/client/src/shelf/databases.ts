import { deletePrivateFile, privateFolders } from '../storage/wasm.ts';

/** One of several databases on an origin. */
export interface DatabaseEntry {
  /** What it was opened by: the `name` of `hostTabs`. */
  readonly name: string;
  /** What people call it; null where nobody has given it a name. */
  readonly label: string | null;
  /** Bytes on disk. */
  readonly size: number;
}

const labelFile = 'label';

/** The databases of this origin: of several users, organisations or servers, side by side. */
export async function listDatabases(): Promise<readonly DatabaseEntry[]> {
  const entries: DatabaseEntry[] = [];
  for (const [name, folder] of await privateFolders()) {
    const label = await folder.getFileHandle(labelFile).then(
      async (handle) => (await handle.getFile()).text(),
      () => null,
    );
    entries.push({ name, label, size: await sizeOf(folder) });
  }
  return entries.sort((a, b) => ((a.label ?? a.name) < (b.label ?? b.name) ? -1 : 1));
}

/** Gives a database the name that people know it by. @throws DOMException `NotFoundError` where there is none. */
export async function labelDatabase(name: string, label: string): Promise<void> {
  const folder = (await privateFolders()).get(name);
  if (folder === undefined) throw new DOMException(`There is no database ${name} on this origin.`, 'NotFoundError');
  const writable = await (await folder.getFileHandle(labelFile, { create: true })).createWritable();
  await writable.write(label);
  await writable.close();
}

/** Removes a database from this origin, with everything in it. No tab may have it open. */
export const deleteDatabase = deletePrivateFile;

async function sizeOf(folder: FileSystemDirectoryHandle): Promise<number> {
  let size = 0;
  for await (const handle of folder.values())
    size +=
      handle.kind === 'directory'
        ? await sizeOf(handle as FileSystemDirectoryHandle)
        : (await (handle as FileSystemFileHandle).getFile()).size;
  return size;
}
