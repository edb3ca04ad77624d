import { get } from 'node:http';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { garden, rowsOf, World } from '../support/world.ts';

// The protocol as programs speak it: plain HTTP and JSON, no Koinon on this side.

let world: World;
beforeAll(async () => {
  world = await World.of(garden);
});
afterAll(() => world.end());
beforeEach(async () => {
  const shell = await world.shell();
  await shell.exec("DELETE FROM plant; DELETE FROM bed; INSERT INTO bed VALUES ('b1', 'north', 1), ('b2', 'south', 0)");
});

const uuid = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`;
let count = 0;
const transaction = (changes: unknown, more: object = {}) => ({
  id: uuid(++count),
  editedAt: '2026-11-23T10:00:00.000Z',
  changes,
  ...more,
});
const pushOf = (...transactions: unknown[]) => ({ replica: uuid(0), base: null, transactions });
const insert = (columns: object, id = 'x') => ({ kind: 'insert', table: 'bed', id, columns });

test('a pull without a cursor brings everything, then exactly what changed', async () => {
  const all = await world.request('/v1/pull', {});
  expect(all.type).toContain('application/jsonl');
  const [header, ...rows] = all.lines as { cursor: string; to: number; rows: number }[];
  expect(header).toMatchObject({ kind: 'snapshot', from: null, rows: 2, more: false, acknowledged: [] });
  expect(rows).toMatchObject([
    { kind: 'insert', table: 'bed', id: 'b1', columns: { name: 'north', sunny: true } },
    { kind: 'insert', table: 'bed', id: 'b2', columns: { name: 'south', sunny: false } },
  ]);
  const shell = await world.shell();
  await shell.exec("UPDATE bed SET sunny = 0 WHERE id = 'b1'");
  const [next, ...changed] = (await world.request('/v1/pull', { cursor: header?.cursor })).lines as {
    from: number;
    to: number;
    cursor: string;
  }[];
  expect(next).toMatchObject({ kind: 'changes', from: header?.to, rows: 1 });
  expect(changed).toMatchObject([
    { kind: 'update', table: 'bed', id: 'b1', position: next?.to, columns: { sunny: false } },
  ]);
  await shell.exec(
    "DELETE FROM bed WHERE id = 'b2'; INSERT INTO bed VALUES ('b3', 'gone soon', 1); DELETE FROM bed WHERE id = 'b3'",
  );
  const [last, ...gone] = (await world.request('/v1/pull', { cursor: next?.cursor })).lines as {
    to: number;
    cursor: string;
  }[];
  expect(gone).toMatchObject([{ kind: 'delete', table: 'bed', id: 'b2' }]);
  expect((await world.request('/v1/pull', { cursor: last?.cursor })).lines).toMatchObject([
    { kind: 'changes', rows: 0, from: last?.to, to: last?.to },
  ]);
});

test('a first download in small pages, with changes between them, ends with what the server holds', async () => {
  const shell = await world.shell();
  for (let n = 0; n < 9; n++) await shell.exec(`INSERT INTO plant VALUES ('p${n}', 'b1', 'herb', NULL, ${n}, 0, '[]')`);
  const held = new Map<string, object>();
  let cursor: string | undefined;
  for (let page = 0, more = true; more; page++) {
    const [header, ...rows] = (await world.request('/v1/pull', { limit: 2, ...(cursor && { cursor }) }))
      .lines as never as [
      { cursor: string; more: boolean },
      ...{ table: string; id: string; kind: string; columns: object }[],
    ];
    for (const { table, id, kind, columns } of rows) {
      if (kind === 'delete') held.delete(`${table} ${id}`);
      else held.set(`${table} ${id}`, { ...(kind === 'update' ? held.get(`${table} ${id}`) : {}), ...columns });
    }
    ({ cursor, more } = header);
    if (page === 2)
      await shell.exec(
        "UPDATE plant SET height = 99 WHERE id IN ('p0', 'p8'); DELETE FROM plant WHERE id = 'p1'; INSERT INTO plant VALUES ('p00', 'b2', 'tree', NULL, 5, 0, '[]')",
      );
  }
  const onServer = Object.entries(await rowsOf(shell)).map(([key, row]) => [key, (row as { height?: number }).height]);
  expect([...held].map(([key, row]) => [key, (row as { height?: number }).height]).sort()).toEqual(onServer.sort());
});

test.each([
  ['not JSON', '{"cursor":', 400, 'malformed-request'],
  ['a list', [], 400, 'malformed-request'],
  ['another field', { curser: 'x' }, 400, 'malformed-request'],
  ['a made-up cursor', { cursor: 'abc.def' }, 409, 'unknown-cursor'],
  ['a cursor that is no text', { cursor: 7 }, 400, 'malformed-request'],
  ['no rows at all', { limit: 0 }, 400, 'malformed-request'],
  ['ids that are no UUIDs', { unacknowledged: ["'; DROP TABLE bed; --"] }, 400, 'malformed-request'],
])('a pull with %s is refused with a problem document', async (_what, body, status, code) => {
  const answer = await world.request('/v1/pull', body);
  expect(answer.type).toContain('application/problem+json');
  expect(answer).toMatchObject({ status, lines: [{ type: `urn:koinon:problem:${code}`, status, code }] });
});

test.each([
  ['no transactions', { replica: uuid(0), base: null }],
  ['a replica that is no UUID', { ...pushOf(), replica: 'me' }],
  ['a transaction without changes', pushOf(transaction([]))],
  ['a time that is none', pushOf(transaction([insert({ name: 'n' })], { editedAt: 'yesterday' }))],
  ['a kind that is none', pushOf(transaction([{ ...insert({}), kind: 'upsert' }]))],
  ['columns that are a list', pushOf(transaction([{ ...insert({}), columns: [] }]))],
  [
    'an operation that is none',
    pushOf(transaction([{ kind: 'update', table: 'plant', id: 'x', operations: { watered: { double: 1 } } }])),
  ],
  ['one id twice', ((t) => pushOf(t, t))(transaction([insert({ name: 'n' })]))],
])('a push with %s is refused as a whole and changes nothing', async (_what, body) => {
  const before = await rowsOf(await world.shell());
  expect(await world.request('/v1/push', body)).toMatchObject({ status: 400, lines: [{ code: 'malformed-request' }] });
  expect(await rowsOf(await world.shell())).toEqual(before);
});

test.each([
  ['an unknown table', { kind: 'insert', table: 'sqlite_schema', id: 'x', columns: {} }, undefined, undefined],
  ['a table of Koinon', { kind: 'delete', table: 'koinon_meta', id: 'secret' }, undefined, undefined],
  ['an unknown column', insert({ name: 'n', nmae: 'n' }), undefined, undefined],
  ['a column named as a member of every object', insert({ name: 'n', constructor: 'n' }), undefined, undefined],
  [
    'an operation on such a column',
    { kind: 'update', table: 'plant', id: 'x', operations: { constructor: { add: 1 } } },
    undefined,
    undefined,
  ],
  ['a missing column', insert({ sunny: true }), 'value-missing', 'name'],
  ['a value of another type', insert({ name: 7 }), 'value-type', 'name'],
  ['half a character', insert({ name: '\ud800' }), 'value-type', 'name'],
  ['a duplicate value', insert({ name: 'north' }), 'duplicate-value', 'name'],
  [
    'a reference to nothing',
    { kind: 'insert', table: 'plant', id: 'x', columns: { bed: 'b9', kind: 'herb', watered: 0, tags: [] } },
    'no-such-reference',
    'bed',
  ],
  [
    'a counter led below its limit',
    { kind: 'update', table: 'plant', id: 'x', operations: { label: { add: 1 } } },
    'value-type',
    'label',
  ],
  ['an update of no row', { kind: 'update', table: 'bed', id: 'b9', columns: { name: 'n' } }, 'no-such-row', undefined],
  ['a delete of no row', { kind: 'delete', table: 'bed', id: "b1'; DROP TABLE bed; --" }, 'no-such-row', undefined],
])('a transaction with %s is not applied, and its neighbour is', async (_what, change, code, column) => {
  const before = await rowsOf(await world.shell());
  const good = { kind: 'insert', table: 'bed', id: `good-${count}`, columns: { name: `good ${count}`, sunny: true } };
  const { status, lines } = await world.request(
    '/v1/push',
    pushOf(
      transaction([{ kind: 'insert', table: 'bed', id: 'half', columns: { name: 'half', sunny: true } }, change]),
      transaction([good]),
    ),
  );
  expect(status).toBe(200);
  expect(lines).toMatchObject([
    {
      outcomes: [
        // What only another schema has waits until the two have come together.
        code ? { outcome: 'rejected', problems: [{ code, ...(column && { column }) }] } : { outcome: 'deferred' },
        { outcome: 'applied' },
      ],
    },
  ]);
  const after = await rowsOf(await world.shell());
  expect(Object.keys(after).filter((key) => !(key in before))).toEqual([`bed ${good.id}`]);
});

test('a duplicate id is stale to who could not know of it and rejected for who did', async () => {
  const change = insert({ name: 'another', sunny: true }, 'b1');
  expect((await world.request('/v1/push', pushOf(transaction([change])))).lines).toMatchObject([
    { outcomes: [{ outcome: 'stale', rows: [{ table: 'bed', id: 'b1' }] }] },
  ]);
  const [{ cursor }] = (await world.request('/v1/pull', {})).lines as never as [{ cursor: string }];
  expect((await world.request('/v1/push', { ...pushOf(transaction([change])), base: cursor })).lines).toMatchObject([
    { outcomes: [{ problems: [{ code: 'duplicate-id' }] }] },
  ]);
});

test.each(storeKinds)(
  '%s: what was done under one id is not done again under another, alone or joined, and nothing follows what was not done',
  async (kind) => {
    const world = await World.inTest(garden, kind);
    const [replica, one, two] = [uuid(500), uuid(501), uuid(502)];
    const push = async (...transactions: object[]) =>
      (await world.request('/v1/push', { replica, base: null, transactions })).lines[0] as unknown;
    const applied = async (asking = replica) =>
      (await world.request('/v1/applied', { replica: asking, origins: [one, two, uuid(503)] })).lines[0] as unknown;
    const first = { ...transaction([insert({ name: 'one' }, 'one')]), id: one };
    expect(await push(first)).toMatchObject({ outcomes: [{ outcome: 'applied' }] });
    const both = { origins: [one, two] };
    const joined = transaction([insert({ name: 'one' }, 'one'), insert({ name: 'two' }, 'two')], both);
    const plant = { kind: 'insert', table: 'plant', id: 'p', columns: { bed: 'two', kind: 'herb' } };
    const follows = transaction([plant]);
    const receipts = [{ origin: one, id: one }];
    expect(await push(joined, follows)).toMatchObject({
      outcomes: [
        { outcome: 'applied-before', receipts },
        { outcome: 'blocked', blockedBy: joined.id },
      ],
    });
    expect(await applied()).toEqual({ receipts });
    const rest = transaction([insert({ name: 'two' }, 'two')], { origins: [two] });
    const again = transaction([insert({ name: 'two' }, 'two')], { origins: [two] });
    const done = { origin: two, id: rest.id };
    expect(await push(rest, again, follows)).toMatchObject({
      outcomes: [{ outcome: 'applied' }, { outcome: 'applied-before', receipts: [done] }, { outcome: 'applied' }],
    });
    const told = (await applied()) as { receipts: { origin: string }[] };
    expect(told.receipts.sort((a, b) => (a.origin < b.origin ? -1 : 1))).toEqual([...receipts, done]);
    // A copy of the file is another replica, and asks for the same.
    expect((await applied(uuid(504))) as object).toMatchObject({ receipts: [{}, {}] });
    const uploads = async (asking: string) => (await world.request('/v1/pull', { replica: asking })).lines[0];
    expect([await uploads(replica), await uploads(uuid(504))]).toMatchObject([{ uploads: 3 }, { uploads: 0 }]);
    const [{ n }] = (await (await world.shell()).all('SELECT count(*) AS n FROM bed')) as [{ n: unknown }];
    expect(Number(n)).toBe(2);
  },
);

test('a request under another machine’s name is refused: a page elsewhere may have pointed its own name here', async () => {
  const { hostname, port } = new URL(world.server.url);
  const status = await new Promise((done, fail) => {
    get({ hostname, port, path: '/v1/about', headers: { host: 'evil.example:80' } }, (response) =>
      done(response.resume().statusCode),
    ).on('error', fail);
  });
  expect(status).toBe(403);
});

test('other paths, methods and media types get a problem document', async () => {
  const ask = async (path: string, init: RequestInit) => {
    const response = await fetch(`${world.server.url}${path}`, init);
    return [response.status, ((await response.json()) as { code: string }).code];
  };
  expect(await ask('/v1/nothing', {})).toEqual([404, 'not-found']);
  expect(await ask('/v1/pull', {})).toEqual([404, 'not-found']);
  expect(await ask('/v1/pull', { method: 'POST', headers: { 'content-type': 'text/xml' }, body: '<a/>' })).toEqual([
    400,
    'malformed-request',
  ]);
  expect(await ask('/v1/pull', { method: 'POST', headers: { 'content-type': 'text/plain' }, body: '{}' })).toEqual([
    400,
    'malformed-request',
  ]);
  expect(await (await fetch(`${world.server.url}/v1/about`)).json()).toMatchObject({
    server: 'koinon',
    protocol: 1,
    tables: ['bed', 'plant'],
  });
});

test('a server that is asked to stop answers what has begun, and a new one on the same file knows of it', async () => {
  const stopping = await World.of(garden);
  const many = Array.from({ length: 300 }, (_, n) => transaction([insert({ name: `bed ${n}` }, `b${n}`)]));
  const answering = stopping.request('/v1/push', pushOf(...many));
  const shell = await stopping.shell();
  while ((await shell.all('SELECT 1 FROM bed LIMIT 1')).length === 0) await new Promise((done) => setTimeout(done, 1));
  await stopping.restart();
  const { status, lines } = await answering;
  expect(status).toBe(200);
  const { outcomes } = lines[0] as never as { outcomes: { outcome: string }[] };
  expect(outcomes.filter(({ outcome }) => outcome === 'applied')).toHaveLength(300);
  expect((await stopping.request('/v1/push', pushOf(...many))).lines).toEqual([{ outcomes, time: expect.any(String) }]);
  await stopping.end();
});
