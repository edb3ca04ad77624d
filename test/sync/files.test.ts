import { createHash, randomBytes } from 'node:crypto';
import { mkdtemp, readdir, readFile, rm, utimes, writeFile } from 'node:fs/promises';
import { type AddressInfo, connect, createServer, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica, type Replica } from '@koinon/client';
import {
  bytesToFiles,
  type ContentNote,
  type Contents,
  type Files,
  type FilesOptions,
  folderContents,
  memoryContents,
  openFiles,
} from '@koinon/client/files';
import { type FileValue, file, KoinonError, reference, schema, table, text } from '@koinon/core';
import { type FileStorage, folderStorage, type RunningServer, type Scopes, startServer } from '@koinon/server';
import { describe, expect, onTestFinished, test, vi } from 'vitest';
import photos from '../support/photos.ts';
import { newDatabase, type StoreKind, storeKinds } from '../support/stores.ts';
import { waitFor } from '../support/wait-for.ts';
import { never } from '../support/world.ts';

// Photos and documents: the row holds a description, the content goes its own way.

const apiary = schema({
  site: table({ keeper: text({ filterable: true }), name: text() }),
  visit: table({
    site: reference('site', { filterable: true }),
    notes: text(),
    photo: file({ optional: true, types: ['image/*', 'text/plain'], maximumBytes: 20_000_000 }),
    paper: file({ optional: true }),
  }),
});
type Apiary = typeof apiary;

const photoOf = (size: number) =>
  new Blob([Buffer.from([0xff, 0xd8, 0xff]), randomBytes(size)], { type: 'image/jpeg' });
const bytesOf = async (blob: Blob) => Buffer.from(await blob.arrayBuffer());

/** Everybody has the visits of his own sites, and nobody the papers but the office. */
const scopes: Scopes<Apiary> = {
  site: { read: (user) => (['office', 'clerk'].includes(user?.id ?? '') ? 'all' : { keeper: user?.id ?? '' }) },
  visit: {
    with: 'site',
    // The clerk reads, and writes nothing.
    write: (_, { user }) => (user?.id === 'clerk' ? [{ message: 'is not yours' }] : undefined),
    withhold: (user) => (user?.id === 'office' ? [] : ['paper']),
  },
};

interface Device {
  readonly replica: Replica<Apiary>;
  readonly files: Files<Apiary>;
  readonly contents: Contents;
}

async function world(kind: StoreKind = 'SQLite', isScoped = false, keeping = (storage: FileStorage) => storage) {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-files-'));
  const database = await newDatabase(kind, folder);
  const kept = join(folder, 'kept');
  const serve = async (port = 0) =>
    startServer({
      store: await database.open(apiary),
      port,
      files: keeping(folderStorage(kept)),
      ...(isScoped ? { scopes, authenticate: async (token: string) => ({ id: token, claims: {} }) } : {}),
    });
  const server: RunningServer = await serve();
  const devices: Device[] = [];
  let over = async () => server.close();
  onTestFinished(async () => {
    for (const { replica, files } of devices) {
      await files.close();
      await replica.close();
    }
    await over();
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  });
  return {
    folder,
    kept,
    database,
    url: server.url,
    /** Stops the server, does something, and starts it again at its address. */
    async restart(meanwhile: () => Promise<void> = async () => undefined) {
      await over();
      await meanwhile();
      const again = await serve(Number(new URL(server.url).port));
      over = async () => again.close();
    },
    async device(
      options: Partial<FilesOptions<Apiary>> & { user?: string; file?: string; address?: string } = {},
    ): Promise<Device> {
      const { user, file: name, address = server.url, ...rest } = options;
      const token = user === undefined ? {} : { token: () => user };
      const replica = await openReplica({
        ...{ schema: apiary, server: server.url, sync: { when: never, live: false } },
        ...token,
        ...(name ? { file: join(folder, name) } : {}),
      });
      const contents = rest.contents ?? (name ? folderContents(join(folder, `${name}.files`)) : memoryContents());
      const files = await openFiles(replica, { server: address, ...token, ...rest, contents });
      const made = { replica, files, contents };
      devices.push(made);
      return made;
    },
  };
}

/** Waits until everything that a device has saved is on the server. */
const sent = (device: Device) =>
  waitFor(async () => expect(await device.files.waiting()).toEqual([]), { timeout: 60_000, interval: 50 });

/** A way to the server that is cut each time that so many bytes have gone over it. */
async function cutting(
  to: string,
  every: number,
  spoilt?: { left: number },
): Promise<{ url: string; up: () => number; down: () => number }> {
  const { port } = new URL(to);
  const counted = { up: 0, down: 0 };
  const server = createServer((from: Socket) => {
    const onto = connect(Number(port), '127.0.0.1');
    let passed = 0;
    const end = () => {
      from.destroy();
      onto.destroy();
    };
    const pass = (way: 'up' | 'down', into: Socket) => (bytes: Buffer) => {
      // A byte of the content changes on the way.
      if (way === 'up' && bytes.byteLength > 10_000 && spoilt && spoilt.left-- > 0)
        bytes[9_000] = (bytes[9_000] as number) ^ 1;
      const room = every - passed;
      passed += bytes.byteLength;
      counted[way] += Math.min(bytes.byteLength, Math.max(room, 0));
      if (passed <= every) into.write(bytes);
      else into.write(bytes.subarray(0, Math.max(room, 0)), end);
    };
    from.on('data', pass('up', onto)).on('error', end).on('close', end);
    onto.on('data', pass('down', from)).on('error', end).on('close', end);
  }).listen(0, '127.0.0.1');
  await new Promise((done) => server.on('listening', done));
  onTestFinished(() => void server.close());
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    up: () => counted.up,
    down: () => counted.down,
  };
}

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
  expect(await ida.contents.notes()).toMatchObject([{ state: 'sent', isPinned: true }]);
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
