import { readFile } from 'node:fs/promises';
import type { AddressInfo } from 'node:net';
import { openReplica, type Replica, type SyncOptions, type SyncState, type Transport } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import { koinonPlugin, sqliteStore } from '@koinon/server';
import fastify from 'fastify';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { TestHost } from '../support/test-host.ts';
import { BadNetwork, type Garden, garden, rowsOf, World } from '../support/world.ts';

// The loop that syncs by itself: when it begins, what it says of itself, how it fails and comes back. Time is the test's.

let world: World;
let host: TestHost;
let replica: Replica<Garden>;
let state: SyncState;
let phases: string[];
beforeEach(async () => {
  world = await World.of(garden);
  host = new TestHost();
});
afterEach(async () => {
  await replica.close();
  await world.end();
});

async function open(sync: SyncOptions | 'automatic' | undefined, server: string | Transport = world.server.url) {
  // The events that call for a sync, without a server that tells of itself.
  const options = sync && { sync: { live: false, ...(sync === 'automatic' ? {} : sync) } };
  replica = await openReplica({ schema: garden, server, host, ...options });
  phases = [];
  replica.syncState().subscribe(({ rows: [row] }) => {
    if (row === undefined) return;
    state = row;
    if (phases.at(-1) !== row.phase) phases.push(row.phase);
  });
}

/** A server with more rows than two pages hold. */
async function manyBeds() {
  const shell = await world.shell();
  await shell.exec(
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 12000) INSERT INTO bed SELECT 'b' || i, 'bed ' || i, 1 FROM n",
  );
  return shell;
}

/** Lets the state be told until it is as expected, while no more time passes than telling takes. */
const reaches = (expected: object) =>
  expect
    .poll(async () => {
      await host.pass(50);
      return state;
    })
    .toMatchObject(expected);
const reasons = async () => (await replica.journal()).map(({ reason }) => reason).reverse();

test('by itself it syncs on opening, after changes, when the network or the person comes back, and on a timer', async () => {
  await open('automatic');
  await reaches({ phase: 'idle', isComplete: true, pending: 0, error: null, progress: null });
  expect(await reasons()).toEqual(['open']);
  await replica.insert('bed', { id: 'b', name: 'north' });
  await replica.update('bed', 'b', { name: 'south' });
  await reaches({ phase: 'idle', pending: 0, syncedAt: expect.any(String) });
  host.set({ online: false });
  await replica.update('bed', 'b', { name: 'west' });
  await host.pass(2_000);
  await reaches({ phase: 'offline', pending: 1 });
  host.set({ online: true });
  await reaches({ phase: 'idle', pending: 0 });
  host.set({ visible: false });
  host.set({ visible: true });
  await reaches({ phase: 'idle' });
  await expect.poll(reasons).toEqual(['open', 'change', 'online', 'visible']);
  await host.pass(60_000);
  await expect.poll(reasons).toEqual(['open', 'change', 'online', 'visible', 'timer']);
  expect(state.position).toBe(state.serverPosition);
});

test('each trigger can be switched off, and an app may refuse; by hand always works', async () => {
  let isAllowed = false;
  const when = { open: false, change: false, online: false, visible: false };
  await open({ when, interval: 10_000, allow: () => isAllowed });
  await replica.insert('bed', { name: 'north' });
  host.set({ online: false });
  host.set({ online: true, visible: false });
  host.set({ visible: true });
  await host.pass(5_000);
  expect(await reasons()).toEqual([]);
  expect((await replica.sync()).up.applied).toBe(1);
  await host.pass(10_000);
  await reaches({ phase: 'held-back', nextAttempt: expect.any(String) });
  isAllowed = true;
  await host.pass(10_000);
  await expect.poll(reasons).toEqual(['by hand', 'timer']);
});

test('failures are tried again after growing, jittered times, for ever; typing does not hasten them, the network does', async () => {
  const network = new BadNetwork(world.server.url);
  network.fates.push(...Array(12).fill('lost request'));
  await open({ minDelay: 1_000, maxDelay: 8_000, when: { timer: false } }, network);
  await reaches({ phase: 'waiting', error: { code: 'unknown', message: 'the request was lost' }, isComplete: false });
  const gaps: number[] = [];
  for (let n = 0; n < 6; n++) {
    const { nextAttempt } = state;
    const gap = Date.parse(nextAttempt as string) - host.now();
    gaps.push(gap);
    host.chance = n / 6;
    await replica.insert('bed', { name: `bed ${n}` });
    await host.pass(gap - 1);
    expect(network.fates.length, 'not before its time').toBe(11 - n);
    await host.pass(1);
    await expect.poll(() => network.fates.length).toBe(10 - n);
    await expect
      .poll(async () => {
        await host.pass(50);
        return state.phase === 'waiting' && state.nextAttempt !== nextAttempt;
      })
      .toBe(true);
  }
  // Told a moment after they were set.
  expect(gaps.map((gap) => Math.ceil(gap / 100) * 100)).toEqual([1000, 1000, 2300, 5300, 6000, 6700]);
  network.fates.length = 0;
  host.set({ online: false });
  host.set({ online: true });
  await reaches({ phase: 'idle', pending: 0, error: null, nextAttempt: null, isComplete: true });
});

test('paused it stops where it is and keeps everything; resumed it goes on', async () => {
  await manyBeds();
  const network = new BadNetwork(world.server.url);
  const good = network.pull;
  let pages = 0;
  network.pull = async (request, signal) => {
    const page = await good(request, signal);
    // The app pauses while the second page is under way.
    if (++pages === 2) await replica.pauseSync();
    return page;
  };
  await open({ when: { timer: false } }, network);
  await reaches({ phase: 'paused', isComplete: false });
  const half = await replica.count({ from: 'bed' });
  expect(half).toBeGreaterThanOrEqual(5_000);
  expect(half).toBeLessThan(12_000);
  await replica.insert('bed', { name: 'mine' });
  await host.pass(100_000);
  expect(state).toMatchObject({ phase: 'paused', pending: 1 });
  await replica.resumeSync();
  await reaches({ phase: 'idle', pending: 0, isComplete: true });
  expect(await replica.count({ from: 'bed' })).toBe(12_001);
  expect(pages, 'no page came twice').toBeLessThanOrEqual(5);
});

test('progress tells rows done and to come, and the journal what moved, table by table', async () => {
  const shell = await world.shell();
  await shell.exec(
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 11000) INSERT INTO bed SELECT 'b' || i, 'bed ' || i, 1 FROM n",
  );
  const seen: SyncState['progress'][] = [];
  const network = new BadNetwork(world.server.url);
  await open(undefined, {
    push: network.push,
    async pull(request, signal) {
      await host.pass(100);
      await replica.status();
      seen.push(state.progress);
      return network.pull(request, signal);
    },
  });
  await replica.insert('plant', {
    id: 'p',
    bed: (await replica.insert('bed', { id: 'mine', name: 'mine' })).id,
    kind: 'herb',
  });
  const estimatePull = await replica.estimatePull();
  seen.length = 0;
  await replica.sync();
  const down = seen.map((progress) => progress?.down);
  // The first only asks whose server it is.
  expect(down.slice(1, 4)).toEqual([
    { done: 0, of: null },
    { done: 5000, of: 11002 },
    { done: 10000, of: 11002 },
  ]);
  // Known beforehand, by table, without fetching anything.
  expect(estimatePull).toMatchObject({ bed: { rows: 11_000 }, plant: { rows: 0, bytes: 0 } });
  const actual = Buffer.byteLength(JSON.stringify(await replica.rows({ from: 'bed' })));
  expect((estimatePull.bed?.bytes ?? 0) / actual).toBeGreaterThan(1);
  expect((estimatePull.bed?.bytes ?? 0) / actual).toBeLessThan(4);
  await shell.exec("UPDATE bed SET name = 'renamed' WHERE id = 'b7'; DELETE FROM bed WHERE id = 'b8'");
  await replica.sync();
  const [second, first] = await replica.journal();
  expect(first).toMatchObject({
    reason: 'by hand',
    error: null,
    up: { bed: { insert: 1, first: ['mine'] }, plant: { insert: 1, first: ['p'] } },
    down: { bed: { insert: 11_001 } },
  });
  expect(second).toMatchObject({ down: { bed: { update: 1, delete: 1, first: ['b7', 'b8'] } }, up: {} });
  await expect(replica.sync({ signal: AbortSignal.abort() })).rejects.toMatchObject({ code: 'cancelled' });
  expect((await replica.journal(1))[0]).toMatchObject({ error: { code: 'cancelled' } });
});

test('a server that takes only newer apps stops the sync, not the app, and the outbox is kept', async () => {
  const app = fastify();
  const store = await sqliteStore(garden, world.path('upgraded.db'));
  await app.register(koinonPlugin, { store, minimumSchemaVersion: 2 });
  await app.listen({ port: 0, host: '127.0.0.1' });
  const { port } = app.server.address() as AddressInfo;
  await open('automatic', `http://127.0.0.1:${port}`);
  await reaches({
    phase: 'needs-upgrade',
    error: { code: 'upgrade-needed', message: expect.stringContaining('Update the app') },
  });
  await replica.insert('bed', { name: 'north' });
  await host.pass(600_000);
  expect(await reasons()).toEqual(['open']);
  await reaches({ phase: 'needs-upgrade', pending: 1 });
  await expect(replica.sync()).rejects.toBeInstanceOf(KoinonError);
  await app.close();
  await store.close();
});

test('a step by hand waits for the one that runs by itself; closing ends all of it', async () => {
  await open({ when: { timer: false } });
  await replica.insert('bed', { name: 'north' });
  await replica.sync();
  expect(await replica.status()).toMatchObject({ pending: 0 });
  await expect(Promise.all([replica.sync(), replica.sync()])).rejects.toMatchObject({ code: 'sync-busy' });
  await replica.close();
  await expect(replica.sync()).rejects.toMatchObject({ code: 'replica-closed' });
});

test('on a link that never gets a first download through, what is written here goes up all the same', async () => {
  const shell = await manyBeds();
  const network = new BadNetwork(world.server.url);
  const { pull } = network;
  let pages = 0;
  network.pull = (request, signal) =>
    request.limit !== 1 && ++pages % 2 === 0 ? Promise.reject(new Error('the signal went')) : pull(request, signal);
  replica = await openReplica({ schema: garden, server: network });
  await replica.insert('bed', { id: 'before', name: 'written before anything came' });
  await replica.sync().catch(() => undefined);
  expect(await replica.count({ from: 'bed' })).toBe(5_001);
  await replica.update('bed', 'b1', { name: 'changed here' });
  await replica.insert('plant', { id: 'p', bed: 'before', kind: 'herb' });
  await shell.exec("UPDATE bed SET name = 'changed there' WHERE id = 'b10'");
  await replica.update('bed', 'b10', { sunny: false });
  await replica.sync().catch(() => undefined);
  expect(
    await shell.all("SELECT id, name, sunny FROM bed WHERE id IN ('before', 'b1', 'b10') ORDER BY id"),
  ).toMatchObject([
    { id: 'b1', name: 'changed here' },
    { id: 'b10', name: 'changed there', sunny: 0 },
    { id: 'before' },
  ]);
  expect(await replica.status()).toMatchObject({ pending: 0 });
  await replica.sync().catch(() => undefined);
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
});

test('the next page is under way while one is taken in; what goes up between them has it asked for anew', async () => {
  const shell = await manyBeds();
  const network = new BadNetwork(world.server.url);
  const { pull } = network;
  const asked: {
    behind: string | undefined;
    own: number;
    here: Promise<number>;
    signal: AbortSignal | undefined;
  }[] = [];
  network.pull = (request, signal) => {
    asked.push({
      signal,
      behind: request.cursor,
      own: request.unacknowledged?.length ?? 0,
      here: replica.count({ from: 'bed', where: { name: { '!=': 'typed meanwhile' } } }),
    });
    if (asked.length === 2) void replica.insert('bed', { id: 'new', name: 'typed meanwhile' });
    return pull(request, signal);
  };
  replica = await openReplica({ schema: garden, server: network });
  await replica.sync();
  const here = await Promise.all(asked.map((each) => each.here));
  expect(here.slice(0, 3)).toEqual([0, 0, 5_000]);
  expect(asked.map(({ own }) => own).slice(0, 4)).toEqual([0, 0, 1, 1]);
  expect(asked[1]?.behind).toBe(asked[2]?.behind);
  // What nobody will look at need not come over a costly link.
  expect(asked.map(({ signal }) => signal?.aborted).slice(0, 4)).toEqual([false, true, false, false]);
  expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
  expect(await replica.status()).toMatchObject({ pending: 0 });
});

test('what was confirmed is kept for seven days, should the server lose it, and then it is out of the file', async () => {
  const file = world.path('kept.db');
  replica = await openReplica({ schema: garden, file, server: world.server.url, host });
  await replica.insert('bed', { id: 'b', name: 'words of the first day' });
  await replica.sync();
  await replica.update('bed', 'b', { name: 'other words' });
  await replica.sync();
  const holds = async (words: string) => {
    await replica.close();
    const held = (await Promise.all(['', '-wal'].map((end) => readFile(file + end).catch(() => Buffer.from(''))))).some(
      (bytes) => bytes.includes(words),
    );
    replica = await openReplica({ schema: garden, file, server: world.server.url, host });
    return held;
  };
  const days = async (count: number) => {
    await host.pass(count * 86_400_000);
    await replica.sync();
  };
  await days(6);
  expect(await holds('words of the first day')).toBe(true);
  await replica.sync();
  // While it stays open as well, not only when it is opened.
  await days(1.1);
  expect(await holds('words of the first day')).toBe(false);
  expect(await holds('other words'), 'the row itself').toBe(true);
});
