import type { ContentNote, Contents, KeptContent } from './contents.ts';

/**
 * Keeps the contents of files in the private files of a page's origin.
 *
 * @param name of the folder: one for each replica.
 * @example
 * const contents = originContents('cooperative')
 */
export function originContents(name: string): Contents {
  let made: Promise<FileSystemDirectoryHandle> | undefined;
  const channel = new BroadcastChannel(`koinon files ${name}`);
  const folder = () => {
    made ??= navigator.storage
      .getDirectory()
      .then((root) => root.getDirectoryHandle('koinon-files', { create: true }))
      .then((all) => all.getDirectoryHandle(encodeURIComponent(name), { create: true }));
    return made;
  };
  const handleOf = async (file: string, create = false) => {
    try {
      return await (await folder()).getFileHandle(file, { create });
    } catch (error) {
      if ((error as Error).name === 'NotFoundError') return undefined;
      throw error;
    }
  };
  const blobOf = async (file: string) => (await handleOf(file))?.getFile();
  const removed = async (file: string) => {
    await (await folder()).removeEntry(file).catch((error: Error) => {
      if (error.name !== 'NotFoundError') throw error;
    });
  };
  return {
    async notes() {
      const found: ContentNote[] = [];
      for await (const [file, handle] of (await folder()).entries()) {
        if (!file.endsWith('.json') || handle.kind !== 'file') continue;
        const text = await textOf(handle as FileSystemFileHandle);
        // The page was closed while it was written.
        if (text !== '') found.push(JSON.parse(text) as ContentNote);
      }
      return found;
    },
    async note(note) {
      const handle = (await handleOf(`${note.file.id}.json`, true)) as FileSystemFileHandle;
      const writing = await handle.createWritable();
      await writing.write(JSON.stringify(note));
      // The note of before is replaced at once, when this ends.
      await writing.close();
      channel.postMessage(note.file.id);
    },
    async sink(id) {
      const handle = (await handleOf(`${id}.part`, true)) as FileSystemFileHandle;
      const { size } = await handle.getFile();
      const writing = await handle.createWritable({ keepExistingData: true });
      await writing.seek(size);
      return {
        size,
        write: (chunk) => writing.write(chunk as Uint8Array<ArrayBuffer>),
        async close() {
          await writing.close();
          const done = await handle.getFile();
          const whole = (await handleOf(`${id}.bin`, true)) as FileSystemFileHandle;
          await done.stream().pipeTo(await whole.createWritable());
          await removed(`${id}.part`);
        },
        async stop(keep) {
          await writing.close();
          if (!keep) await removed(`${id}.part`);
        },
      };
    },
    part: (id) => blobOf(`${id}.part`),
    open: (id) => blobOf(`${id}.bin`),
    async kept() {
      const found: KeptContent[] = [];
      for await (const [file, handle] of (await folder()).entries()) {
        const [id = ''] = file.split('.');
        if (handle.kind === 'file')
          found.push({ id, changedAt: (await (handle as FileSystemFileHandle).getFile()).lastModified });
      }
      return found;
    },
    async remove(id) {
      for (const ending of ['.json', '.part', '.bin']) await removed(`${id}${ending}`);
      channel.postMessage(id);
    },
    lead(begin) {
      const ended = new AbortController();
      let end = () => {};
      const over = new Promise<void>((done) => {
        end = done;
      });
      void navigator.locks
        .request(`koinon files ${name}`, { signal: ended.signal }, () => {
          begin();
          return over;
        })
        // It was ended while it waited.
        .catch(() => undefined);
      return () => {
        ended.abort();
        end();
        channel.close();
      };
    },
    watch(listener) {
      channel.addEventListener('message', listener);
      return () => channel.removeEventListener('message', listener);
    },
  };
}

/** The text of a file; empty where another tab has removed it meanwhile. */
async function textOf(handle: FileSystemFileHandle): Promise<string> {
  try {
    return await (await handle.getFile()).text();
  } catch (error) {
    if ((error as Error).name === 'NotFoundError') return '';
    throw error;
  }
}
