import { createHash } from 'node:crypto';
import { type AddressInfo, connect, createServer } from 'node:net';
import { type DeletedRow, httpTransport, openReplica, type Replica } from '@koinon/client';
import { bytes, json, schema, table, text } from '@koinon/core';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { BadNetwork, World } from '../support/world.ts';

// Photos and other values that are large one by one: what is in memory and on the way at once stays small, however many they are.

const album = schema({
  page: table({ title: text(), text: text({ optional: true }), marks: json({ optional: true }) }),
  photo: table({ page: text(), image: bytes({ optional: true }) }),
  letter: table({ text: text() }),
});

const [count, size] = [24, 300_000];

/** The bytes of a photo: nothing that gets smaller on the way. */
function imageOf(n: number, edit: number): Uint8Array {
  let seed = n * 1_000 + edit;
  return Uint8Array.from({ length: size }, () => {
    seed = (Math.imul(seed, 1_664_525) + 1_013_904_223) | 0;
    return seed >>> 24;
  });
}

/** The photos of a replica, in a form that is compared at once. */
async function photosOf(replica: Replica<typeof album>): Promise<string[]> {
  const rows = await replica.rows({ from: 'photo', order: 'id' });
  return rows.map(({ id, image }) => `${id} ${image && createHash('sha256').update(image).digest('hex')}`);
}

describe.each(storeKinds)('on %s', (kind) => {
  let world: World<typeof album>;
  beforeEach(async () => {
    world = await World.of(album, kind);
  });
  afterEach(() => world.end());

  test('rows that are large come in pages of a few, by key and by what changed, and deleted ones as well', async () => {
    const way = httpTransport(world.server.url);
    const writer = await world.replica({ server: way });
    const network = new BadNetwork(world.server.url);
    const reader = await world.replica({ server: network });
    const stood = await world.replica();
    await stood.sync();
    const ids = Array.from({ length: count }, (_, n) => `p${n}`);
    await writer.insert('page', {
      id: 'a',
      title: 'large as well',
      text: 'x'.repeat(700_000),
      marks: { all: 'y'.repeat(700_000) },
    });
    for (const [n, id] of ids.entries()) await writer.insert('photo', { id, page: 'a', image: imageOf(n, 0) });
    for (let n = 0; n < 1_000; n++) await writer.insert('page', { id: `small ${n}`, title: `${n}` });
    await writer.sync();
    // Bytes that it has sent do not come back to it.
    expect(way.bytes?.down).toBeLessThan((count * size) / 2);
    const fetched = async () => {
      network.pulls.length = 0;
      await reader.sync();
      return [...network.pulls];
    };
    const same = async () => expect(await photosOf(reader)).toEqual(await photosOf(writer));
    // A megabyte holds three of them and one that is begun; what is small fills a page with its number alone.
    const first = await fetched();
    expect(first.reduce((sum, rows) => sum + rows, 0)).toBe(count + 1_001);
    expect(first.filter((rows) => rows > 0 && rows <= 4).length).toBeGreaterThanOrEqual(count / 4);
    await same();
    for (const [n, id] of ids.entries()) await writer.update('photo', id, { image: imageOf(n, 1) });
    await writer.sync();
    const changed = await fetched();
    expect(changed.reduce((sum, rows) => sum + rows, 0)).toBe(count);
    expect(Math.max(...changed)).toBeLessThanOrEqual(8);
    await same();
    const whole = await world.request('/v1/pull', { limit: 3 });
    expect(whole.lines.length).toBeLessThanOrEqual(4);
    for (const id of ids) await writer.delete('photo', id);
    await writer.sync();
    const gone = await fetched();
    expect(gone.reduce((sum, rows) => sum + rows, 0)).toBe(count);
    expect(Math.max(...gone)).toBeLessThanOrEqual(12);
    await same();
    const trash: string[] = [];
    for (let before: DeletedRow | undefined; ; ) {
      const some = await stood.trash({ table: 'photo', ...(before && { before }) });
      expect(some.length).toBeLessThanOrEqual(16);
      if (some.length === 0) break;
      trash.push(...some.map(({ id }) => id));
      before = some.at(-1);
    }
    expect(trash.toSorted()).toEqual(ids.toSorted());
    // One who was away all the while gets what is left, and nothing of what came and went.
    await stood.sync();
    expect(await stood.count({ from: 'page' })).toBe(1_001);
    expect(await stood.count({ from: 'photo' })).toBe(0);
  });
});

test.each(storeKinds)(
  'on %s long texts come in pages of a few, to a reader that takes rows one by one as well',
  async (kind) => {
    const world = await World.inTest(album, kind);
    const shell = await world.shell();
    for (let n = 0; n < count; n++) await shell.exec(`INSERT INTO letter VALUES ('l${n}', '${'x'.repeat(size)}')`);
    const read = async (cursor?: string) =>
      (await world.request('/v1/pull', { limit: 1_000, ...(cursor && { cursor }) })).lines;
    const [header, ...rows] = await read();
    expect(rows.length).toBeGreaterThan(1);
    expect(rows.length).toBeLessThanOrEqual(5);
    expect(header).toMatchObject({ more: true });
  },
);

test.each(storeKinds)(
  'on %s a photo does not come back to who has sent it, unless it is not there any more',
  async (kind) => {
    const world = await World.inTest(album, kind);
    const way = httpTransport(world.server.url);
    const replica = await world.replica({ file: 'a.db', server: way });
    const other = await world.replica();
    await replica.insert('page', { id: 'a', title: 'kept' });
    await replica.sync();
    await replica.copyTo(world.path('copy.db'));
    await replica.insert('photo', { id: 'p', page: 'a', image: imageOf(1, 1) });
    await replica.insert('photo', { id: 'q', page: 'a', image: imageOf(2, 1) });
    await replica.sync({ direction: 'push' });
    // Typed over before it is back; another one is changed elsewhere, and a third on the server.
    await replica.update('photo', 'p', { image: imageOf(1, 2) });
    await other.sync();
    await other.update('photo', 'q', { image: imageOf(2, 2) });
    await other.sync();
    const before = way.bytes?.down ?? 0;
    await replica.sync();
    const came = (way.bytes?.down ?? 0) - before;
    // The one that another device has written comes, the two of its own do not.
    expect(came).toBeGreaterThan(size);
    expect(came).toBeLessThan(2 * size);
    await other.sync();
    expect(await photosOf(replica)).toEqual(await photosOf(other));
    // A copy of the file is the same replica, and has none of it.
    const copy = await world.replica({ file: 'copy.db' });
    await copy.sync();
    expect(await photosOf(copy)).toEqual(await photosOf(other));
    // Live, it is told to pull.
    const near = httpTransport(world.server.url);
    const live = await openReplica({ schema: album, server: near, sync: 'automatic' });
    for await (const { rows } of live.syncState()) if (rows[0]?.phase === 'live') break;
    const stood = near.bytes?.down ?? 0;
    await live.insert('photo', { id: 'r', page: 'a', image: imageOf(3, 1) });
    const isBack = async () => (await live.status()).pending === 0 && (await live.outbox()).length === 0;
    await expect.poll(isBack).toBe(true);
    await other.sync();
    expect(await photosOf(live)).toEqual(await photosOf(other));
    expect((near.bytes?.down ?? 0) - stood).toBeLessThan(size / 2);
    await live.close();
  },
);

test('over a link that carries little at a time, what is large takes longer than anybody waits for a sign; a link that is dead is given up', async () => {
  const world = await World.inTest(album);
  const link = { bytes: 4_096, isDead: false, sent: 0 };
  // As much as the link carries goes on every ten milliseconds, each way.
  const relay = createServer((near) => {
    const far = connect(Number(new URL(world.server.url).port), '127.0.0.1');
    for (const [from, to] of [
      [near, far],
      [far, near],
    ] as const) {
      const waiting: Buffer[] = [];
      from.on('data', (data: Buffer) => waiting.push(data));
      const timer = setInterval(() => {
        const data = Buffer.concat(waiting.splice(0));
        if (link.isDead || data.length === 0) return waiting.push(data);
        to.write(data.subarray(0, link.bytes));
        if (to === far) link.sent += Math.min(data.length, link.bytes);
        if (data.length > link.bytes) waiting.push(data.subarray(link.bytes));
      }, 10);
      const end = () => {
        clearInterval(timer);
        to.destroy();
      };
      from.on('close', end).on('error', end);
    }
  });
  await new Promise<void>((done) => relay.listen(0, '127.0.0.1', done));
  const url = `http://127.0.0.1:${(relay.address() as AddressInfo).port}`;
  const timeout = 400;
  const far = await world.replica({ server: httpTransport(url, { timeout }) });
  const near = await world.replica();
  await far.sync();
  await far.insert('photo', { id: 'up', page: 'a', image: imageOf(1, 1) });
  await near.insert('photo', { id: 'down', page: 'a', image: imageOf(2, 1) });
  await near.sync();
  const began = performance.now();
  expect((await far.sync()).up.applied).toBe(1);
  expect(performance.now() - began).toBeGreaterThan(3 * timeout);
  await near.sync();
  expect(await photosOf(far)).toEqual(await photosOf(near));
  // By now it is known to be slow: what goes up is compressed.
  const text = 'calm weather, the queen was seen, nothing else to tell; ';
  for (let n = 0; n < 400; n++) await far.insert('page', { title: `visit ${n}`, text: text.repeat(5) });
  link.sent = 0;
  expect((await far.sync()).up.applied).toBe(400);
  expect(link.sent).toBeLessThan((400 * text.length * 5) / 3);
  await near.sync();
  expect(await near.rows({ from: 'page', order: 'id' })).toEqual(await far.rows({ from: 'page', order: 'id' }));
  link.isDead = true;
  await expect(far.sync()).rejects.toMatchObject({
    code: 'server-unreachable',
    message: expect.stringMatching('nothing came'),
  });
  relay.close();
});
