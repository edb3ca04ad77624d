import { readdir, readFile, rm, utimes, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { type Contents, memoryContents } from '@koinon/client/files';
import { KoinonError } from '@koinon/core';
import { expect, test } from 'vitest';
import { bytesOf, cutting, photoOf, sent, world } from '../support/albums.ts';
import { waitFor } from '../support/wait-for.ts';

// Contents on the way: links that are cut, servers and devices that are killed, disks that are full.

test('over a link that is cut every three megabytes a file goes up and comes down once: little is sent twice', async () => {
  const { device, url } = await world();
  const size = 20_000_000;
  const [toward, back] = [await cutting(url, 3_000_000), await cutting(url, 3_000_000)];
  const one = await device({ address: toward.url });
  const content = photoOf(size - 3);
  const photo = await one.files.saveFile(content);
  await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await one.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await one.replica.sync();
  await waitFor(
    async () => {
      one.files.resume();
      expect(await one.files.waiting()).toEqual([]);
    },
    { timeout: 120_000, interval: 300 },
  );
  expect(toward.up()).toBeLessThan(size * 1.1);
  // Bytes that change on the way up are refused, and sent again (F6).
  const spoiling = await cutting(url, Number.POSITIVE_INFINITY, { left: 1 });
  const third = await device({ address: spoiling.url });
  await third.replica.sync();
  const again = await third.files.saveFile(photoOf(200_000));
  await third.replica.insert('visit', { id: 'w', site: 's', notes: '', photo: again });
  await third.replica.sync();
  await waitFor(async () => expect((await third.files.waiting())[0]?.state).toBe('file-differs'), {
    timeout: 20_000,
    interval: 5,
  });
  await sent(third);
  const other = await device({ address: back.url });
  await other.replica.sync();
  let opened: Blob | undefined;
  while (opened === undefined) opened = await other.files.openFile(photo).catch(() => undefined);
  expect(Buffer.compare(await bytesOf(opened), await bytesOf(content))).toBe(0);
  expect(back.down()).toBeLessThan(size * 1.1);
});

test('F1, F2, F3, F7: a device and a server that are killed at any point go on; a refused, reverted or deleted row sends nothing', async () => {
  const { device, restart, folder, kept } = await world();
  const first = await device({ file: 'phone.db', allow: () => false });
  const [content, lost] = [photoOf(9_000_000), photoOf(10)];
  const photo = await first.files.saveFile(content);
  await first.files.saveFile(lost);
  await first.files.close();
  await first.replica.close();
  // Killed after saveFile, and again after the row.
  const second = await device({ file: 'phone.db', allow: () => false });
  await second.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await second.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await second.replica.sync();
  await second.files.close();
  await second.replica.close();
  const third = await device({ file: 'phone.db' });
  await waitFor(async () => expect((await third.files.waiting())[0]?.sent).toBeGreaterThan(0), {
    timeout: 20_000,
    interval: 5,
  });
  await restart();
  await third.files.close();
  await third.replica.close();
  const fourth = await device({ file: 'phone.db' });
  await waitFor(async () => expect(await fourth.files.states([photo])).toEqual([{ at: 'here', isSent: true }]), {
    timeout: 60_000,
  });
  const stored = async () =>
    (await readdir(join(kept, 'stored'), { recursive: true })).filter((name) => /[0-9a-f]{40}$/.test(name));
  expect(await stored()).toHaveLength(1);
  // One that no row holds waits a day for one that will.
  expect(await fourth.files.waiting()).toMatchObject([{ state: 'row' }]);
  // Deleted before it went up, and never sent.
  const gone = await fourth.files.saveFile(photoOf(100));
  await fourth.replica.insert('visit', { id: 'w', site: 's', notes: '', photo: gone });
  await fourth.replica.delete('visit', 'w');
  await fourth.replica.sync();
  await new Promise((done) => setTimeout(done, 300));
  expect(await stored()).toHaveLength(1);
  // A content that the server has lost, its folder having been restored, goes up again from a device that has it (F13).
  await restart(() => rm(join(kept, 'stored'), { recursive: true }));
  await fourth.files.close();
  await fourth.replica.close();
  const fifth = await device({ file: 'phone.db' });
  await waitFor(async () => expect(await stored()).toHaveLength(1), { timeout: 60_000 });
  const other = await device();
  await other.replica.sync();
  await waitFor(
    async () =>
      expect(Buffer.compare(await bytesOf(await other.files.openFile(photo)), await bytesOf(content))).toBe(0),
    { timeout: 60_000 },
  );
  expect((await readdir(join(folder, 'phone.db.files'))).some((name) => name.endsWith('.part'))).toBe(false);
  expect(fifth.replica).toBeDefined();
});

test('F4, F6, F8, F10: one of two rows with the same bytes is deleted; bytes change on the way; a disk is full; a row leaves', async () => {
  const { device, kept } = await world('SQLite', true);
  const full = memoryContents();
  const office = await device({ user: 'office' });
  const ida = await device({ user: 'ida', budget: 1_000 });
  await office.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  const content = photoOf(2_000);
  const [photo, same] = [await office.files.saveFile(content), await office.files.saveFile(content)];
  expect([photo.sha256, photo.id === same.id]).toEqual([same.sha256, false]);
  await office.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await office.replica.insert('visit', { id: 'w', site: 's', notes: '', photo: same });
  await office.replica.sync();
  await sent(office);
  await office.replica.delete('visit', 'w');
  await office.replica.sync();
  await ida.replica.sync();
  // On the server's disk a byte has changed: it is noticed, and nothing wrong is shown.
  const stored = (await readdir(join(kept, 'stored'), { recursive: true })).filter(
    (name) => name.includes(photo.id) && /[0-9a-f]{40}$/.test(name),
  );
  const path = join(kept, 'stored', stored[0] as string);
  const good = await readFile(path);
  await writeFile(path, Buffer.concat([good.subarray(0, -1), Buffer.from([(good.at(-1) as number) ^ 1])]));
  await expect(ida.files.openFile(photo)).rejects.toMatchObject({ code: 'file-differs' });
  await writeFile(path, good);
  expect(Buffer.compare(await bytesOf(await ida.files.openFile(photo)), await bytesOf(content))).toBe(0);
  // A disk that is full: nothing is kept, and what was there still is.
  const noRoom: Contents = {
    ...full,
    sink: async (id) => ({
      ...(await full.sink(id)),
      write: () => Promise.reject(Object.assign(new Error('no room'), { code: 'ENOSPC' })),
    }),
  };
  const cramped = await device({ user: 'ida', contents: noRoom });
  await expect(cramped.files.saveFile(content)).rejects.toMatchObject({ code: 'storage-full' });
  expect(await full.notes()).toEqual([]);
  // The row leaves the scope: the content leaves with it. A content that was saved and not sent stays.
  const unsent = await ida.files.saveFile(photoOf(50));
  expect((await ida.contents.notes()).map(({ file: held }) => held.id).sort()).toEqual([photo.id, unsent.id].sort());
  await office.replica.update('site', 's', { keeper: 'runa' });
  await office.replica.sync();
  await ida.replica.sync();
  await waitFor(async () => expect((await ida.contents.notes()).map(({ file: held }) => held.id)).toEqual([unsent.id]));
  await expect(ida.files.openFile(photo)).rejects.toBeInstanceOf(KoinonError);
});

test('who begins too many uploads loses his own that have rested, and nobody else’s', async () => {
  const { device, url, kept } = await world('SQLite', true);
  const ida = await device({ user: 'ida', allow: () => false });
  const photo = await ida.files.saveFile(photoOf(100));
  const rows = { ida: 'v-ida', runa: 'v-runa' } as const;
  const runa = await device({ user: 'runa', allow: () => false });
  for (const [who, at] of [
    ['ida', ida],
    ['runa', runa],
  ] as const) {
    await at.replica.insert('site', { id: `s-${who}`, keeper: who, name: who });
    await at.replica.insert('visit', { id: rows[who], site: `s-${who}`, notes: '', photo });
    await at.replica.sync();
  }
  const begin = (user: 'ida' | 'runa') =>
    fetch(`${url}/v1/uploads`, {
      method: 'POST',
      headers: {
        ...{ authorization: `Bearer ${user}`, 'tus-resumable': '1.0.0', 'upload-length': String(photo.bytes) },
        'upload-metadata': Object.entries({ id: photo.id, table: 'visit', row: rows[user], column: 'photo' })
          .map(([name, value]) => `${name} ${Buffer.from(value).toString('base64')}`)
          .join(),
      },
    });
  const address = new URL((await begin('ida')).headers.get('location') as string, url);
  for (let n = 0; n < 100; n++) expect((await begin('runa')).status).toBe(201);
  // None of them has rested: there is no room for another one until one has.
  expect((await begin('runa')).status).toBe(429);
  const uploads = async () => (await readdir(join(kept, 'uploads'))).filter((name) => !name.endsWith('.json'));
  const [mine] = (await uploads()).filter((name) => address.pathname.endsWith(name));
  const rested = (await uploads()).filter((name) => name !== mine).slice(0, 3);
  for (const name of rested) await utimes(join(kept, 'uploads', name), 1, Date.now() / 1_000 - 120);
  expect((await begin('runa')).status).toBe(201);
  expect((await uploads()).filter((name) => rested.includes(name))).toEqual([]);
  expect(await uploads()).toHaveLength(99);
  const headers = { authorization: 'Bearer ida', 'tus-resumable': '1.0.0' };
  expect((await fetch(address, { method: 'HEAD', headers })).status).toBe(200);
});

test('F7, F8: a server that fails between the last byte and storing, its disk being full, has the content in the end', async () => {
  const full = { times: 2 };
  const { device } = await world('SQLite', false, (storage) => ({
    ...storage,
    put: async (file, from) => {
      if (full.times-- > 0) throw Object.assign(new Error('no room'), { code: 'ENOSPC' });
      await storage.put(file, from);
    },
  }));
  const [one, other] = [await device(), await device()];
  const content = photoOf(100_000);
  const photo = await one.files.saveFile(content);
  await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await one.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await one.replica.sync();
  await waitFor(async () => expect(await one.files.waiting()).toMatchObject([{ state: 'storage-full' }]));
  await sent(one);
  expect(full.times).toBe(-1);
  await other.replica.sync();
  expect(Buffer.compare(await bytesOf(await other.files.openFile(photo)), await bytesOf(content))).toBe(0);
});
