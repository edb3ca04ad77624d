import { randomBytes } from 'node:crypto';
import { openReplica, type SyncOptions } from '@koinon/client';
import { folderContents, openFiles } from '@koinon/client/files';
import { type FileValue, file, schema, table } from '@koinon/core';

/** The schema of the rows `files`. */
export const album = schema({ film: table({ content: file({ maximumBytes: 4_000_000_000 }) }) });

/** A device with an album. */
export async function openAlbum(url: string, path: string, sync?: SyncOptions) {
  const replica = await openReplica({ schema: album, server: url, file: `${path}.db`, ...(sync && { sync }) });
  const files = await openFiles(replica, { server: url, contents: folderContents(`${path}.files`) });
  return {
    replica,
    files,
    /** Saves a film of so many bytes, and has its row confirmed; nothing is sent of its content. */
    async film(bytes: number): Promise<FileValue> {
      files.pause();
      const content = await files.saveFile(pieces(bytes), { type: 'application/octet-stream' });
      await replica.insert('film', { content });
      await replica.sync();
      return content;
    },
    /** Sends what waits. */
    send: () =>
      new Promise<void>((done, failed) => {
        const stop = files.subscribe(async () => {
          const waiting = await files.waiting();
          const fault = waiting.find(({ state }) => !['queued', 'uploading', 'row'].includes(state));
          if (waiting.length > 0 && fault === undefined) return;
          stop();
          if (fault === undefined) done();
          else failed(new Error(fault.state));
        });
        files.resume();
      }),
    async close() {
      await files.close();
      await replica.close();
    },
  };
}

/** Bytes that nothing makes smaller, a piece at a time. */
export async function* pieces(bytes: number): AsyncGenerator<Uint8Array> {
  const piece = randomBytes(1_000_000);
  for (let left = bytes; left > 0; left -= piece.byteLength) yield piece.subarray(0, Math.min(left, piece.byteLength));
}
