import { createReadStream, mkdirSync } from 'node:fs';
import { copyFile, mkdir, open, readdir, readFile, rename, rm, stat, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { FileAsked } from '@koinon/core';
import { type FileStorage, placeName, type StoredFile } from './storage.ts';

/**
 * Keeps the contents of files in a folder: of each a file with the content, and one that says what it is. Several server processes may share
 * the folder.
 *
 * @example
 * await startServer({ store, files: folderStorage('server-files') })
 */
export function folderStorage(folder: string): FileStorage {
  const uploads = join(folder, 'uploads');
  const stored = join(folder, 'stored');
  mkdirSync(uploads, { recursive: true });
  mkdirSync(stored, { recursive: true });
  const folderOf = (id: string) => join(stored, id.slice(-2), id);
  const fileOf = (place: FileAsked) => join(folderOf(place.id), placeName(place));
  const noteOf = ({ place }: StoredFile) => `${fileOf(place)}.json`;
  const listed = async (path: string) => readdir(path).catch(absent([] as string[]));
  const inFolder = async (path: string): Promise<StoredFile[]> => {
    const found: StoredFile[] = [];
    for (const name of await listed(path)) {
      if (!name.endsWith('.json')) continue;
      // Removed meanwhile, perhaps.
      const text = await readFile(join(path, name), 'utf8').catch(absent(undefined));
      if (text === undefined) continue;
      const file = JSON.parse(text) as StoredFile;
      // A folder that was put back to an older state may lack a content.
      const there = await stat(join(path, name.slice(0, -'.json'.length))).catch(absent(undefined));
      if (there?.size === file.bytes) found.push(file);
    }
    return found;
  };
  /** Writes a note, which counts once it has its name. */
  const write = (file: StoredFile) => writeFile(`${noteOf(file)}.part`, JSON.stringify(file), { flush: true });
  const name = async (file: StoredFile) => {
    await rename(`${noteOf(file)}.part`, noteOf(file));
    // Windows keeps new names by itself.
    if (process.platform !== 'win32') await flushed(folderOf(file.place.id), 'r');
  };
  return {
    uploads,
    async note(file) {
      await write(file);
      await name(file);
    },
    find: (id) => inFolder(folderOf(id)),
    read: async ({ place }, range) => createReadStream(fileOf(place), range),
    async put(file, from) {
      const to = fileOf(file.place);
      await mkdir(folderOf(file.place.id), { recursive: true });
      // Both are on the disk before either has its name.
      await Promise.all([flushed(from), write(file)]);
      await rename(from, to).catch(async (error: { code?: string }) => {
        // The uploads lie on another disk.
        if (error.code !== 'EXDEV') throw error;
        await copyFile(from, `${to}.part`);
        await flushed(`${to}.part`);
        await rename(`${to}.part`, to);
        await rm(from, { force: true });
      });
      // Only with this it counts as stored.
      await name(file);
    },
    async remove({ place }) {
      await rm(`${fileOf(place)}.json`, { force: true });
      await rm(fileOf(place), { force: true });
    },
    async *all() {
      for (const group of await listed(stored))
        for (const id of await listed(join(stored, group))) yield* await inFolder(join(stored, group, id));
    },
  };
}

async function flushed(path: string, mode = 'r+'): Promise<void> {
  const handle = await open(path, mode);
  try {
    await handle.sync();
  } finally {
    await handle.close();
  }
}

/** Takes a file or folder that is not there for this; other errors stay errors. */
function absent<T>(instead: T) {
  return (error: { code?: string }): T => {
    if (error.code === 'ENOENT') return instead;
    throw error;
  };
}
