import { readFile } from 'node:fs/promises';
import {
  deleteReplica,
  httpTransport,
  listReplicas,
  openReplica,
  type Replica,
  renameReplica,
  type Transport,
} from '@koinon/client';
import { integer, KoinonError, reference, schema, table, text } from '@koinon/core';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { commonsWorld, replicaOf } from '../support/commons.ts';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// A replica that is tied to a server later, untied, and tied again: nothing doubled, nothing back from the dead, nothing lost.

const shelf = schema({
  author: table({ name: text({ unique: true }), born: integer({ optional: true }) }, { naturalKey: ['name'] }),
  book: table({ author: reference('author'), title: text(), pages: integer({ optional: true }) }),
});
type Shelf = typeof shelf;

let world: World<Shelf>;
let office: Replica<Shelf>;
let device: Replica<Shelf>;

/** The device's file, tied to the server or not. */
const reopen = async (linked: boolean) => {
  await device?.close();
  device = await world.closed(
    openReplica({ schema: shelf, file: world.path('device.db'), ...(linked && { server: world.server.url }) }),
  );
};
/** All are in step and nothing is asked; then the device goes on over a way to the server that is another one in part. */
const settleOver = async (change: (good: Transport) => Partial<Transport>) => {
  await device.sync();
  await device.resolve('author', 'server-1', 'remote');
  await device.sync();
  await office.sync();
  await device.close();
  const good = httpTransport(world.server.url);
  const server = { ...good, ...change(good) };
  device = await world.closed(openReplica({ schema: shelf, file: world.path('device.db'), server }));
};
const titles = async (replica: Replica<Shelf>) => {
  const authors = new Map((await replica.rows({ from: 'author' })).map(({ id, name }) => [id, name]));
  const books = await replica.rows({ from: 'book', order: ['title'] });
  return books.map(({ title, author }) => `${title} by ${authors.get(author)}`);
};

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    world = await World.of(shelf, kind);
    office = await world.replica();
    await office.insert('author', { id: 'server-1', name: 'Ilse', born: 1901 });
    await office.insert('book', { id: 'b1', author: 'server-1', title: 'Rain' });
    await office.sync();
    device = undefined as never;
    await reopen(false);
    await device.insert('author', { id: 'local-1', name: 'Ilse', born: 1900 });
    await device.insert('author', { id: 'local-2', name: 'Odd' });
    await device.insert('book', { id: 'b2', author: 'local-1', title: 'Snow' });
    await device.update('book', 'b2', { pages: 90 });
    await device.insert('book', { id: 'b3', author: 'local-2', title: 'Fog' });
    await reopen(true);
  });
  afterEach(() => world.end());

  test('history 19: linked by its natural key while others refer to it; unlinked with keep; deleted on the server; linked again', async () => {
    await device.sync();
    expect(await device.conflicts()).toMatchObject([
      { table: 'author', id: 'server-1', column: 'born', local: 1900, remote: 1901 },
    ]);
    await device.resolve('author', 'server-1', 'remote');
    await device.sync();
    expect(await device.status()).toMatchObject({ pending: 0, rejected: 0, conflicted: 0 });
    await office.sync();
    const all = ['Fog by Odd', 'Rain by Ilse', 'Snow by Ilse'];
    for (const replica of [device, office]) expect(await titles(replica)).toEqual(all);
    expect((await office.rows({ from: 'author', order: ['id'] })).map(({ id }) => id)).toEqual(['local-2', 'server-1']);

    expect(await device.unlink({ rows: 'keep' })).toEqual({ erased: 0, deleted: 0, left: [] });
    await expect(device.sync()).rejects.toMatchObject({ code: 'not-linked' });
    await reopen(true);
    for await (const { rows } of device.syncState()) {
      expect(rows[0]?.phase).toBe('unlinked');
      break;
    }
    expect(await titles(device)).toEqual(all);
    await device.update('book', 'b3', { title: 'Fog, revised' });
    await office.delete('book', 'b1');
    await office.delete('book', 'b2');
    await office.delete('author', 'server-1');
    await office.sync();
    // By itself, when it is linked again, and not before.
    await device.close();
    device = await world.closed(
      openReplica({ schema: shelf, file: world.path('device.db'), server: world.server.url, sync: 'automatic' }),
    );
    await new Promise((done) => setTimeout(done, 200));
    expect(await titles(device)).toHaveLength(3);
    await device.link();
    await expect.poll(() => titles(device)).toEqual(['Fog, revised by Odd']);
    await expect.poll(async () => (await device.status()).pending).toBe(0);
    await office.sync();
    for (const replica of [device, office]) expect(await titles(replica)).toEqual(['Fog, revised by Odd']);
  });

  test('erasing takes everything out of the file, names what is unsent first, and linking again brings it back', async () => {
    await device.sync();
    await device.resolve('author', 'server-1', 'remote');
    await device.sync();
    await device.update('book', 'b1', { title: 'Rain, unsent' });
    await expect(device.unlink({ rows: 'erase' })).rejects.toMatchObject({ code: 'unsent-changes' });
    expect(await titles(device)).toHaveLength(3);
    await device.sync();
    const { replicaId } = await device.status();
    expect(await device.unlink({ rows: 'erase' })).toMatchObject({ erased: 5 });
    expect(await titles(device)).toEqual([]);
    // From the log as well, though nobody has closed the replica yet.
    for (const name of ['device.db', 'device.db-wal'])
      expect((await readFile(world.path(name))).toString('latin1')).not.toMatch(/Rain|Snow|Ilse|server-1/);
    await device.close();
    await reopen(true);
    await device.link();
    await device.sync();
    expect(await titles(device)).toEqual(['Fog by Odd', 'Rain, unsent by Ilse', 'Snow by Ilse']);
    expect(await device.status()).toMatchObject({ replicaId });
  });

  test('the server’s copy is deleted only when that is chosen, also when it is cut off in between; the rows here stay, and go up as new ones', async () => {
    let cut = true;
    await settleOver((good) => ({
      push: (body, signal) =>
        good.push(body, signal).then((answer) => (cut ? Promise.reject(new Error('cut')) : answer)),
    }));
    await expect(device.unlink({ rows: 'keep', server: 'delete' })).rejects.toThrow('cut');
    await expect(device.sync(), 'what is gone there must not go here').rejects.toMatchObject({ code: 'not-linked' });
    cut = false;
    expect(await device.unlink({ rows: 'keep', server: 'delete' })).toMatchObject({ erased: 0, deleted: 5, left: [] });
    await office.sync();
    expect(await titles(office)).toEqual([]);
    const all = ['Fog by Odd', 'Rain by Ilse', 'Snow by Ilse'];
    expect(await titles(device)).toEqual(all);
    await device.link();
    await device.sync();
    await office.sync();
    for (const replica of [device, office]) expect(await titles(replica)).toEqual(all);
  });

  test('what is typed while a tie is being ended is not erased with the rest; syncing goes on', async () => {
    let answer: () => void = () => undefined;
    const held = new Promise<void>((done) => {
      answer = done;
    });
    let asked: () => void = () => undefined;
    const isAsked = new Promise<void>((done) => {
      asked = done;
    });
    // Answers late, whatever becomes of whoever asked.
    await settleOver((good) => ({
      pull: (request) => {
        asked();
        return held.then(() => good.pull(request));
      },
    }));
    const syncing = device.sync().catch(() => undefined);
    await isAsked;
    const neighbour = await world.closed(
      openReplica({ schema: shelf, file: world.path('device.db'), server: world.server.url }),
    );
    await expect(neighbour.unlink({ rows: 'erase' }), 'what is fetched here would come after it').rejects.toMatchObject(
      {
        code: 'sync-busy',
      },
    );
    await neighbour.close();
    const ended = device.unlink({ rows: 'erase' });
    // Nothing was unsent when it began.
    const unchanged = expect(ended).rejects.toMatchObject({ code: 'unsent-changes' });
    await new Promise((done) => setTimeout(done, 50));
    await device.update('book', 'b1', { title: 'Rain, typed meanwhile' });
    answer();
    await syncing;
    await unchanged;
    expect(await titles(device)).toContain('Rain, typed meanwhile by Ilse');
    await device.sync();
    await office.sync();
    expect(await titles(office)).toContain('Rain, typed meanwhile by Ilse');
  });

  test('the server’s copy goes with what was deleted here and not sent, also for one away too long', async () => {
    await settleOver((good) => ({
      pull: (request, signal) =>
        request.cursor === undefined
          ? good.pull(request, signal)
          : Promise.reject(new KoinonError('forgotten-cursor', 'older than what is kept')),
      push: (body, signal) =>
        good.push(body, signal).then((answer) => (body.includes('lost') ? Promise.reject(new Error('cut')) : answer)),
    }));
    // Applied, and the answer lost.
    await device.insert('author', { id: 'y', name: 'lost' });
    await expect(device.sync({ direction: 'push' })).rejects.toThrow('cut');
    await device.delete('book', 'b1');
    await device.insert('author', { id: 'x', name: 'Ilse the younger' });
    await device.update('author', 'x', { name: 'Ylva' });
    expect(await device.unlink({ rows: 'keep', server: 'delete' })).toMatchObject({ deleted: 6, left: [] });
    await office.sync();
    expect(await office.count({ from: 'author' })).toBe(0);
    await reopen(true);
    await device.link();
    await device.sync();
    await office.sync();
    for (const replica of [device, office]) {
      expect(await titles(replica)).toEqual(['Fog by Odd', 'Snow by Ilse']);
      expect(await replica.get('author', 'x')).toMatchObject({ name: 'Ylva' });
      expect(await replica.get('author', 'y')).toMatchObject({ name: 'lost' });
      expect(await replica.status()).toMatchObject({ pending: 0, rejected: 0 });
    }
  });

  test('asked for less, a device holds less; asked for another part, only the difference moves', async () => {
    const part = (tables: readonly ('author' | 'book')[]) =>
      world.closed(
        openReplica({ schema: shelf, file: world.path('part.db'), server: world.server.url, only: { tables } }),
      );
    let some = await part(['author']);
    expect((await some.sync()).down).toMatchObject({ insert: 1 });
    await some.close();
    some = await part(['author', 'book']);
    expect((await some.sync()).down).toMatchObject({ insert: 1, leave: 0 });
    await some.close();
    some = await part(['book']);
    expect((await some.sync()).down).toMatchObject({ insert: 0, leave: 1, delete: 0 });
    await some.close();
    // Columns: not asked for they are null here, and stay what they are there, also where the row is deleted and comes back.
    const column = (columns: readonly ('name' | 'born')[]) =>
      world.closed(
        openReplica({
          schema: shelf,
          file: world.path('part.db'),
          server: world.server.url,
          only: { columns: { author: columns } },
        }),
      );
    await expect(column(['name', 'shoe' as 'born'])).rejects.toMatchObject({ code: 'unknown-column' });
    some = await column(['name']);
    await some.sync();
    expect(await some.get('author', 'server-1')).toMatchObject({ name: 'Ilse', born: null });
    await office.delete('book', 'b1');
    await office.delete('author', 'server-1');
    await office.sync();
    await some.update('author', 'server-1', { name: 'Ilse K.' });
    await some.sync();
    await office.sync();
    expect(await office.get('author', 'server-1')).toMatchObject({ name: 'Ilse K.', born: 1901 });
    await some.close();
    some = await column(['name', 'born']);
    await some.sync();
    expect(await some.get('author', 'server-1')).toMatchObject({ born: 1901 });
    // What was typed and is not sent stays, and goes up, whatever is asked for by then.
    await some.insert('author', { id: 'typed', name: 'Runa', born: 1990 });
    await some.update('author', 'server-1', { born: 1902 });
    await some.close();
    some = await column(['name']);
    expect(await some.get('author', 'typed')).toMatchObject({ born: 1990 });
    await some.sync();
    await office.sync();
    expect(await office.get('author', 'typed')).toMatchObject({ born: 1990 });
    expect(await office.get('author', 'server-1')).toMatchObject({ born: 1902 });
    for (const id of ['server-1', 'typed']) expect(await some.get('author', id)).toMatchObject({ born: null });
    await some.close();
    some = await part(['book']);
    await some.sync();
    expect(await some.count({ from: 'author' })).toBe(0);
    for await (const { rows } of some.syncState()) {
      const { author = '', book = '' } = rows[0]?.syncedTables ?? {};
      expect(author < book, `${author} was before ${book}`).toBe(true);
      break;
    }
  });
});

test('several replicas side by side: of two users and of none, told apart by name, user and what is unsent', async () => {
  const world = await commonsWorld('SQLite');
  for (const person of ['mika', 'tove']) {
    const replica = await replicaOf(world, person, { file: world.path(`${person}.db`) });
    await replica.sync();
    await replica.insert('note', { person, words: 'unsent' });
    await replica.close();
  }
  const alone = await openReplica({ schema: shelf, file: world.path('alone.db') });
  await alone.close();
  await renameReplica(world.path('mika.db'), 'Mika, at the north end');
  expect(await listReplicas(world.folder)).toMatchObject([
    { file: world.path('alone.db'), name: null, user: null, isLinked: false, unsent: 0 },
    { file: world.path('tove.db'), user: 'tove', isLinked: true, unsent: 1 },
    { name: 'Mika, at the north end', user: 'mika', size: expect.any(Number), unsent: 1 },
  ]);
  // Lent to somebody else: the first one's changes are not sent, and the second gets nothing.
  const lent = await replicaOf(world, 'tove', { file: world.path('mika.db') });
  await expect(lent.sync()).rejects.toMatchObject({ code: 'other-user' });
  expect(await lent.status()).toMatchObject({ user: 'mika', pending: 1 });
  await lent.close();
  await deleteReplica(world.path('mika.db'));
  await expect(deleteReplica(world.path('server.db'))).rejects.toMatchObject({ code: 'storage-foreign' });
  expect((await listReplicas(world.folder)).map(({ user }) => user)).toEqual([null, 'tove']);
  await world.end();
});
