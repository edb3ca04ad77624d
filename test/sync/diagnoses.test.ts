import { readdirSync, readlinkSync, rmSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { createServer, type RequestListener } from 'node:http';
import { createServer as createSecureServer } from 'node:https';
import { type AddressInfo, connect, createServer as createTcpServer, type Socket } from 'node:net';
import { join } from 'node:path';
import { httpTransport, openReplica, type SyncState } from '@koinon/client';
import type { KoinonError } from '@koinon/core';
import { sqliteStore, startServer } from '@koinon/server';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { TestHost } from '../support/test-host.ts';
import { garden, never, rowsOf, World } from '../support/world.ts';

// A failure is told as what it is, and what does not belong together stays apart.

let world: World;
const ending: (() => Promise<unknown>)[] = [];
beforeEach(async () => {
  world = await World.of(garden);
});
afterEach(async () => {
  for (const end of ending.splice(0)) await end();
  await world.end();
});

/** A server that is none of Koinon's. */
async function serving(answer: RequestListener): Promise<string> {
  const server = createServer(answer);
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  ending.push(() => new Promise((done) => server.close(done).closeAllConnections()));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

const open = async (server: string, more: object = {}) => {
  const replica = await openReplica({ schema: garden, server, ...more });
  ending.push(() => replica.close());
  return replica;
};

test('a redirect within the server’s origin is followed; one to another origin gets nothing that is unsent', async () => {
  const got: string[] = [];
  const other = await serving((request, response) => {
    got.push(request.url ?? '');
    response.end('{}');
  });
  const inside = await serving((request, response) => {
    const to = request.url?.startsWith('/moved') ? `${other}${request.url}` : `/moved${request.url}`;
    response.writeHead(308, { location: to }).end();
  });
  const outside = await open(inside);
  await outside.insert('bed', { id: 'secret', name: 'secret' });
  await expect(outside.sync()).rejects.toMatchObject({
    code: 'server-answer',
    message: expect.stringContaining(other),
  });
  expect(got).toEqual([]);
  const within = await serving(async (request, response) => {
    if (!request.url?.startsWith('/new/')) return response.writeHead(307, { location: `/new${request.url}` }).end();
    const parts: Buffer[] = [];
    for await (const part of request) parts.push(part as Buffer);
    const path = request.url.slice('/new'.length);
    const headers = { 'content-type': 'application/json' };
    const answer = await fetch(`${world.server.url}${path}`, { method: 'POST', headers, body: Buffer.concat(parts) });
    return response.writeHead(answer.status, { 'content-type': 'application/json' }).end(await answer.text());
  });
  const replica = await open(within);
  await replica.insert('bed', { id: 'b', name: 'north' });
  await replica.sync();
  expect(Object.keys(await rowsOf(await world.shell()))).toEqual(['bed b']);
});

test('a page for people, another service and an endless answer are told as what they are; nothing is taken from them', async () => {
  const page = await open(
    await serving((_request, response) => response.writeHead(200, { 'content-type': 'text/html' }).end('<p>Log in')),
  );
  await expect(page.sync()).rejects.toMatchObject({
    code: 'server-answer',
    message: expect.stringContaining('a web page'),
  });
  const service = await open(await serving((_request, response) => response.writeHead(404).end('no')));
  await expect(service.sync()).rejects.toMatchObject({
    code: 'server-answer',
    message: expect.stringContaining('404'),
  });
  const endless = await open(
    await serving((_request, response) => {
      const piece = Buffer.alloc(4 * 1024 * 1024, 0x20);
      const more = () => void (response.write(piece) ? setImmediate(more) : response.once('drain', more));
      response.on('error', () => undefined);
      more();
    }),
  );
  await expect(endless.sync()).rejects.toMatchObject({
    code: 'server-answer',
    message: expect.stringContaining('more than'),
  });
});

test('a token that cannot be fetched is a failure that is tried again; only no token asks somebody to sign in', async () => {
  let give: () => unknown = () => {
    throw new TypeError('the login server restarts');
  };
  const token = async () => give() as string;
  const states: SyncState[] = [];
  const replica = await open(world.server.url, { token, sync: { minDelay: 20, maxDelay: 20, live: false } });
  replica.syncState().subscribe(({ rows: [state] }) => void (state && states.push(state)));
  await expect
    .poll(() => states.at(-1))
    .toMatchObject({
      phase: 'waiting',
      error: {
        code: 'token-failed',
        message: expect.stringContaining('restarts'),
        cause: 'TypeError: the login server restarts',
      },
    });
  give = () => 7;
  await expect.poll(() => states.at(-1)?.error?.message).toContain('a value of type number');
  give = () => undefined;
  await expect.poll(() => states.at(-1)?.phase).toBe('needs-auth');
  give = () => 'anybody';
  await replica.authChanged();
  await expect.poll(() => states.at(-1)).toMatchObject({ phase: 'idle', error: null });
});

test('the state’s numbers change with the commit; what the app does not allow is held back until it is asked again', async () => {
  let isAllowed = false;
  const replica = await open(world.server.url, { sync: { allow: () => isAllowed, live: false, interval: 3_600_000 } });
  const live = replica.syncState();
  live.subscribe(() => undefined);
  await expect.poll(() => live.current.rows[0]?.phase).toBe('held-back');
  for (let n = 1; n <= 3; n++) {
    await replica.insert('bed', { name: `bed ${n}` });
    expect(live.current.rows[0]?.pending).toBe(n);
  }
  await replica.retrySync();
  await expect.poll(() => live.current.rows[0]?.phase).toBe('held-back');
  isAllowed = true;
  await replica.retrySync();
  await expect.poll(() => live.current.rows[0]).toMatchObject({ phase: 'idle', pending: 0, isClockWrong: false });
});

test.each(['deleted', 'replaced'])(
  'a file that is %s while it is open is noticed: nothing is written into nowhere',
  async (how) => {
    const file = world.path(`${how}.db`);
    const replica = await openReplica({ schema: garden, file });
    await replica.insert('bed', { id: 'b', name: 'north' });
    const away = () => {
      for (const end of ['', '-wal', '-shm']) rmSync(`${file}${end}`, { force: true });
    };
    away();
    if (how === 'replaced') await (await openReplica({ schema: garden, file })).close();
    const lost = async () => {
      try {
        await replica.insert('bed', { name: String(Math.random()) });
      } catch (error) {
        return (error as KoinonError).code;
      }
      return 'written';
    };
    await expect.poll(lost).toBe('storage-lost');
    expect(await replica.get('bed', 'b')).toMatchObject({ name: 'north' });
    await expect(replica.add('plant', 'p', 'watered')).rejects.toMatchObject({ code: 'storage-lost' });
    await replica.close().catch(() => undefined);
  },
);

test('a server whose file was deleted while it is open refuses, and says why', async () => {
  const file = world.path('served.db');
  const store = await sqliteStore(garden, file);
  const server = await startServer({ store, port: 0 });
  const replica = await open(server.url);
  await replica.insert('bed', { name: 'north' });
  await replica.sync();
  for (const end of ['', '-wal', '-shm']) rmSync(`${file}${end}`, { force: true });
  const told = () =>
    replica.sync().then(
      () => 'well',
      (error: KoinonError) => error.code,
    );
  await expect.poll(told).toBe('server-failure');
  await server.close().catch(() => undefined);
});

test('a connection that has died without a word is found out: by hand at once, and live within seconds', async () => {
  const [all, dead] = [new Set<Socket>(), new Set<Socket>()];
  const proxy = createTcpServer((socket) => {
    const up = connect(Number(new URL(world.server.url).port), '127.0.0.1');
    all.add(socket);
    socket.on('data', (data) => !dead.has(socket) && up.write(data)).on('close', () => up.destroy());
    up.on('data', (data) => !dead.has(socket) && socket.write(data)).on('close', () => socket.destroy());
    for (const each of [socket, up]) each.on('error', () => undefined);
  });
  await new Promise<void>((done) => proxy.listen(0, '127.0.0.1', done));
  ending.push(() => {
    for (const socket of all) socket.destroy();
    return new Promise<unknown>((done) => proxy.close(done));
  });
  const url = `http://127.0.0.1:${(proxy.address() as AddressInfo).port}`;
  const replica = await open(url, { server: httpTransport(url, { timeout: 3_000 }), sync: { interval: 3_600_000 } });
  const live = replica.syncState();
  live.subscribe(() => undefined);
  await expect.poll(() => live.current.rows[0]?.phase).toBe('live');
  // A sleep: what was open says nothing any more, what is opened anew works.
  for (const socket of all) dead.add(socket);
  await replica.insert('bed', { id: 'after', name: 'after the sleep' });
  await replica.sync();
  expect(Object.keys(await rowsOf(await world.shell()))).toEqual(['bed after']);
  await (await world.shell()).exec("INSERT INTO bed VALUES ('theirs', 'theirs', 1)");
  await expect.poll(() => replica.get('bed', 'theirs')).toBeDefined();
});

test('a closed replica holds no file open, however often it is opened; closing twice is clean', async () => {
  const file = world.path('again.db');
  const held = () =>
    readdirSync('/proc/self/fd').filter((descriptor) => {
      try {
        return readlinkSync(`/proc/self/fd/${descriptor}`).startsWith(file);
      } catch {
        return false;
      }
    }).length;
  for (let n = 0; n < 150; n++) {
    const replica = await openReplica({
      schema: garden,
      file,
      server: world.server.url,
      sync: { when: never, live: false },
    });
    await replica.insert('bed', { name: `bed ${n}` });
    await replica.rows({ from: 'bed', where: { name: `bed ${n}` } });
    expect(held()).toBeGreaterThan(0);
    await replica.close();
    await replica.close();
    expect(held()).toBe(0);
  }
});

test('a server whose certificate nobody vouches for, and one that does not speak TLS, are told in one line', async () => {
  const [key, cert] = await Promise.all(
    ['key', 'certificate'].map((name) => readFile(join(import.meta.dirname, `../support/certificate/${name}.pem`))),
  );
  const heard: string[] = [];
  const secure = createSecureServer({ key, cert }, (request) => heard.push(String(request.url)));
  await new Promise<void>((done) => secure.listen(0, '127.0.0.1', done));
  ending.push(() => new Promise((done) => secure.close(done).closeAllConnections()));
  const plain = await serving(() => undefined);
  for (const [server, why] of [
    [`https://127.0.0.1:${(secure.address() as AddressInfo).port}`, 'its certificate is not trusted: '],
    [plain.replace('http:', 'https:'), 'it does not speak TLS there: '],
  ] as const) {
    const replica = await open(server);
    await replica.insert('bed', { name: 'north' });
    const error: KoinonError = await replica.sync().then(
      () => Promise.reject(new Error('it synced')),
      (thrown) => thrown,
    );
    expect(error).toMatchObject({ code: 'server-unreachable', cause: expect.anything() });
    expect(error.message).toContain(why);
    expect(error.message.split('\n')).toHaveLength(1);
    expect(await replica.outbox()).toMatchObject([{ state: 'pending' }]);
  }
  expect(heard).toEqual([]);
});

test('a replica finds the usual mistakes by itself: no server, nobody signed in, an address, edits that wait', async () => {
  const names = async (replica: { check(): Promise<readonly { name: string; cure: string | null }[]> }) => {
    const findings = await replica.check();
    expect(findings.filter(({ name, cure }) => (cure === null) !== (name === 'sound'))).toEqual([]);
    return findings.map(({ name }) => name);
  };
  const alone = await openReplica({ schema: garden, host: new TestHost() });
  ending.push(() => alone.close());
  expect(await names(alone)).toEqual(['stopped']);
  const manual = { sync: { when: never, live: false } };
  const host = new TestHost();
  const late = await open(world.server.url, { host, ...manual });
  expect(await names(late)).toEqual(['sound']);
  await late.insert('bed', { id: 'b', name: 'north' });
  expect(await names(late)).toEqual(['sound']);
  await host.pass(25 * 3_600_000);
  expect(await names(late)).toEqual(['unsent']);
  // The server's time is learnt with an answer: by it the next edit is new, whatever this device's clock says.
  await late.sync();
  await late.insert('bed', { id: 'e', name: 'east' });
  expect(await names(late)).toEqual(['clock']);
  await late.pauseSync();
  expect(await names(late)).toEqual(['paused', 'clock']);
  const nowhere = await open('http://127.0.0.1:1', manual);
  await nowhere.sync().catch(() => undefined);
  expect(await names(nowhere)).toEqual([expect.stringMatching('server-')]);
  const store = await sqliteStore(garden, world.path('users.db'));
  const server = await startServer({ store, port: 0, authenticate: () => undefined });
  ending.push(() => server.close());
  const unknown = await open(server.url, { token: () => 'x', ...manual });
  await unknown.sync().catch(() => undefined);
  expect(await names(unknown)).toEqual(['needs-auth']);

  const [one, other] = [await open(world.server.url, manual), await open(world.server.url, manual)];
  await one.insert('bed', { id: 'c', name: 'pond' });
  await one.sync();
  await other.sync();
  await one.update('bed', 'c', { sunny: false });
  await one.sync();
  await other.delete('bed', 'c');
  await other.sync();
  expect(await names(other)).toEqual(['conflicts']);
});
