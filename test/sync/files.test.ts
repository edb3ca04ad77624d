import { createHash } from 'node:crypto';
import { mkdtemp, readdir, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica } from '@koinon/client';
import { bytesToFiles, folderContents, memoryContents, openFiles } from '@koinon/client/files';
import { type FileValue, reference, schema, table, text } from '@koinon/core';
import { folderStorage, startServer } from '@koinon/server';
import { describe, expect, onTestFinished, test, vi } from 'vitest';
import { apiary, bytesOf, photoOf, sent, world } from '../support/albums.ts';
import photos from '../support/photos.ts';
import { newDatabase, storeKinds } from '../support/stores.ts';
import { waitFor } from '../support/wait-for.ts';
import { never } from '../support/world.ts';

// Photos and documents: the row holds a description, the content goes its own way.

describe.each(storeKinds)('%s', (kind) => {
  test('a photo follows its row to the server and to another device, and what it is not is refused', async () => {
    const { device, kept } = await world(kind);
    const [one, other] = [await device(), await device()];
    const content = photoOf(300_000);
    const photo = await one.files.saveFile(content, { name: 'Hive 3, brood.jpg' });
    expect(photo).toMatchObject({ bytes: 300_003, type: 'image/jpeg', name: 'Hive 3, brood.jpg' });
    expect(photo.sha256).toBe(
      createHash('sha256')
        .update(await bytesOf(content))
        .digest('hex'),
    );
    await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
    await one.replica.insert('visit', { id: 'v', site: 's', notes: 'brood', photo });
    expect(await one.files.waiting()).toMatchObject([{ file: photo, state: 'row', sent: 0 }]);
    one.files.pause();
    await one.replica.sync();
    // The row is there before the content is; who looks at it is told when that has come.
    await other.replica.sync();
    expect((await other.replica.get('visit', 'v'))?.photo).toEqual(photo);
    const told: string[] = [];
    const look = async () => void told.push((await other.files.states([photo]))[0]?.at ?? '');
    await look();
    const stop = other.files.subscribe(() => void look());
    await waitFor(() => expect(told.length).toBeGreaterThan(1));
    expect(new Set(told)).toEqual(new Set(['awaited']));
    await expect(other.files.openFile(photo)).rejects.toMatchObject({ code: 'file-awaited' });
    one.files.resume();
    await sent(one);
    await waitFor(() => expect(told.at(-1)).toBe('server'));
    stop();
    expect(await one.files.states([photo])).toEqual([{ at: 'here', isSent: true }]);
    expect(await other.files.states([photo])).toEqual([{ at: 'server', isSent: true }]);
    const opened = await other.files.openFile((await other.replica.get('visit', 'v'))?.photo as FileValue);
    expect(opened.type).toBe('image/jpeg');
    expect(Buffer.compare(await bytesOf(opened), await bytesOf(content))).toBe(0);
    const { url, release } = await other.files.fileUrl(photo);
    expect(url).toMatch(/^blob:/);
    release();
    // Types and sizes are those of the column; names and types have a form.
    const paper = await one.files.saveFile(new Uint8Array([1]), { type: 'application/pdf' });
    await expect(one.replica.update('visit', 'v', { photo: paper })).rejects.toMatchObject({
      ...{
        code: 'value-type',
        message: expect.stringContaining('a file of the types image/*, text/plain is expected'),
      },
    });
    await expect(one.replica.update('visit', 'v', { photo: { ...photo, bytes: 30_000_000 } })).rejects.toMatchObject({
      code: 'value-range',
    });
    await expect(one.replica.update('visit', 'v', { photo: { ...photo, sha256: 'x' } })).rejects.toMatchObject({
      code: 'value-type',
    });
    for (const [source, options] of [
      [new Uint8Array(1), {}],
      [new Uint8Array(1), { type: 'no type' }],
      [new Uint8Array(1), { type: 'image/png', name: '../../etc/passwd' }],
      [new Uint8Array(1), { type: 'image/png', name: 'gpj.\u202eexe' }],
    ] as const)
      await expect(one.files.saveFile(source, options)).rejects.toMatchObject({ code: 'argument-invalid' });
    await expect(one.files.saveFile(photoOf(5_000), { maximumBytes: 1_000 })).rejects.toMatchObject({
      code: 'value-range',
    });
    // It says that it is a photo, and is none: the server looks.
    const false_ = await one.files.saveFile(new Blob(['<script>'], { type: 'image/jpeg' }));
    await one.replica.update('visit', 'v', { photo: false_ });
    await one.replica.sync();
    await waitFor(async () => expect((await one.files.waiting()).map(({ state }) => state)).toContain('file-type'), {
      timeout: 20_000,
    });
    expect((await readdir(join(kept, 'uploads'))).filter((name) => name.endsWith('.json'))).toEqual([]);
  });

  test('F5: who knows an id, a digest or an address of another’s gets the answer of what never was, to read, to send and to refer to', async () => {
    const { device, url } = await world(kind, true);
    const [ida, runa, office] = [
      await device({ user: 'ida' }),
      await device({ user: 'runa' }),
      await device({ user: 'office' }),
    ];
    for (const [who, at] of [
      ['ida', ida],
      ['runa', runa],
    ] as const)
      await at.replica.insert('site', { id: `s-${who}`, keeper: who, name: who });
    const secret = photoOf(5_000);
    const photo = await ida.files.saveFile(secret);
    await ida.replica.insert('visit', { id: 'v', site: 's-ida', notes: '', photo });
    for (const at of [ida, runa, office]) await at.replica.sync();
    const paper = await office.files.saveFile(new Uint8Array(5_000), { type: 'application/octet-stream' });
    await office.replica.update('visit', 'v', { paper });
    await office.replica.sync();
    for (const at of [ida, office]) await sent(at);
    const unknown = { ...photo, id: crypto.randomUUID() };
    const ask = (user: string, id: string, row: string, column = 'photo') =>
      fetch(`${url}/v1/files/${id}?${new URLSearchParams({ table: 'visit', row, column })}`, {
        headers: { authorization: `Bearer ${user}` },
      });
    const begin = (user: string, id: string, row: string) =>
      fetch(`${url}/v1/uploads`, {
        method: 'POST',
        headers: {
          ...{ authorization: `Bearer ${user}`, 'tus-resumable': '1.0.0', 'upload-length': String(photo.bytes) },
          'upload-metadata': Object.entries({ id, table: 'visit', row, column: 'photo' })
            .map(([name, value]) => `${name} ${Buffer.from(value).toString('base64')}`)
            .join(),
        },
      });
    const told = async (answer: Response) => [answer.status, await answer.text()];
    expect((await ask('ida', photo.id, 'v')).status).toBe(200);
    for (const [asked, never] of [
      [ask('runa', photo.id, 'v'), ask('runa', unknown.id, 'none')],
      [ask('ida', paper.id, 'v', 'paper'), ask('ida', unknown.id, 'none', 'paper')],
      [begin('runa', photo.id, 'v'), begin('runa', unknown.id, 'none')],
    ] as const)
      expect(await told(await asked)).toEqual(await told(await never));
    // A row that names the file of another: it has no content, as with an id that nobody ever used.
    await runa.replica.insert('visit', { id: 'thief', site: 's-runa', notes: '', photo });
    await runa.replica.insert('visit', { id: 'nothing', site: 's-runa', notes: '', photo: unknown });
    expect((await runa.replica.sync()).up).toMatchObject({ applied: 2, rejected: 0 });
    expect(await told(await ask('runa', photo.id, 'thief'))).toEqual(
      await told(await ask('runa', unknown.id, 'nothing')),
    );
    await expect(runa.files.openFile(photo)).rejects.toMatchObject({ code: 'file-awaited' });
    // Nor does he put another content under the eyes of those who read the first.
    const forged = { ...photo, sha256: createHash('sha256').update('forged').digest('hex'), bytes: 6 };
    await runa.replica.update('visit', 'thief', { photo: { ...forged, type: 'text/plain' } });
    await runa.replica.sync();
    const location = await begin('runa', photo.id, 'thief');
    expect(location.status).toBe(422);
    expect(Buffer.compare(await bytesOf(await office.files.openFile(photo)), await bytesOf(secret))).toBe(0);
    // An upload has an address that is nobody else's.
    const late = await ida.files.saveFile(photoOf(100));
    ida.files.pause();
    await ida.replica.insert('visit', { id: 'late', site: 's-ida', notes: '', photo: late });
    await ida.replica.sync();
    const begun = await fetch(`${url}/v1/uploads`, {
      method: 'POST',
      headers: {
        ...{ authorization: 'Bearer ida', 'tus-resumable': '1.0.0', 'upload-length': String(late.bytes) },
        'upload-metadata': Object.entries({ id: late.id, table: 'visit', row: 'late', column: 'photo' })
          .map(([name, value]) => `${name} ${Buffer.from(value).toString('base64')}`)
          .join(),
      },
    });
    expect(begun.status).toBe(201);
    const address = new URL(begun.headers.get('location') as string, url);
    for (const [user, status] of [
      ['runa', 404],
      ['ida', 200],
    ] as const) {
      const headers = { authorization: `Bearer ${user}`, 'tus-resumable': '1.0.0' };
      expect((await fetch(address, { method: 'HEAD', headers })).status).toBe(status);
    }
    // Neither is a folder of the server's.
    const upward = await fetch(`${url}/v1/uploads/..%2f..%2fserver.db`, {
      method: 'HEAD',
      headers: { authorization: 'Bearer ida', 'tus-resumable': '1.0.0' },
    });
    expect(upward.status).toBeGreaterThanOrEqual(400);
    // A content goes as it is: compressing pictures takes time, and a client of many small pieces takes all day.
    expect((await ask('office', paper.id, 'v', 'paper')).headers.get('content-length')).toBe('5000');
    // A browser never runs a content as a page.
    const answer = await ask('ida', photo.id, 'v');
    expect(
      Object.fromEntries(
        ['content-disposition', 'x-content-type-options', 'content-security-policy'].map((name) => [
          name,
          answer.headers.get(name),
        ]),
      ),
    ).toEqual({
      ...{ 'content-disposition': 'attachment', 'x-content-type-options': 'nosniff' },
      'content-security-policy': "default-src 'none'; sandbox",
    });
    await ida.replica.delete('visit', 'v');
    await ida.replica.sync();
    expect((await ask('ida', photo.id, 'v')).status).toBe(404);
  });
});

test('F2: a photo whose row the server refuses is not sent; it goes once the row is mended, and stays a day when that is reverted', async () => {
  const { device, kept } = await world('SQLite', true);
  const office = await device({ user: 'office' });
  await office.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await office.replica.sync();
  const clerk = await device({ user: 'clerk' });
  await clerk.replica.sync();
  const [photo, other] = [await clerk.files.saveFile(photoOf(500)), await clerk.files.saveFile(photoOf(600))];
  await clerk.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await clerk.replica.insert('visit', { id: 'w', site: 's', notes: '', photo: other });
  expect((await clerk.replica.sync()).up).toMatchObject({ applied: 0, rejected: 2 });
  await new Promise((done) => setTimeout(done, 300));
  expect(await clerk.files.waiting()).toMatchObject([{ state: 'row' }, { state: 'row' }]);
  expect(await readdir(join(kept, 'uploads'))).toEqual([]);
  // Reverted: nobody holds it any more, and it is still there.
  await clerk.replica.revert('visit', 'w');
  await waitFor(async () =>
    expect(
      (await clerk.contents.notes()).filter(({ unheldSince }) => unheldSince).map(({ file: held }) => held.id),
    ).toEqual([other.id]),
  );
  expect((await clerk.files.openFile(other)).size).toBe(603);
  // The same device is given to somebody who may.
  await clerk.files.close();
  await clerk.replica.revert('visit', 'v');
  const ida = await device({ user: 'ida', contents: clerk.contents });
  await ida.replica.sync();
  await ida.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await ida.replica.sync();
  await waitFor(async () => expect((await ida.files.states([photo]))[0]).toEqual({ at: 'here', isSent: true }));
});

test('F11: a server that does not know the column, or keeps no contents, has them wait; a newer one gets them', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-files-'));
  const database = await newDatabase('SQLite', folder);
  const old = schema({
    site: apiary.tables.site,
    visit: table({ site: reference('site', { filterable: true }), notes: text() }),
  });
  const oldServer = await startServer({ store: await database.open(old), port: 0 });
  const port = Number(new URL(oldServer.url).port);
  const replica = await openReplica({ schema: apiary, server: oldServer.url, sync: { when: never, live: false } });
  const files = await openFiles(replica, { server: oldServer.url, contents: memoryContents() });
  const photo = await files.saveFile(photoOf(5_000));
  await replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  await replica.insert('visit', { id: 'v', site: 's', notes: 'brood', photo });
  await replica.sync();
  expect(await files.waiting()).toMatchObject([{ state: 'row' }]);
  await oldServer.close();
  // The schema is the new one, and nobody has said where contents are to be.
  const without = await startServer({ store: await database.open(apiary), port });
  await replica.sync();
  await waitFor(async () => expect(await files.waiting()).toMatchObject([{ file: photo, state: 'files-not-kept' }]));
  await without.close();
  const server = await startServer({
    store: await database.open(apiary),
    port,
    files: folderStorage(join(folder, 'kept')),
  });
  onTestFinished(async () => {
    await files.close();
    await replica.close();
    await server.close();
    await rm(folder, { recursive: true, force: true });
  });
  await replica.sync();
  files.resume();
  await waitFor(async () => expect(await files.states([photo])).toEqual([{ at: 'here', isSent: true }]));
});

test('over a live connection a content that was awaited is told of when it is stored', async () => {
  const { device, url } = await world();
  const one = await device({ allow: () => false });
  await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  const photo = await one.files.saveFile(photoOf(5_000));
  await one.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await one.replica.sync();
  const follower = await openReplica({ schema: apiary, server: url, sync: {} });
  const files = await openFiles(follower, { server: url, contents: memoryContents() });
  const state = follower.syncState();
  const stop = state.subscribe(() => undefined);
  await waitFor(() => expect(state.current.rows[0]?.phase).toBe('live'));
  const told: string[] = [];
  const look = async () => void told.push((await files.states([photo]))[0]?.at ?? '');
  const stopLooking = files.subscribe(() => void look());
  // Time stands still: the device does not come to ask by itself.
  vi.useFakeTimers({ toFake: ['Date'] });
  onTestFinished(() => void vi.useRealTimers());
  await look();
  expect(told).toContain('awaited');
  const sending = await openFiles(one.replica, { server: url, contents: one.contents });
  // `waitFor` would move the clock.
  for (let n = 0; n < 100 && told.at(-1) !== 'server'; n++) await new Promise((done) => setTimeout(done, 50));
  expect(told.at(-1)).toBe('server');
  vi.useRealTimers();
  stopLooking();
  stop();
  await sending.close();
  await files.close();
  await follower.close();
});

test('contents are fetched ahead by column and link, never more than there is room for', async () => {
  const { device } = await world();
  const office = await device();
  await office.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  const saved: FileValue[] = [];
  for (let n = 0; n < 6; n++) {
    const photo = await office.files.saveFile(photoOf(10_000));
    const paper = await office.files.saveFile(new Uint8Array(1_000), { type: 'application/octet-stream' });
    await office.replica.insert('visit', { site: 's', notes: '', photo, paper });
    saved.push(photo, paper);
  }
  await office.replica.sync();
  await sent(office);
  const link = { isMetered: true };
  const ida = await device({
    ahead: { visit: { photo: 'unmetered', paper: 'always' } },
    isMetered: () => link.isMetered,
    budget: 40_000,
  });
  const here = async () => {
    const held = new Set((await ida.contents.notes()).map(({ file: { id } }) => id));
    return ['image/jpeg', 'application/octet-stream'].map(
      (type) => saved.filter((file) => file.type === type && held.has(file.id)).length,
    );
  };
  await ida.replica.sync();
  await waitFor(async () => expect(await here()).toEqual([0, 6]));
  link.isMetered = false;
  ida.files.resume();
  await waitFor(async () => expect(await here()).toEqual([3, 6]));
  // The room is taken: nothing goes for something else that nobody has opened.
  const before = (await ida.contents.notes()).map(({ file: { id } }) => id);
  ida.files.resume();
  await new Promise((done) => setTimeout(done, 500));
  expect((await ida.contents.notes()).map(({ file: { id } }) => id)).toEqual(before);
});

test('contents go along with a copy of the rows, and bytes of a column become files', async () => {
  const { device, folder } = await world();
  const one = await device({ allow: () => false });
  await one.replica.insert('site', { id: 's', keeper: 'ida', name: 'Marrowfen' });
  const [photo, gone] = [await one.files.saveFile(photoOf(5_000)), await one.files.saveFile(photoOf(6_000))];
  await one.replica.insert('visit', { id: 'v', site: 's', notes: '', photo });
  await one.replica.insert('visit', { id: 'w', site: 's', notes: '', photo: { ...gone, id: crypto.randomUUID() } });
  const archive = folderContents(join(folder, 'archive'));
  const told: string[] = [];
  const onProgress = (done: number, of: number) => void told.push(`${done}/${of}`);
  expect(await one.files.copyTo(archive, { onProgress })).toMatchObject({ copied: 1, bytes: 5_003, missing: [{}] });
  expect(told).toEqual(['1/2', '2/2']);
  // Again: nothing is copied twice.
  expect(await one.files.copyTo(archive)).toMatchObject({ copied: 0, missing: [{}] });
  await one.replica.copyTo(join(folder, 'copy.db'));
  await one.files.close();
  await one.replica.close();
  const copy = await device({ file: 'copy.db' });
  const taken = await copy.files.takeFrom(archive);
  expect(taken).toMatchObject({ copied: 1, missing: [{}] });
  // It is the only one that has it, so it goes up.
  await copy.replica.sync();
  await sent(copy);
  const other = await device();
  await other.replica.sync();
  expect((await other.files.openFile(photo)).size).toBe(5_003);
  // A content that is not what the row says is not taken.
  await writeFile(join(folder, 'archive', `${photo.id}.bin`), 'something else');
  const third = await device();
  await third.replica.sync();
  expect(await third.files.takeFrom(archive)).toMatchObject({ copied: 0, missing: [{}, {}] });
  expect(await third.contents.kept()).toEqual([]);

  const replica = await openReplica({ schema: photos });
  const files = await openFiles(replica, { contents: memoryContents() });
  for (let n = 0; n < 3; n++) await replica.insert('visit', { id: `v${n}`, notes: '', sketch: new Uint8Array([n, n]) });
  await replica.insert('visit', { id: 'none', notes: '' });
  const abort = new AbortController();
  const moving = bytesToFiles(
    replica,
    files,
    'visit',
    { from: 'sketch', to: 'photo', type: 'image/png' },
    { signal: abort.signal, onProgress: (done) => done === 2 && abort.abort() },
  );
  await expect(moving).rejects.toMatchObject({ code: 'cancelled' });
  const move = { from: 'sketch', to: 'photo', type: () => 'image/png' };
  // Rows that were moved before it was stopped stay moved.
  expect(await bytesToFiles(replica, files, 'visit', move)).toBe(2);
  for (let n = 0; n < 3; n++) {
    const row = await replica.get('visit', `v${n}`);
    expect(row?.sketch).toBeNull();
    expect(await bytesOf(await files.openFile(row?.photo as FileValue))).toEqual(Buffer.from([n, n]));
  }
  await expect(bytesToFiles(replica, files, 'visit', { ...move, from: 'notes' })).rejects.toMatchObject({
    code: 'argument-invalid',
  });
  await files.close();
  await replica.close();
});
