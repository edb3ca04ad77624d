import { connect } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import type { KoinonError } from '@koinon/core';
import { expect, test, vi } from 'vitest';
import WebSocket from 'ws';
import { garden, World } from '../support/world.ts';

// The checks before a request is admitted, and while it is held: how many there are, how large, how slow, and whose.

const uuid = (n: number) => `00000000-0000-4000-8000-${n.toString(16).padStart(12, '0')}`;

test('every request counts before who sends it is asked: paths that are not there, upgrades, joins and guesses over sockets', async () => {
  let asked = 0;
  const world = await World.inTest(garden, 'SQLite', {
    authenticate: (token) => {
      asked++;
      return token === 'good' ? { id: 'runa', claims: {} } : undefined;
    },
    requestsPerMinute: 20,
  });
  const get = async (path: string) => (await fetch(`${world.server.url}${path}`)).status;
  const socket = () => new WebSocket(`${world.server.url.replace('http', 'ws')}/v1/live`);
  const statuses = [];
  for (let i = 0; i < 5; i++) statuses.push(await get('/v1/nothing'));
  expect(statuses).toEqual([401, 401, 401, 401, 401]);
  const open = socket();
  await new Promise((done) => open.on('open', done));
  const said: { problem?: { code: string } }[] = [];
  open.on('message', (data) => said.push(JSON.parse(String(data))));
  const cursor = JSON.parse(
    (
      await (
        await fetch(`${world.server.url}/v1/pull`, {
          method: 'POST',
          headers: { 'content-type': 'application/json', authorization: 'Bearer good' },
          body: '{}',
        })
      ).text()
    ).split('\n')[0] as string,
  ).cursor;
  for (let join = 1; join <= 100; join++) open.send(JSON.stringify({ join, cursor, replica: uuid(1), token: 'good' }));
  await expect.poll(() => said.at(-1)?.problem?.code).toBe('too-many-requests');
  const before = asked;
  expect(before).toBeLessThan(20);
  expect(await get('/v1/trash')).toBe(429);
  expect(await get('/v1/nothing')).toBe(429);
  expect(
    await new Promise((status) => socket().on('unexpected-response', (_r, { statusCode }) => status(statusCode))),
  ).toBe(429);
  expect(asked).toBe(before);
});

test('only the last of the joins of one connection is answered; one more than may wait ends it', async () => {
  let letIn = () => undefined as unknown;
  const open = new Promise((done) => (letIn = () => done(undefined)));
  const world = await World.inTest(garden, 'SQLite', {
    authenticate: async (token) => {
      if (token !== 'good') await open;
      return token === 'wrong' ? undefined : { id: 'runa', claims: {} };
    },
  });
  const pulled = await fetch(`${world.server.url}/v1/pull`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', authorization: 'Bearer good' },
    body: '{}',
  });
  const { cursor } = JSON.parse((await pulled.text()).split('\n')[0] as string);
  const connection = async (tokens: readonly string[]) => {
    const said: { type: string; join?: number; problem?: { code: string } }[] = [];
    const socket = new WebSocket(`${world.server.url.replace('http', 'ws')}/v1/live`);
    socket.on('message', (data) => said.push(JSON.parse(String(data))));
    await new Promise((done) => socket.on('open', done));
    for (const [n, token] of tokens.entries())
      socket.send(JSON.stringify({ join: n + 1, cursor, replica: uuid(1), token }));
    return said;
  };
  const many = await connection(Array.from({ length: 11 }, () => 'slow'));
  await expect.poll(() => many.at(-1)?.problem?.code).toBe('too-many-requests');
  const few = await connection(['wrong', ...Array.from({ length: 9 }, () => 'slow')]);
  letIn();
  await expect.poll(() => few.map(({ type, join }) => [type, join])).toContainEqual(['joined', 10]);
  expect(few.filter(({ type }) => type === 'joined' || type === 'refused')).toHaveLength(1);
});

test('requests that wait are held up to a size and a number; the others are refused, and the server stops at once', async () => {
  const world = await World.of(garden, 'SQLite', { connections: 20 });
  const post = async (path: string, body: object): Promise<Record<string, unknown>> => {
    const answer = await fetch(`${world.server.url}${path}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify(body),
    });
    return JSON.parse((await answer.text()).split('\n')[0] as string);
  };
  const answers: Record<string, unknown>[] = [];
  const wait = (cursor: unknown, only: { where?: object }) =>
    post('/v1/wait', { cursor, only }).then((answer) => answers.push(answer));
  const where = { bed: { id: { in: Array.from({ length: 30_000 }, (_, i) => `${i}`.padEnd(50, 'x')) } } };
  const { cursor: part } = await post('/v1/pull', { where });
  const { cursor: whole } = await post('/v1/pull', {});
  const heavy = Array.from({ length: 16 }, () => wait(part, { where }));
  await expect
    .poll(() => answers[0])
    .toMatchObject({ code: 'too-many-requests', detail: expect.stringMatching('conditions') });
  const light = Array.from({ length: 20 }, () => wait(whole, {}));
  await expect.poll(() => answers.length).toBe(16);
  expect(answers.at(-1)).toMatchObject({ code: 'too-many-requests', detail: expect.stringMatching('held open') });
  expect((await fetch(`${world.server.url}/v1/feed?follow=true`)).status).toBe(429);
  await world.end();
  await Promise.all([...heavy, ...light]);
  expect(answers.filter(({ moved }) => moved === false)).toHaveLength(20);
});

/** Begins a request with a body of spaces, of which so many bytes are sent. */
function sendingTo({ server }: World) {
  const { port } = new URL(server.url);
  return (bytes: number, sent = bytes) => {
    const socket = connect(Number(port), '127.0.0.1');
    const answer = new Promise<string>((done) => {
      let text = '';
      socket.on('data', (chunk) => {
        text += chunk;
        if (text.includes('"}')) done(text);
      });
      socket.on('error', () => undefined);
      socket.on('close', () => done(text));
    });
    socket.write(
      `POST /v1/push HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: ${bytes}\r\n\r\n${' '.repeat(sent)}`,
    );
    return { socket, answer };
  };
}

test('the bodies of all requests share one memory; what does not fit is refused, and the memory is given back', async () => {
  const world = await World.inTest(garden, 'SQLite', { bodyBytes: 2e6 });
  const sending = sendingTo(world);
  for (let round = 0; round < 3; round++) {
    const slow = Array.from({ length: 3 }, () => sending(400_000, 300_000));
    await expect.poll(async () => (await sending(200_000).answer).slice(9, 12)).toBe('429');
    expect((await sending(50_000).answer).slice(9, 12), 'a small one fits').toBe('400');
    expect(await sending(200_000).answer).toMatch(/too-many-requests/);
    slow[0]?.socket.destroy();
    await expect.poll(async () => (await sending(200_000).answer).slice(9, 12)).toBe('400');
    slow[1]?.socket.write(' '.repeat(100_000));
    expect((await slow[1]?.answer)?.slice(9, 12), 'read to its end').toBe('400');
    slow[2]?.socket.destroy();
    await expect.poll(async () => (await sending(900_000).answer).slice(9, 12)).toBe('400');
  }
  const unfinished = sending(400_000, 300_000);
  await expect.poll(async () => (await sending(800_000).answer).slice(9, 12)).toBe('429');
  await world.server.close();
  expect(await unfinished.answer, 'a server that stops does not wait for it').toBe('');
});

test('a body that stops coming ends its connection; one that comes slowly is read', async () => {
  const world = await World.of(garden, 'SQLite');
  vi.useFakeTimers({ toFake: ['setInterval', 'clearInterval'] });
  try {
    const [stopped, slow] = [0, 1].map(() => sendingTo(world)(2_000, 500));
    let isEnded = false;
    void stopped?.answer.then(() => {
      isEnded = true;
    });
    await expect.poll(() => vi.getTimerCount()).toBe(2);
    slow?.socket.write(' '.repeat(600));
    await sleep(100);
    vi.advanceTimersByTime(29_000);
    await sleep(100);
    expect(isEnded).toBe(false);
    vi.advanceTimersByTime(1_000);
    await expect.poll(() => isEnded).toBe(true);
    slow?.socket.write(' '.repeat(900));
    expect((await slow?.answer)?.slice(9, 12)).toBe('400');
  } finally {
    vi.useRealTimers();
    await world.end();
  }
});

test('what is no HTTP, or no upgrade, is answered by a problem document too', async () => {
  const world = await World.inTest(garden);
  const port = Number(new URL(world.server.url).port);
  const raw = (text: string) =>
    new Promise<string>((answer) => {
      let got = '';
      const socket = connect(port, '127.0.0.1', () => socket.write(text));
      socket.on('data', (data) => {
        got += data;
      });
      socket.on('close', () => answer(got));
      socket.on('error', () => answer(got));
    });
  const host = 'host: 127.0.0.1';
  const upgrade = `${host}\r\nconnection: upgrade\r\nupgrade: websocket`;
  for (const [text, status] of [
    ['NONSENSE\r\n\r\n', 400],
    [`GET /v1/about HTTP/1.1\r\n${host}\r\nlong: ${'x'.repeat(20_000)}\r\n\r\n`, 431],
    [`GET /v1/%zz HTTP/1.1\r\n${host}\r\nconnection: close\r\n\r\n`, 400],
    [`GET /v1/live HTTP/1.1\r\n${host}\r\nconnection: close\r\n\r\n`, 400],
    [`GET /v1/live HTTP/1.1\r\n${upgrade}\r\n\r\n`, 400],
    [`GET /v1/live HTTP/1.1\r\nhost: elsewhere.example\r\nconnection: upgrade\r\nupgrade: websocket\r\n\r\n`, 403],
    [`GET /v1/about HTTP/1.1\r\n${host}, evil.example\r\nconnection: close\r\n\r\n`, 403],
    [`GET /v1/about HTTP/1.1\r\nhost: evil.example\r\nx-forwarded-host: 127.0.0.1\r\nconnection: close\r\n\r\n`, 403],
  ] as const) {
    const answer = await raw(text);
    expect(answer.split(' ')[1], text.slice(0, 80)).toBe(`${status}`);
    const [, body = ''] = answer.split('\r\n\r\n');
    expect(JSON.parse(body), text.slice(0, 80)).toMatchObject({ status, code: expect.any(String) });
  }
  const head = await fetch(`${world.server.url}/v1/feed?follow=true`, { method: 'HEAD' });
  expect([head.status, head.headers.get('content-type')]).toEqual([200, 'text/event-stream']);
});

test('a user who is removed, or sent away, hears nothing more', async () => {
  const world = await World.inTest(garden, 'SQLite', { authenticate: (token) => ({ id: token, claims: {} }) });
  const follow = async (user: string) => {
    const answer = await fetch(`${world.server.url}/v1/feed?follow=true`, {
      headers: { authorization: `Bearer ${user}` },
    });
    return answer.text().then(
      () => `${user} ended`,
      (error: KoinonError) => error,
    );
  };
  const [mika, vera] = [follow('mika'), follow('vera')];
  await expect.poll(() => world.server.disconnect('nobody')).toBe(0);
  await expect.poll(() => world.server.disconnect('mika')).toBe(1);
  expect(await Promise.race([mika, vera])).toBe('mika ended');
  expect(world.server.disconnect('mika')).toBe(0);
  await expect.poll(() => world.server.disconnect('vera')).toBe(1);
  expect(await vera).toBe('vera ended');
});
