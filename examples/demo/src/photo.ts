import { join } from 'node:path';
import { setTimeout } from 'node:timers/promises';
import { fileAt, folderContents, openFiles } from '@koinon/client/files';
import type { FileValue } from '@koinon/core';
import type { Narrator } from './narrator.ts';
import { contentsOf, type Phone, told } from './phone.ts';

const photos = join(import.meta.dirname, '../photos');
const kilobytes = ({ bytes }: FileValue) => `${Math.ceil(bytes / 1000)} kB`;
const placeWords = {
  here: 'on his phone',
  server: 'on the server',
  awaited: 'still on hers',
  unknown: 'not known',
} as const;

/** Runa takes a photo without a signal. Its row comes first, its small picture next, and the large one when somebody opens it. */
export async function tellPhoto(narrator: Narrator, runa: Phone, teodor: Phone): Promise<void> {
  narrator.chapter('Runa takes a photo of a frame without signal; the picture follows its row');
  const open = ({ replica, signal, file }: Phone, allow: () => boolean) =>
    openFiles(replica, { server: signal.url, contents: folderContents(contentsOf(file)), allow });
  // On a link that costs she lets no picture up.
  let isLinkFree = false;
  const [taken, seen] = [await open(runa, () => isLinkFree), await open(teodor, () => true)];
  try {
    await runa.signal.off();
    const save = async (name: string) => taken.saveFile(await fileAt(join(photos, name)), { name, type: 'image/jpeg' });
    const [picture, preview] = [await save('brood-frame.jpg'), await save('brood-frame-small.jpg')];
    const at = new Date().toISOString();
    await runa.replica.insert('photo', { id: 'photo-1', visit: 'visit-runa-1', at, picture, preview });
    narrator.say(
      `Runa saves ${kilobytes(picture)} as taken and ${kilobytes(preview)} for lists, with the visit to hive-007.`,
    );
    await runa.signal.on();
    narrator.say(`Runa: ${told(await runa.replica.sync())} On this link she lets no pictures up.`);
    narrator.say(`Teodor: ${told(await teodor.replica.sync())}`);
    const place = async () => (await seen.states([picture]))[0]?.at;
    narrator.say(`Teodor’s phone has the row; the picture is ${placeWords[(await place()) ?? 'unknown']}.`);
    isLinkFree = true;
    taken.resume();
    while ((await taken.waiting()).length > 0 || (await place()) !== 'server') await setTimeout(20);
    narrator.say(`Back on free Wi-Fi it goes up by itself. For Teodor it is ${placeWords.server}.`);
    const opened = await seen.openFile(picture);
    narrator.say(`He opens it: ${opened.size} bytes come, and their digest is that of the row.`);
  } finally {
    await taken.close();
    await seen.close();
  }
}
