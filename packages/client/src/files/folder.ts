import { openAsBlob } from 'node:fs';
import { mkdir, open, readdir, readFile, rename, rm, stat, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { ContentNote, Contents, KeptContent } from './contents.ts';

/**
 * Keeps the contents of files in a folder: beside the database, say.
 *
 * @example
 * const contents = folderContents('phone.db.files')
 */
export function folderContents(folder: string): Contents {
  const at = (id: string, ending: string) => join(folder, `${id}${ending}`);
  const made = mkdir(folder, { recursive: true });
  const blobOf = async (path: string) => {
    await made;
    const there = await stat(path).catch(absent);
    return there === undefined ? undefined : openAsBlob(path);
  };
  /** New names of files are on the disk after this. Windows does that by itself. */
  const flushed = async () => {
    if (process.platform === 'win32') return;
    const handle = await open(folder, 'r');
    await handle.sync().finally(() => handle.close());
  };
  return {
    async notes() {
      await made;
      const found: ContentNote[] = [];
      for (const name of await readdir(folder)) {
        if (!name.endsWith('.json')) continue;
        const text = await readFile(join(folder, name), 'utf8').catch(absent);
        if (text !== undefined) found.push(JSON.parse(text) as ContentNote);
      }
      return found;
    },
    async note(note) {
      await made;
      const path = at(note.file.id, '.json');
      await writeFile(`${path}.part`, JSON.stringify(note), { flush: true });
      await rename(`${path}.part`, path);
      await flushed();
    },
    async sink(id) {
      await made;
      const path = at(id, '.part');
      const handle = await open(path, 'a');
      const { size } = await handle.stat();
      return {
        size,
        async write(chunk) {
          await handle.writeFile(chunk);
        },
        async close() {
          await handle.sync();
          await handle.close();
          await rename(path, at(id, '.bin'));
          await flushed();
        },
        async stop(keep) {
          await handle.close();
          if (!keep) await rm(path, { force: true });
        },
      };
    },
    part: (id) => blobOf(at(id, '.part')),
    open: (id) => blobOf(at(id, '.bin')),
    async kept() {
      await made;
      const found: KeptContent[] = [];
      for (const name of await readdir(folder)) {
        const there = await stat(join(folder, name)).catch(absent);
        const [id = ''] = name.split('.');
        if (there !== undefined) found.push({ id, changedAt: there.mtimeMs });
      }
      return found;
    },
    async remove(id) {
      await made;
      for (const ending of ['.json', '.json.part', '.part', '.bin']) await rm(at(id, ending), { force: true });
    },
  };
}

/** A file of this machine as something to save: it is read when it is saved. */
export function fileAt(path: string): Promise<Blob> {
  return openAsBlob(path);
}

function absent(error: { code?: string }): undefined {
  if (error.code !== 'ENOENT') throw error;
}
