import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { gzipSync } from 'node:zlib';
import { openReplica } from '@koinon/client';
import type { KoinonError } from '@koinon/core';
import { requestHandler, startServer } from '@koinon/server';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import WebSocket from 'ws';
import { runs } from '../support/runs.ts';
import { storeKinds } from '../support/stores.ts';
import { garden, rowsOf, World } from '../support/world.ts';

// No request, however malformed, stops the server or changes data.

let world: World;
let before: unknown;
let cursor: string;
beforeAll(async () => {
  world = await World.of(garden);
  await (await world.shell()).exec(
    "INSERT INTO bed VALUES ('b1', 'north', 1); INSERT INTO plant VALUES ('p1', 'b1', 'herb', NULL, 3, 0, '[]')",
  );
  before = await rowsOf(await world.shell());
  cursor = ((await world.request('/v1/pull', {})).lines[0] as never as { cursor: string }).cursor;
});
afterAll(() => world.end());

const uuid = '00000000-0000-4000-8000-000000000001';
const junk = fc.oneof(
  fc.jsonValue({ maxDepth: 2 }),
  fc.constantFrom('', '\0', "' OR 1=1 --", '__proto__', -1, 1e308, 2 ** 60, [], {}, [[]]),
);
/** A good request with something in it replaced, removed or added. */
function spoilt(good: unknown): fc.Arbitrary<unknown> {
  if (Array.isArray(good))
    return fc.oneof(
      junk,
      fc.tuple(...good.map(spoilt)).map((parts) => [...parts]),
      fc.constant([...good, ...good]),
    );
  if (good === null || typeof good !== 'object')
    return fc.oneof({ weight: 3, arbitrary: fc.constant(good as unknown) }, junk);
  const parts = fc.record(Object.fromEntries(Object.entries(good).map(([name, value]) => [name, spoilt(value)])), {
    requiredKeys: [],
  });
  return fc.oneof(
    { weight: 5, arbitrary: parts },
    junk,
    fc.tuple(parts, fc.string(), junk).map(([given, name, value]) => ({ ...given, [name]: value })),
  );
}
const push = spoilt({
  replica: uuid,
  base: null,
  transactions: [
    {
      id: uuid,
      editedAt: '2026-11-23T10:00:00.000Z',
      dependsOn: [uuid],
      origins: [uuid],
      changes: [
        {
          kind: 'update',
          table: 'plant',
          id: 'nobody',
          columns: { height: 4 },
          operations: { watered: { add: 1 }, tags: { include: ['x'], exclude: [] } },
        },
        { kind: 'delete', table: 'bed', id: 'nobody' },
      ],
    },
  ],
});

const asked = fc.oneof(
  { weight: 3, arbitrary: fc.tuple(fc.constantFrom('/v1/push', '/v1/pull'), push) },
  fc.tuple(fc.constant('/v1/applied'), spoilt({ replica: uuid, origins: [uuid] })),
);

test('spoilt requests get a problem document or a refusal by transaction; nothing changes and the server goes on', async () => {
  const statuses = new Set<number>();
  await fc.assert(
    fc.asyncProperty(asked, async ([path, body]) => {
      const { status, type, lines } = await world.request(path, body);
      statuses.add(status);
      if (status === 200) {
        if (path === '/v1/push')
          for (const { outcome } of (lines[0] as never as { outcomes: { outcome: string }[] }).outcomes)
            expect(outcome).not.toBe('applied');
      } else {
        expect(status).toBeGreaterThanOrEqual(400);
        expect(status).toBeLessThan(500);
        expect(type).toContain('application/problem+json');
        expect(lines[0]).toMatchObject({
          status,
          code: expect.stringMatching(/^[a-z-]+$/),
          detail: expect.any(String),
        });
      }
    }),
    runs(500),
  );
  expect([...statuses].sort()).toEqual(expect.arrayContaining([200, 400]));
  expect(await rowsOf(await world.shell())).toEqual(before);
});

/** A line of an answer. */
interface Line {
  readonly outcomes?: readonly { readonly id: string }[];
}
type Spoil = (lines: readonly Line[]) => readonly object[];

const appliedBefore =
  (receipts: readonly object[]): Spoil =>
  ([answer]) => [{ outcomes: answer?.outcomes?.map(({ id }) => ({ id, outcome: 'applied-before', receipts })) }];
const counting = (first: number | string, step = 0): Spoil => {
  let uploads = first;
  return ([header, ...rows]) => {
    if (typeof uploads === 'number') uploads += step;
    return [{ ...header, uploads }, ...rows];
  };
};
/** The answers of a server that has a fault, or is none: by path, what becomes of the lines of an answer. */
const nonsense: readonly (readonly [string, Readonly<Record<string, Spoil>>])[] = [
  ['what it says was applied before is another’s', { '/v1/push': appliedBefore([{ origin: uuid, id: uuid }]) }],
  ['it does not say what was applied before', { '/v1/push': appliedBefore([]) }],
  ['it counts in words', { '/v1/pull': counting('many') }],
  ['it counts another number each time', { '/v1/pull': counting(7, 1) }],
  ['its receipts are none', { '/v1/pull': counting(7), '/v1/applied': () => [{ receipts: [{ id: uuid }] }] }],
];

test.each(nonsense)(
  'a server answers nonsense: %s. The sync ends, and what is unsent goes up once',
  async (_what, answers) => {
    const world = await World.of(garden);
    let isMended = false;
    const between = createServer(async (request, response) => {
      const parts: Buffer[] = [];
      for await (const part of request) parts.push(part as Buffer);
      const path = request.url ?? '';
      const body = request.method === 'POST' ? Buffer.concat(parts) : null;
      const headers = {
        'content-type': 'application/json',
        'content-encoding': request.headers['content-encoding'] ?? '',
      };
      const answer = await fetch(`${world.server.url}${path}`, { method: request.method ?? 'GET', headers, body });
      const text = await answer.text();
      const spoil = isMended || !answer.ok ? undefined : answers[path];
      const lines = text
        .trim()
        .split('\n')
        .map((line) => JSON.parse(line) as Line);
      response.writeHead(answer.status, { 'content-type': answer.headers.get('content-type') ?? '' });
      response.end(
        spoil
          ? spoil(lines)
              .map((line) => `${JSON.stringify(line)}\n`)
              .join('')
          : text,
      );
    });
    await new Promise<void>((done) => between.listen(0, '127.0.0.1', done));
    try {
      const url = `http://127.0.0.1:${(between.address() as AddressInfo).port}`;
      const replica = await world.replica({ server: url, upload: 'every step' });
      isMended = true;
      await replica.insert('bed', { id: 'b', name: 'north' });
      await replica.insert('plant', { id: 'p', bed: 'b', kind: 'herb' });
      await replica.sync();
      isMended = false;
      await replica.add('plant', 'p', 'watered', 2);
      const unsent = (await replica.outbox()).map(({ changes }) => changes);
      await expect(replica.sync()).rejects.toMatchObject({ code: 'server-answer' });
      expect((await replica.outbox()).map(({ changes }) => changes)).toEqual(unsent);
      isMended = true;
      await replica.sync();
      expect(await (await world.shell()).all('SELECT watered FROM plant')).toEqual([{ watered: 2 }]);
      expect(await replica.outbox()).toEqual([]);
    } finally {
      await world.end();
      await new Promise((done) => between.close(done).closeAllConnections());
    }
  },
);

test('raw bytes that are no JSON, or no text at all, get a problem document', () =>
  fc.assert(
    fc.asyncProperty(
      fc.uint8Array({ minLength: 1, maxLength: 60 }),
      fc.constantFrom('application/json', 'text/plain', 'application/x-www-form-urlencoded'),
      async (body, type) => {
        const response = await fetch(`${world.server.url}/v1/push`, {
          method: 'POST',
          headers: { 'content-type': type },
          body,
        });
        expect(response.status).toBe(400);
        expect(await response.json()).toMatchObject({ code: 'malformed-request' });
      },
    ),
    runs(60),
  ));

test('a cursor with anything in it changed is not accepted', () =>
  fc.assert(
    fc.asyncProperty(fc.nat(), fc.constantFrom('A', 'z', '_', '.', '', 'AA'), async (where, put) => {
      const at = where % cursor.length;
      const forged = cursor.slice(0, at) + put + cursor.slice(at + 1);
      // The last character of base64 has bits that mean nothing; the seal is compared as text all the same.
      fc.pre(forged !== cursor);
      expect(await world.request('/v1/pull', { cursor: forged })).toMatchObject({
        status: 409,
        lines: [{ code: 'unknown-cursor' }],
      });
    }),
    runs(120),
  ));

test('a request beyond the limits is refused before it is looked at', async () => {
  const many = { replica: uuid, base: null, transactions: Array.from({ length: 501 }, () => ({})) };
  expect(await world.request('/v1/push', many)).toMatchObject({ status: 413, lines: [{ code: 'too-large' }] });
  const big = JSON.stringify({ cursor: 'x'.repeat(65 * 1024 * 1024) });
  expect(await world.request('/v1/pull', big)).toMatchObject({ status: 413, lines: [{ code: 'too-large' }] });
  expect(await world.request('/v1/pull', {})).toMatchObject({ status: 200 });
});

test('a transaction that grows beyond all bounds, part by part, is refused before it is in memory as a whole', async () => {
  const name = 'x'.repeat(60 * 1024 * 1024);
  const send = (index: number) => {
    const changes = [{ kind: 'insert', table: 'bed', id: `large ${index}`, columns: { name, sunny: true } }];
    const id = '00000000-0000-4000-8000-00000000beef';
    const transaction = { id, editedAt: '2026-06-01T10:00:00.000Z', dependsOn: [], changes, part: { index, count: 9 } };
    return world.request('/v1/push', { replica: uuid, base: null, transactions: [transaction] });
  };
  for (let index = 0; index < 4; index++)
    expect((await send(index)).lines).toMatchObject([{ outcomes: [{ outcome: 'part-stored' }] }]);
  expect((await send(4)).lines).toMatchObject([
    { outcomes: [{ outcome: 'rejected', problems: [{ code: 'too-large' }] }] },
  ]);
  expect(await (await world.shell()).all('SELECT 1 FROM koinon_part')).toEqual([]);
  expect(await rowsOf(await world.shell())).toEqual(before);
});

test('a compressed request is read as what it holds, within the same limits; one that is not what it says is refused', async () => {
  const send = async (body: Uint8Array, encoding = 'gzip') => {
    const headers = { 'content-type': 'application/json', 'content-encoding': encoding };
    const answer = await fetch(`${world.server.url}/v1/pull`, { method: 'POST', body: new Uint8Array(body), headers });
    return { status: answer.status, takes: answer.headers.get('accept-encoding'), text: await answer.text() };
  };
  expect(await send(gzipSync('{}'))).toMatchObject({ status: 200, takes: expect.stringContaining('gzip') });
  // A few thousand bytes that are 200 megabytes.
  const bomb = gzipSync(Buffer.alloc(200 * 1024 * 1024, 0x20), { level: 1 });
  expect(await send(bomb)).toMatchObject({ status: 413, text: expect.stringContaining('too-large') });
  const cut = gzipSync(JSON.stringify({ cursor: 'x'.repeat(1_000) })).subarray(0, 30);
  for (const [body, encoding] of [
    [Buffer.from('{}'), 'gzip'],
    [cut, 'gzip'],
    [gzipSync('{}'), 'bzip2'],
  ] as const)
    expect(await send(body, encoding)).toMatchObject({
      status: 400,
      text: expect.stringContaining('malformed-request'),
    });
  expect(await world.request('/v1/pull', {})).toMatchObject({ status: 200 });
});

test('in a service of somebody else’s the protocol is answered, and an address that asks without end is told to wait', async () => {
  const store = await world.database.open(garden);
  const koinon = await requestHandler({ store, requestsPerMinute: 5 });
  const server = createServer((request, response) =>
    request.url?.startsWith('/v1/') ? koinon.handle(request, response) : response.end('mine'),
  );
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  expect(await (await fetch(`${url}/else`)).text()).toBe('mine');
  const replica = await world.replica({ server: url });
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(before);
  await replica.insert('bed', { id: 'kept', name: 'kept' });
  let refused: KoinonError | undefined;
  while (!refused)
    refused = await replica.sync().then(
      () => undefined,
      (error) => error,
    );
  expect(refused).toMatchObject({ code: 'too-many-requests' });
  const answer = await fetch(`${url}/v1/about`);
  expect([answer.status, answer.headers.get('content-type')]).toEqual([429, 'application/problem+json; charset=utf-8']);
  expect(Number(answer.headers.get('retry-after'))).toBeGreaterThan(0);
  await koinon.close();
  await new Promise((done) => server.close(done).closeAllConnections());
  await store.close();
});

test('behind a proxy that is named each device has a limit of its own; nobody else is believed about whom he asks for', async () => {
  const asked = async (proxies: readonly string[], addresses: readonly string[]) => {
    const server = await startServer({
      store: await world.database.open(garden),
      port: 0,
      requestsPerMinute: 2,
      proxies,
    });
    const statuses: number[] = [];
    for (const address of addresses)
      statuses.push((await fetch(`${server.url}/v1/about`, { headers: { 'x-forwarded-for': address } })).status);
    await server.close();
    return statuses;
  };
  const addresses = ['192.0.2.1', '192.0.2.1', '192.0.2.2', '192.0.2.1'];
  expect(await asked(['127.0.0.1'], addresses)).toEqual([200, 200, 200, 429]);
  expect(await asked([], addresses)).toEqual([200, 200, 429, 429]);
});

test('spoilt questions about the feed, the trash and changes to come get a problem document; nothing changes', async () => {
  const untouched = await rowsOf(await world.shell());
  const statuses = new Set<number>();
  const word = fc.oneof(
    fc.constantFrom(
      '',
      '0',
      '7',
      '-1',
      '1e3',
      'true',
      'false',
      'delete',
      'plant',
      'bed',
      "' OR 1=1 --",
      '\0',
      '__proto__',
      cursor,
    ),
    fc.string({ maxLength: 12 }),
  );
  const query = fc.dictionary(
    fc.constantFrom('after', 'table', 'kind', 'id', 'before', 'limit', 'else', 'constructor'),
    word,
    { maxKeys: 4 },
  );
  const check = async (response: Response) => {
    statuses.add(response.status);
    const text = await response.text();
    if (response.status < 300) return;
    expect(response.status).toBeGreaterThanOrEqual(400);
    expect(response.status).toBeLessThan(500);
    expect(response.headers.get('content-type')).toContain('application/problem+json');
    expect(JSON.parse(text)).toMatchObject({ status: response.status, detail: expect.any(String) });
  };
  await fc.assert(
    fc.asyncProperty(fc.constantFrom('feed', 'trash'), query, async (path, asked) =>
      check(await fetch(`${world.server.url}/v1/${path}?${new URLSearchParams(asked)}`)),
    ),
    runs(200),
  );
  await fc.assert(
    fc.asyncProperty(spoilt({ table: 'plant', id: 'nobody' }), async (body) =>
      check(
        await fetch(`${world.server.url}/v1/restore`, {
          method: 'POST',
          headers: { 'content-type': 'application/json' },
          body: JSON.stringify(body),
        }),
      ),
    ),
    runs(150),
  );
  for (const body of [{}, { cursor: 7 }, { cursor }, { cursor: `${cursor}=` }, { cursor, replica: 'me' }, [], null]) {
    // An honest one is held back until something changes: the asking ends before that.
    const response = await fetch(`${world.server.url}/v1/wait`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify(body),
      signal: AbortSignal.timeout(300),
    }).catch(() => undefined);
    if (response) await check(response);
  }
  expect([...statuses].sort()).toEqual([200, 400, 404, 409]);
  expect(await rowsOf(await world.shell())).toEqual(untouched);
});

test('in a service of somebody else’s the socket is served too, and only so many are let in', async () => {
  const store = await world.database.open(garden);
  const koinon = await requestHandler({ store, connections: 2 });
  const server = createServer((request, response) => koinon.handle(request, response));
  server.on('upgrade', (request, socket, head) => koinon.upgrade(request, socket, head));
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  const replicas = await Promise.all(
    [1, 2].map(() => openReplica({ schema: garden, server: url, sync: { minDelay: 50, maxDelay: 200 } })),
  );
  const phase = async (replica: (typeof replicas)[0]) => {
    for await (const { rows } of replica.syncState()) return rows[0]?.phase;
  };
  for (const replica of replicas) await expect.poll(() => phase(replica)).toBe('live');
  const status = await new Promise((told) => {
    const third = new WebSocket(`${url.replace('http', 'ws')}/v1/live`);
    third.on('unexpected-response', (_request, response) => told(response.statusCode));
    third.on('error', () => undefined);
  });
  expect(status).toBe(429);
  const elsewhere = new WebSocket(`${url.replace('http', 'ws')}/elsewhere`);
  await new Promise((told) => elsewhere.on('error', told));
  for (const replica of replicas) await replica.close();
  await koinon.close();
  await new Promise((done) => server.close(done).closeAllConnections());
  await store.close();
});

test.each(storeKinds)(
  '%s: an id that no database can look for is refused by itself, and the others go on',
  async (kind) => {
    const world = await World.inTest(garden, kind);
    const transactions = ['a\0b', 'good'].map((id, n) => ({
      id: `01920000-0000-7000-8000-00000000010${n}`,
      editedAt: '2026-06-01T10:00:00.000Z',
      dependsOn: [],
      changes: [{ kind: 'insert', table: 'bed', id, columns: { name: `bed ${n}` } }],
    }));
    const push = (some: readonly object[]) =>
      fetch(`${world.server.url}/v1/push`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ replica: '01920000-0000-7000-8000-000000000000', base: null, transactions: some }),
      }).then((answer) => answer.json());
    expect(await push(transactions)).toMatchObject({
      outcomes: [{ outcome: 'rejected', problems: [{ code: 'value-type', column: 'id' }] }, { outcome: 'applied' }],
    });
    // And alone, with a receipt that says so again.
    expect(await push(transactions.slice(0, 1))).toMatchObject({ outcomes: [{ outcome: 'rejected' }] });
    const { status } = await fetch(`${world.server.url}/v1/restore`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ table: 'bed', id: 'a\0b' }),
    });
    expect(status).toBe(400);
    for (const query of ['id=a%00b', 'before=5&beforeTable=bed&beforeId=a%00b'])
      expect((await fetch(`${world.server.url}/v1/trash?${query}`)).status, query).toBe(400);
  },
);
