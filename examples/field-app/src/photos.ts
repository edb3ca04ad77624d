import { type FileState, type Files, openFiles, originContents } from '@koinon/client/files';
import type { FileValue } from '@koinon/core';
import { bookOf, tokenOf } from './book.ts';
import type { FieldReplica } from './replica.ts';
import type { field } from './schema.ts';

export type Photos = Files<typeof field>;

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
    ahead: { photo: { preview: 'always' } },
  });
  opened.set(replica, opening);
  // Whoever asks after a failure tries again.
  opening.catch(() => opened.delete(replica));
  return opening;
}

/** A picture that was taken: as it is, and small, for lists. */
export interface TakenPhoto {
  readonly picture: FileValue;
  readonly preview: FileValue;
}

/** Saves a picture on this device. A visit may hold it later; without one it is removed after a day. */
export async function takePhoto(replica: FieldReplica, picture: File): Promise<TakenPhoto> {
  const photos = await photosOf(replica);
  const small = await smaller(picture);
  const [large, preview] = await Promise.all([photos.saveFile(picture), photos.saveFile(small)]);
  return { picture: large, preview };
}

/** Puts photos into a visit. */
export async function attachPhotos(replica: FieldReplica, visit: string, taken: readonly TakenPhoto[]): Promise<void> {
  const at = new Date().toISOString();
  await replica.transaction(async (transaction) => {
    for (const photo of taken) await transaction.insert('photo', { visit, at, ...photo });
  });
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

/** The place of a content, as it is told to a person. */
export function wordsFor({ at, isSent, moved }: FileState, { bytes }: FileValue): string {
  if (moved?.way === 'up') return `Sending ${Math.round((100 * moved.bytes) / Math.max(bytes, 1))} %`;
  if (at === 'here') return isSent ? 'Sent' : 'Not sent yet';
  return at === 'server' ? 'On the server' : 'On its way';
}
