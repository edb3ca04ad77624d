import { readdir, readFile, rm, utimes, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { type ContentNote, openFiles } from '@koinon/client/files';
import { type FileValue, schema } from '@koinon/core';
import { folderStorage, startServer } from '@koinon/server';
import { expect, test } from 'vitest';
import { apiary, bytesOf, cutting, photoOf, sent, world } from '../support/albums.ts';
import { waitFor } from '../support/wait-for.ts';

// How long contents stay: with their rows, a day behind them, and as long as somebody reads them.

test('F14: who stops waiting does not stop others; what came in part goes with its row, with an erase, and after a day', async () => {
  const { device, folder, url } = await world('SQLite', true);
  const office = await device({ user: 'office' });
  await office.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  const content = photoOf(8_000_000);
  const photos = await Promise.all([1, 2].map(() => office.files.saveFile(content)));
  for (const photo of photos) await office.replica.insert('visit', { site: 's', notes: '', photo });
  await office.replica.sync();
  await sent(office);
  const [first, second] = photos as [FileValue, FileValue];
  const slow = await cutting(url, 3_000_000);
  const ida = await device({ user: 'ida', file: 'ida.db', address: slow.url });
  await ida.replica.sync();
  const kept = async () => (await readdir(join(folder, 'ida.db.files'))).sort();
  const own = { abort: new AbortController() };
  const opened = [ida.files.openFile(first, { signal: own.abort.signal }), ida.files.openFile(first)] as const;
  const stopped = expect(opened[0]).rejects.toMatchObject({ code: 'cancelled' });
  own.abort.abort();
  await stopped;
  // It was cut, not cancelled: the one who still waits is told so, and goes on later.
  await expect(opened[1]).rejects.toMatchObject({ code: 'server-unreachable' });
  await expect(ida.files.openFile(second)).rejects.toMatchObject({ code: 'server-unreachable' });
  expect(await kept()).toEqual([`${first.id}.part`, `${second.id}.part`].sort());
  const unsent = await ida.files.saveFile(photoOf(50));
  await office.replica.update('site', 's', { keeper: 'runa' });
  await office.replica.sync();
  await ida.replica.sync();
  await waitFor(async () => expect(await kept()).toEqual([`${unsent.id}.bin`, `${unsent.id}.json`]));
  // Left over of processes that were killed, two days ago and just now.
  const [old, recent] = [crypto.randomUUID(), crypto.randomUUID()];
  for (const id of [old, recent]) await writeFile(join(folder, 'ida.db.files', `${id}.part`), 'a part');
  await utimes(join(folder, 'ida.db.files', `${old}.part`), 1, Date.now() / 1000 - 2 * 86_400);
  await ida.files.close();
  const again = await openFiles(ida.replica, { contents: ida.contents });
  await waitFor(async () =>
    expect(await kept()).toEqual([`${unsent.id}.bin`, `${unsent.id}.json`, `${recent}.part`].sort()),
  );
  await again.erase();
  expect(await kept()).toEqual([]);
  await again.close();
});

test('F2, F3: a photo that was never sent outlives its row for a day: what is taken back has it again', async () => {
  const { device } = await world();
  const { replica, files, contents } = await device({ allow: () => false });
  await files.close();
  const day = 86_400_000;
  const amend = async (change: Partial<ContentNote>) => {
    const [note] = await contents.notes();
    await contents.note({ ...(note as ContentNote), ...change });
  };
  const isUnheld = () => waitFor(async () => expect((await contents.notes())[0]?.unheldSince).toBeDefined());
  const first = await openFiles(replica, { contents });
  const content = photoOf(100);
  const photo = await first.saveFile(content);
  await replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await waitFor(async () => expect((await contents.notes())[0]?.unheldSince).toBeUndefined());
  await first.close();
  // Two days without a signal.
  await amend({ savedAt: Date.now() - 2 * day });
  const second = await openFiles(replica, { contents });
  await replica.delete('visit', 'v');
  await isUnheld();
  // It is looked at again in between.
  await replica.insert('visit', { site: 's', notes: 'another one' });
  await new Promise((done) => setTimeout(done, 200));
  await replica.undo();
  await replica.undo();
  expect(Buffer.compare(await bytesOf(await second.openFile(photo)), await bytesOf(content))).toBe(0);
  await replica.delete('visit', 'v');
  await isUnheld();
  await second.close();
  await amend({ unheldSince: Date.now() - 2 * day });
  const third = await openFiles(replica, { contents });
  await waitFor(async () => expect(await contents.notes()).toEqual([]));
  await third.close();
});

test('contents stay while the rows that hold them are still being read', async () => {
  const { device } = await world();
  const one = await device({ file: 'phone.db' });
  const photo = await one.files.saveFile(photoOf(100));
  await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await one.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await one.replica.sync();
  await sent(one);
  await one.files.close();
  // Ten thousand rows take as long.
  const slow = new Proxy(one.replica, {
    get: (replica, name) => {
      const value = Reflect.get(replica, name) as unknown;
      if (typeof value !== 'function') return value;
      if (name !== 'rows') return value.bind(replica);
      return async (query: never) => {
        await new Promise((done) => setTimeout(done, 500));
        return replica.rows(query);
      };
    },
  });
  // As in a browser, where one tab leads, and no other one has been open.
  const lead = (begin: () => void) => {
    begin();
    return () => undefined;
  };
  const again = await openFiles(slow, { contents: { ...one.contents, lead } });
  expect(await one.contents.notes()).toMatchObject([{ file: photo, state: 'sent' }]);
  expect((await again.openFile(photo)).size).toBe(103);
  await again.close();
});

test('notes of one content that are made at once are written one after the other, and the last one stays', async () => {
  const { device } = await world();
  const one = await device({ file: 'phone.db', allow: () => false });
  const photo = await one.files.saveFile(photoOf(100));
  await Promise.all(Array.from({ length: 40 }, (_, n) => one.files.pin(photo, n % 2 === 1)));
  expect(await one.contents.notes()).toMatchObject([{ isPinned: true }]);
  await Promise.all([one.files.pin(photo, false), one.files.erase()]);
  expect(await one.contents.kept()).toEqual([]);
});

test('F13: what the server has lost comes from who may write the row; a reader who may not is left in peace, and a pin outlives the upload', async () => {
  const { device, restart, kept, url } = await world('SQLite', true);
  const ida = await device({ user: 'ida', file: 'ida.db' });
  await ida.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  const photo = await ida.files.saveFile(photoOf(9_000_000));
  await ida.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await ida.replica.sync();
  await waitFor(async () => expect((await ida.files.waiting())[0]?.sent).toBeGreaterThan(0), { interval: 2 });
  await ida.files.pin(photo);
  await sent(ida);
  await waitFor(async () => expect(await ida.contents.notes()).toMatchObject([{ state: 'sent', isPinned: true }]));
  const clerk = await device({ user: 'clerk', file: 'clerk.db' });
  await clerk.replica.sync();
  await clerk.files.openFile(photo);
  await restart(() => rm(join(kept, 'stored'), { recursive: true }));
  await clerk.files.close();
  const again = await openFiles(clerk.replica, { contents: clerk.contents, server: url, token: () => 'clerk' });
  const waiting: unknown[] = [];
  const stop = again.subscribe(() => void again.waiting().then((found) => waiting.push(...found)));
  await new Promise((done) => setTimeout(done, 1_500));
  expect(waiting).toEqual([]);
  expect(await clerk.contents.notes()).toMatchObject([{ state: 'fetched' }]);
  stop();
  await again.close();
  await ida.files.close();
  const mine = await openFiles(ida.replica, { contents: ida.contents, server: url, token: () => 'ida' });
  const other = await device({ user: 'office' });
  await other.replica.sync();
  await waitFor(async () => expect((await other.files.openFile(photo)).size).toBe(photo.bytes));
  await mine.close();
});

test('the server keeps a content as long as its row may come back, and for a column that it does not know', async () => {
  const { device, restart, kept, database } = await world();
  const one = await device();
  const save = (size: number) => one.files.saveFile(photoOf(size));
  const [replaced, gone] = [await save(1_000), await save(2_000)];
  await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  for (const [id, held] of [
    ['v', replaced],
    ['w', gone],
  ] as const)
    await one.replica.insert('visit', { id, site: 's', notes: '', photo: held });
  await one.replica.sync();
  await sent(one);
  const photo = await save(3_000);
  await one.replica.update('visit', 'v', { photo });
  await one.replica.delete('visit', 'w');
  await one.replica.sync();
  await sent(one);
  const stored = async () => {
    const names = (await readdir(join(kept, 'stored'), { recursive: true })).filter((name) => name.endsWith('.json'));
    const notes = await Promise.all(names.map((name) => readFile(join(kept, 'stored', name), 'utf8')));
    return new Map(
      notes.map((note, n) => [JSON.parse(note).place.id as string, { name: names[n] as string, ...JSON.parse(note) }]),
    );
  };
  /** All that is there was stored, and where it is noted found to be held by no row, so many days ago. */
  const age = async (days: number) => {
    for (const { name, ...note } of (await stored()).values()) {
      const at = Date.now() - days * 86_400_000;
      const aged = { ...note, storedAt: at, ...(note.unheldSince && { unheldSince: at }) };
      await writeFile(join(kept, 'stored', name), JSON.stringify(aged));
    }
  };
  const unheld = async () =>
    [...(await stored()).values()].filter(({ unheldSince }) => unheldSince).map(({ place }) => place.id);
  // Old contents, whose rows have let them go just now: they stay, since an undo may bring them back.
  await restart(() => age(100));
  await waitFor(async () => expect((await unheld()).sort()).toEqual([replaced.id, gone.id].sort()));
  await one.replica.update('visit', 'v', { photo: replaced });
  await one.replica.sync();
  await restart();
  await waitFor(async () => expect((await unheld()).sort()).toEqual([photo.id, gone.id].sort()));
  // A server with an older schema takes nothing away.
  await restart(async () => {
    await age(100);
    const old = schema({ site: apiary.tables.site });
    const server = await startServer({ store: await database.open(old), port: 0, files: folderStorage(kept) });
    await server.close();
    expect((await stored()).size).toBe(3);
  });
  await waitFor(async () => expect([...(await stored()).keys()]).toEqual([replaced.id]));
});
