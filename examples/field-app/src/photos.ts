import { type Files, openFiles, originContents } from '@koinon/client/files';
import type { FileValue } from '@koinon/core';
import type { cooperative } from '@koinon/demo';
import { bookOf, tokenOf } from './book.ts';
import type { FieldReplica } from './replica.ts';

export type Photos = Files<typeof cooperative>;

const opened = new WeakMap<FieldReplica, Promise<Photos>>();

/** The photos of the book. */
export function photosOf(replica: FieldReplica): Promise<Photos> {
  const known = opened.get(replica);
  if (known !== undefined) return known;
  const { address, member, name } = bookOf(new URLSearchParams(location.search));
  const opening = openFiles(replica, {
    contents: originContents(name),
    ...(address === undefined ? {} : { server: address }),
    ...(member === null ? {} : { token: () => tokenOf(member) }),
    ahead: { photo: ['preview'] },
  });
  opened.set(replica, opening);
  // Whoever asks after a failure tries again.
  opening.catch(() => opened.delete(replica));
  return opening;
}

/** Takes a picture into a visit: as it is, and small, for lists. */
export async function addPhoto(replica: FieldReplica, visit: string, picture: File): Promise<void> {
  const photos = await photosOf(replica);
  const small = await smaller(picture);
  const [large, preview] = await Promise.all([photos.saveFile(picture), photos.saveFile(small)]);
  await replica.insert('photo', { visit, at: new Date().toISOString(), picture: large, preview });
}

/** Photos of this device whose contents are not with the server. */
export async function unsentPhotos(replica: FieldReplica): Promise<number> {
  const waiting = new Set((await (await photosOf(replica)).waiting()).map(({ file }) => file.id));
  const photos = await replica.rows({ from: 'photo' });
  return photos.filter(({ picture, preview }) => waiting.has(picture.id) || waiting.has(preview.id)).length;
}

/** The longest side of a small picture, in pixels. */
const longest = 320;

/** A picture as a small JPEG. */
async function smaller(picture: Blob): Promise<Blob> {
  const bitmap = await createImageBitmap(picture);
  const scale = Math.min(1, longest / Math.max(bitmap.width, bitmap.height));
  const [width, height] = [bitmap.width * scale, bitmap.height * scale].map(Math.round) as [number, number];
  const canvas = new OffscreenCanvas(width, height);
  canvas.getContext('2d')?.drawImage(bitmap, 0, 0, width, height);
  bitmap.close();
  return canvas.convertToBlob({ type: 'image/jpeg', quality: 0.7 });
}

/** A file as it is told of to a person. */
export type Way = 'sent' | 'waits' | 'sending' | 'on the server' | 'on its way';

/** Where the picture of a photo is, in a word. */
export async function wayOf(photos: Photos, picture: FileValue): Promise<{ readonly way: Way; readonly part: number }> {
  const [state] = await photos.states([picture]);
  if (state?.moved?.way === 'up') return { way: 'sending', part: state.moved.bytes / Math.max(picture.bytes, 1) };
  if (state?.at === 'here') return { way: state.isSent ? 'sent' : 'waits', part: 0 };
  return { way: state?.at === 'server' ? 'on the server' : 'on its way', part: 0 };
}
