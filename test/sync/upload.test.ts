import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { setTimeout } from 'node:timers/promises';
import { httpTransport, type Transport } from '@koinon/client';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { BadNetwork, garden, rowsOf, World } from '../support/world.ts';

// The requests that go up, and their portions: joined where the latest state is enough, and as small as the way takes it.

let world: World;
beforeEach(async () => {
  world = await World.of(garden);
});
afterEach(() => world.end());

test('with the latest state only, what was never sent goes up joined; what was sent keeps its content, what is held stays', async () => {
  const network = new BadNetwork(world.server.url);
  const replica = await world.replica({ server: network, upload: 'latest state' });
  const other = await world.replica();
  await replica.insert('bed', { id: 'b', name: 'north' });
  await replica.insert('plant', { id: 'p', bed: 'b', kind: 'herb' });
  for (let n = 1; n <= 50; n++) {
    await replica.update('plant', 'p', { height: n });
    await replica.add('plant', 'p', 'watered');
  }
  await replica.insert('bed', { id: 'gone', name: 'gone' });
  await replica.delete('bed', 'gone');
  // First it is asked which schema the server has.
  network.fates.push('answered', 'lost reply');
  await replica.sync({ direction: 'push' }).catch(() => undefined);
  await replica.update('plant', 'p', { height: 99 });
  await replica.add('plant', 'p', 'watered', 100);
  await replica.sync();
  const sent = network.bodies.map(
    (body) => (JSON.parse(body) as { transactions: { changes: object[] }[] }).transactions,
  );
  expect(sent.map((transactions) => transactions.map(({ changes }) => changes.length))).toEqual([[2], [2], [1]]);
  await other.sync();
  expect(await other.get('plant', 'p')).toMatchObject({ height: 99, watered: 150 });
  // Deleted and made anew stays both; a conflict between two edits keeps what depends on it out, and lets the rest join.
  await other.update('bed', 'b', { name: 'theirs' });
  await other.sync();
  await replica.delete('plant', 'p');
  await replica.insert('plant', { id: 'p', bed: 'b', kind: 'tree' });
  await replica.update('bed', 'b', { name: 'mine' });
  await replica.insert('bed', { id: 'c', name: 'c' });
  await replica.update('bed', 'c', { sunny: false });
  await replica.sync();
  await replica.sync();
  expect(await replica.conflicts()).toMatchObject([{ table: 'bed', id: 'b', local: 'mine', remote: 'theirs' }]);
  await other.sync();
  expect(await other.get('bed', 'c')).toMatchObject({ sunny: false });
  await replica.resolve('bed', 'b', 'local');
  await replica.sync();
  await other.sync();
  expect(await rowsOf(other)).toEqual(await rowsOf(replica));
  expect(await other.get('plant', 'p')).toMatchObject({ kind: 'tree', watered: 0 });
});

test('of one row more edits than are joined at once: what goes up later names what went before, and nobody is asked about himself', async () => {
  const replica = await world.replica({ upload: 'latest state' });
  await replica.insert('bed', { id: 'b', name: '0' });
  for (let n = 1; n <= 2_500; n++) await replica.update('bed', 'b', { name: `${n}` });
  const { up } = await replica.sync({ direction: 'push' });
  expect(up).toMatchObject({ applied: 2, stale: 0 });
  await replica.sync();
  expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
  expect(await rowsOf(await world.shell())).toMatchObject({ 'bed b': { name: '2500' } });
});

test('what was joined is parted again where one edit of it is overtaken or refused: that one waits for a person, and all others are up', async () => {
  const replica = await world.replica({ upload: 'latest state' });
  const office = await world.shell();
  await office.exec("INSERT INTO bed VALUES ('b', 'north', true), ('c', 'south', true)");
  const list = Array.from({ length: 40 }, (_, n) => `('p${n}', 'b', 'herb', 'of the office', 0, 0, '[]')`);
  await office.exec(`INSERT INTO plant VALUES ${list.join()}`);
  await replica.sync();
  await office.exec("UPDATE plant SET label = 'overtaken' WHERE id = 'p7'");
  await office.exec("INSERT INTO bed VALUES ('d', 'taken', true)");
  for (let n = 0; n < 40; n++) {
    await replica.update('plant', `p${n}`, { label: `mine ${n}` });
    // In between, what goes together stays together, and what refers to something new comes behind it.
    if (n === 10) {
      await replica.update('bed', 'c', { name: 'taken' });
      await replica.update('plant', 'p9', { height: 9 });
      await replica.insert('plant', { id: 'new', bed: 'c', kind: 'tree' });
    }
    if (n === 20)
      await replica.transaction(async (tx) => {
        tx.add('plant', 'p20', 'watered', 5);
        tx.insert('bed', { id: 'e', name: 'east' });
      });
    if (n === 30) await replica.insert('plant', { id: 'other', bed: 'e', kind: 'tree' });
  }
  await replica.sync();
  expect(await replica.conflicts()).toMatchObject([{ id: 'p7', local: 'mine 7', remote: 'overtaken' }]);
  expect((await replica.rejections()).flatMap(({ problems }) => problems)).toMatchObject([
    { code: 'duplicate-value', table: 'bed', id: 'c', column: 'name' },
  ]);
  const there = await rowsOf(office);
  // What lies between two edits of one row goes with them; all else has nothing to do with what is held.
  const held = ['p7', 'p9', 'p10'].map((id) => `plant ${id}`);
  for (let n = 0; n < 40; n++)
    if (!held.includes(`plant p${n}`)) expect(there[`plant p${n}`]).toMatchObject({ label: `mine ${n}` });
  expect(there).toMatchObject({ 'plant p20': { watered: 5 }, 'bed e': { name: 'east' }, 'plant other': { bed: 'e' } });
  expect(there['plant new']).toBeUndefined();
  await replica.resolve('plant', 'p7', 'local');
  await replica.update('bed', 'c', { name: 'free' });
  await replica.sync();
  await replica.sync();
  expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
  expect(await rowsOf(office)).toEqual(await rowsOf(replica));
  expect(await rowsOf(office)).toMatchObject({ 'plant p7': { label: 'mine 7' }, 'plant new': { bed: 'c' } });
});

/** A way to the server on which the first push waits until the test lets it go on. */
function heldNetwork() {
  const good = httpTransport(world.server.url);
  const calls: string[] = [];
  let arrive: () => void = () => undefined;
  let letGo: () => void = () => undefined;
  const arrived = new Promise<void>((done) => {
    arrive = done;
  });
  const gate = new Promise<void>((done) => {
    letGo = done;
  });
  const network: Transport = {
    ...good,
    pull: (request, signal) => {
      calls.push('pull');
      return good.pull(request, signal);
    },
    push: async (body, signal) => {
      const { transactions } = JSON.parse(body) as { transactions: { changes: { id: string }[] }[] };
      calls.push(transactions.map(({ changes }) => changes.map(({ id }) => id).join('+')).join());
      arrive();
      await gate;
      return good.push(body, signal);
    },
  };
  /** Waits for the first push, and long enough for the next to be made ready behind it. */
  const underWay = async () => {
    await arrived;
    await setTimeout(100);
  };
  return { network, calls, underWay, letGo };
}

test('what is taken back or added while a request is under way is so in the next, though that was made ready before', async () => {
  const { network, calls, underWay, letGo } = heldNetwork();
  const opening = { server: network, file: 'one.db', upload: 'every step', requestBytes: 1 } as const;
  const replica = await world.replica(opening);
  for (const id of ['b1', 'b2', 'b3', 'b4']) await replica.insert('bed', { id, name: id });
  const syncing = replica.sync({ direction: 'push' });
  await underWay();
  await replica.revert('bed', 'b2');
  await replica.update('bed', 'b3', { name: 'again' });
  letGo();
  await syncing;
  expect(calls).toEqual(['pull', 'b1', 'b3', 'b4', 'b3']);
  expect(await rowsOf(await world.shell())).toEqual(await rowsOf(replica));
});

test('the same where another process takes it back in the same file', async () => {
  const { network, calls, underWay, letGo } = heldNetwork();
  const replica = await world.replica({ server: network, file: 'one.db', upload: 'every step', requestBytes: 1 });
  const other = await world.replica({ server: world.server.url, file: 'one.db', upload: 'every step' });
  for (const id of ['b1', 'b2', 'b3']) await replica.insert('bed', { id, name: id });
  const syncing = replica.sync({ direction: 'push' });
  await underWay();
  await other.revert('bed', 'b2');
  letGo();
  await syncing;
  expect(calls).toEqual(['pull', 'b1', 'b3']);
});

test('with the latest state only, what is made ready to go up joined can still be taken back step by step', async () => {
  const { network, calls, underWay, letGo } = heldNetwork();
  const replica = await world.replica({ server: network, upload: 'latest state' });
  await replica.insert('bed', { id: 'b', name: 'b' });
  for (let n = 1; n <= 600; n++) await replica.update('bed', 'b', { name: `${n}` });
  const syncing = replica.sync({ direction: 'push' });
  await underWay();
  await replica.undo();
  expect(await replica.get('bed', 'b')).toMatchObject({ name: '599' });
  letGo();
  await syncing;
  expect(calls).toEqual(['pull', 'b', 'b']);
  expect(await rowsOf(await world.shell())).toMatchObject({ 'bed b': { name: '599' } });
});

test('what was made ready behind a request that comes back overtaken is not sent before the pull', async () => {
  const { network, calls, underWay, letGo } = heldNetwork();
  const other = await world.replica();
  await other.insert('bed', { id: 'b', name: 'b' });
  await other.sync();
  const replica = await world.replica({ server: network, upload: 'every step', requestBytes: 1 });
  await replica.sync();
  await replica.update('bed', 'b', { name: 'mine' });
  await replica.insert('plant', { id: 'p', bed: 'b', kind: 'herb' });
  await replica.insert('bed', { id: 'c', name: 'c' });
  calls.length = 0;
  const syncing = replica.sync();
  await underWay();
  await other.update('bed', 'b', { name: 'theirs' });
  await other.sync();
  letGo();
  await syncing;
  // The plant stands on a bed that somebody has to decide about.
  expect(calls.filter((call, i) => call !== calls[i - 1])).toEqual(['pull', 'b', 'pull', 'c', 'pull']);
  expect(await replica.conflicts()).toMatchObject([{ table: 'bed', id: 'b', column: 'name' }]);
});

test('behind a proxy that takes small requests only, what is too large is sent one by one, and what is so alone is shown', async () => {
  const proxy = createServer((request, response) => {
    const chunks: Buffer[] = [];
    request.on('data', (chunk: Buffer) => chunks.push(chunk));
    request.on('end', async () => {
      const body = Buffer.concat(chunks);
      if (body.length > 20_000) {
        response.writeHead(413, { 'content-type': 'text/html' }).end('<h1>413 Request Entity Too Large</h1>');
        return;
      }
      const headers = { 'content-type': 'application/json' };
      const answer = await fetch(`${world.server.url}${request.url}`, { method: 'POST', body, headers });
      response.writeHead(answer.status, headers).end(await answer.text());
    });
  });
  await new Promise<void>((done) => proxy.listen(0, '127.0.0.1', done));
  const { port } = proxy.address() as AddressInfo;
  const small = await world.replica({ server: `http://127.0.0.1:${port}` });
  await small.insert('bed', { id: 'large', name: 'x'.repeat(30_000) });
  for (let n = 0; n < 200; n++) await small.insert('bed', { id: `b${n}`, name: `${n} ${'y'.repeat(100)}` });
  expect((await small.sync()).up).toMatchObject({ applied: 200, rejected: 1 });
  expect(await small.rejections()).toMatchObject([{ rows: [{ id: 'large' }], problems: [{ code: 'too-large' }] }]);
  await new Promise((done) => proxy.close(done).closeAllConnections());
});
