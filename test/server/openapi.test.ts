import { folderStorage, koinonPlugin, openApi, sqliteStore } from '@koinon/server';
import { createConfig, lintFromString } from '@redocly/openapi-core';
import { Ajv2020 } from 'ajv/dist/2020.js';
import addFormats from 'ajv-formats';
import fastify from 'fastify';
import { expect, test } from 'vitest';
import { BadNetwork, garden, rowsOf, World } from '../support/world.ts';

// The OpenAPI document says what the server does: its routes, what it takes, and what it answers.

const ajv = new Ajv2020({ strict: false });
addFormats.default(ajv);
ajv.addSchema({ $id: 'koinon', ...openApi });
const fits = (name: keyof typeof openApi.components.schemas, value: unknown) => {
  const validate = ajv.getSchema(`koinon#/components/schemas/${name}`);
  validate?.(value);
  return validate?.errors ?? null;
};

test('it names every route of the server and no other', async () => {
  const app = fastify();
  const routes: string[] = [];
  app.addHook('onRoute', ({ method, url }) => {
    // An upload begins with POST; how it goes on is tus's to say.
    const named = url.endsWith('uploads*')
      ? ['POST']
      : [method].flat().filter((name) => name !== 'HEAD' && name !== 'OPTIONS');
    for (const name of named) routes.push(`${name.toLowerCase()} ${url.replace('*', '').replace(/:(\w+)/g, '{$1}')}`);
  });
  const world = await World.inTest(garden);
  const store = await sqliteStore(garden, world.path('openapi.db'));
  await app.register(koinonPlugin, { store, files: folderStorage(world.path('files')) });
  const named = Object.entries(openApi.paths).flatMap(([path, methods]) =>
    Object.keys(methods).map((method) => `${method} ${path}`),
  );
  expect(routes.sort()).toEqual(named.sort());
  const given = await (await fetch(`${world.server.url}/v1/openapi.json`)).json();
  expect(given).toEqual(JSON.parse(JSON.stringify(openApi)));
  await app.close();
  await store.close();
});

test('a linter for OpenAPI documents finds nothing to complain of', async () => {
  // The route that becomes a WebSocket answers with 101 alone.
  const config = await createConfig({ extends: ['recommended'], rules: { 'operation-2xx-response': 'off' } });
  const found = await lintFromString({ source: JSON.stringify(openApi), config });
  expect(found.map(({ ruleId, message }) => `${ruleId}: ${message}`)).toEqual([]);
});

test('what replicas send and servers answer fits it, and what the server refuses does not', async () => {
  const world = await World.inTest(garden);
  const network = new BadNetwork(world.server.url);
  const replica = await world.replica({ server: network });
  await replica.insert('bed', { id: 'b', name: 'north' });
  await replica.insert('plant', { id: 'p', bed: 'b', kind: 'herb', tags: ['old'] });
  await replica.sync();
  await replica.add('plant', 'p', 'watered', 2);
  await replica.include('plant', 'p', 'tags', 'new');
  await replica.delete('plant', 'p');
  await replica.sync();
  expect(network.bodies.length).toBeGreaterThan(1);
  for (const body of network.bodies) expect(fits('PushRequest', JSON.parse(body))).toBeNull();
  for (const asked of network.asked) expect(fits('PullRequest', asked)).toBeNull();

  const about = await (await fetch(`${world.server.url}/v1/about`)).json();
  expect(fits('About', about)).toBeNull();
  const pulled = await world.request('/v1/pull', { limit: 5_000 });
  const [header, ...rows] = pulled.lines;
  expect(fits('PullHeader', header)).toBeNull();
  expect(rows.length).toBe(Object.keys(await rowsOf(replica)).length);
  for (const row of rows) expect(fits('PulledRow', row)).toBeNull();
  const inBlocks = await world.request('/v1/pull', { rowBlocks: true });
  for (const block of inBlocks.lines.slice(1)) expect(fits('RowBlock', block)).toBeNull();
  const [first] = network.bodies;
  const again = await world.request('/v1/push', first);
  expect(fits('PushResponse', again.lines[0])).toBeNull();

  expect(fits('TrashResponse', await (await fetch(`${world.server.url}/v1/trash`)).json())).toBeNull();

  const fed = (await (await fetch(`${world.server.url}/v1/feed`)).text()).trim().split('\n');
  for (const line of fed.slice(0, -1)) expect(fits('PulledRow', JSON.parse(line))).toBeNull();
  const { cursor } = header as never as { cursor: string };
  await (await world.shell()).exec("INSERT INTO bed VALUES ('later', 'later', 1)");
  const waited = await world.request('/v1/wait', { cursor });
  expect(fits('WaitResponse', waited.lines[0])).toBeNull();
  const replicaId = (JSON.parse(first as string) as { replica: string }).replica;
  const applied = await world.request('/v1/applied', { replica: replicaId, origins: [replicaId] });
  expect(fits('AppliedResponse', applied.lines[0])).toBeNull();

  const good = JSON.parse(first as string) as { transactions: { changes: object[] }[] };
  const [transaction] = good.transactions;
  for (const [path, name, wrong] of [
    ['/v1/pull', 'PullRequest', { limit: 0 }],
    ['/v1/pull', 'PullRequest', { cursor: 7 }],
    ['/v1/pull', 'PullRequest', { unacknowledged: ['not a uuid'] }],
    ['/v1/pull', 'PullRequest', { extra: true }],
    ['/v1/wait', 'WaitRequest', { cursor: 7 }],
    ['/v1/restore', 'RestoreRequest', { table: 'plant' }],
    ['/v1/push', 'PushRequest', { ...good, replica: 'me' }],
    ['/v1/push', 'PushRequest', { ...good, schemaVersion: 0 }],
    ['/v1/push', 'PushRequest', { ...good, transactions: [{ ...transaction, changes: [], actions: [{ name: 'x' }] }] }],
    ['/v1/push', 'PushRequest', { ...good, transactions: [{ ...transaction, editedAt: 'yesterday' }] }],
    ['/v1/push', 'PushRequest', { ...good, transactions: [{ ...transaction, changes: [{ kind: 'move' }] }] }],
  ] as const) {
    expect(fits(name, wrong), JSON.stringify(wrong)).not.toBeNull();
    const answered = await world.request(path, wrong);
    expect(answered.status, JSON.stringify(wrong)).toBe(400);
    expect(fits('Problem', answered.lines[0])).toBeNull();
  }
  // A transaction has changes or actions: the document cannot say that of two members.
  const empty = await world.request('/v1/push', { ...good, transactions: [{ ...transaction, changes: [] }] });
  expect(empty.status).toBe(400);
});
