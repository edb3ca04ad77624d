import { copyFile } from 'node:fs/promises';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { openReplica, type Replica, type SyncOptions } from '@koinon/client';
import { jwtAuthentication } from '@koinon/server';
import { exportJWK, generateKeyPair, SignJWT, UnsecuredJWT } from 'jose';
import { pino } from 'pino';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import WebSocket from 'ws';
import { storeKinds } from '../support/stores.ts';
import { type Garden, garden, World } from '../support/world.ts';

// The right to ask: tokens of every kind on every route and the socket, and replicas that belong to one user each.

const secret = 'a secret of the tests that is long enough';
const bytes = (text: string) => new TextEncoder().encode(text);
const [issuer, audience] = ['the tests', 'the garden'];
interface Given {
  readonly sub?: string;
  readonly issuer?: string;
  readonly audience?: string;
  readonly seconds?: number;
  readonly secret?: string;
  readonly algorithm?: string;
}
const token = (given: Given = {}) => {
  const now = Math.floor(Date.now() / 1000);
  const made = new SignJWT({ village: 'Ellerbank' })
    .setProtectedHeader({ alg: given.algorithm ?? 'HS256' })
    .setIssuer(given.issuer ?? issuer)
    .setAudience(given.audience ?? audience)
    .setExpirationTime(now + (given.seconds ?? 600));
  return (given.sub === '' ? made : made.setSubject(given.sub ?? 'runa')).sign(bytes(given.secret ?? secret));
};

/** A token of a sign-in service that signs with a key pair. */
const signedBy = (key: CryptoKey) =>
  new SignJWT({})
    .setProtectedHeader({ alg: 'ES256', kid: 'k' })
    .setSubject('runa')
    .setIssuer(issuer)
    .setAudience(audience)
    .setExpirationTime('1h')
    .sign(key);

let world: World;
let closing: Replica<Garden>[];
const seenUsers: unknown[] = [];
const open = async (options: {
  readonly token: () => string | undefined | Promise<string | undefined>;
  readonly file?: string;
  readonly sync?: SyncOptions;
}) => {
  const { file, ...rest } = options;
  const replica = await openReplica({
    schema: garden,
    server: world.server.url,
    ...(file && { file: world.path(file) }),
    ...rest,
  });
  closing.push(replica);
  return replica;
};
const phaseOf = async (replica: Replica<Garden>) => {
  for await (const { rows } of replica.syncState()) return rows[0]?.phase;
};

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    closing = [];
    world = await World.of(garden, kind, {
      authenticate: jwtAuthentication({ key: { secret }, issuer, audience }),
      rules: {
        bed: {
          validate: ({ after }, { user }) => {
            seenUsers.push([user?.id, user?.claims.village]);
            return after?.name === user?.id ? [{ column: 'name', message: 'Not your own name.' }] : undefined;
          },
        },
      },
    });
  });
  afterEach(async () => {
    for (const replica of closing) await replica.close();
    await world.end();
  });

  test('no, expired, foreign, tampered and unsigned tokens open nothing, on every route and the socket, and all are told the same', async () => {
    const good = await token();
    const [head, body, seal] = good.split('.') as [string, string, string];
    const forged = Buffer.from(
      JSON.stringify({ ...JSON.parse(Buffer.from(body, 'base64url').toString()), sub: 'teodor' }),
    ).toString('base64url');
    const bad: Record<string, string | undefined> = {
      none: undefined,
      empty: '',
      junk: 'junk',
      expired: await token({ seconds: -1 }),
      'of another issuer': await token({ issuer: 'others' }),
      'for another audience': await token({ audience: 'others' }),
      'of another secret': await token({ secret: 'another secret that is long enough too' }),
      'of another algorithm': await token({ algorithm: 'HS512' }),
      'without a user': await token({ sub: '' }),
      tampered: `${head}.${forged}.${seal}`,
      'cut off': good.slice(0, -2),
      unsigned: new UnsecuredJWT({})
        .setSubject('runa')
        .setIssuer(issuer)
        .setAudience(audience)
        .setExpirationTime('1h')
        .encode(),
    };
    const routes = [
      ['POST', 'pull'],
      ['POST', 'push'],
      ['POST', 'wait'],
      ['POST', 'restore'],
      ['GET', 'feed'],
      ['GET', 'feed?follow=true'],
      ['GET', 'trash'],
    ] as const;
    const ask = (method: string, path: string, given: string | undefined) =>
      fetch(`${world.server.url}/v1/${path}`, {
        method,
        headers: {
          ...(method === 'POST' && { 'content-type': 'application/json' }),
          ...(given !== undefined && { authorization: `Bearer ${given}` }),
        },
        ...(method === 'POST' && { body: '{}' }),
      });
    const answers = new Set<string>();
    for (const [name, given] of Object.entries(bad)) {
      for (const [method, path] of routes) {
        const response = await ask(method, path, given);
        expect(response.status, `${name}: ${path}`).toBe(401);
        expect(response.headers.get('www-authenticate')).toBe('Bearer');
        answers.add(await response.text());
      }
      const socket = new WebSocket(`${world.server.url.replace('http', 'ws')}/v1/live`);
      const said = await new Promise((told) => {
        socket.on('open', () =>
          socket.send(
            JSON.stringify({
              join: 1,
              cursor: 'x',
              replica: '01920000-0000-7000-8000-000000000000',
              ...(given === undefined ? {} : { token: given }),
            }),
          ),
        );
        socket.on('message', (data) => told(JSON.parse(String(data))));
      });
      expect(said, name).toMatchObject({ type: 'refused', problem: { code: 'not-authenticated' } });
      socket.terminate();
    }
    expect(answers.size).toBe(1);
    expect((await ask('GET', 'trash', good)).status).toBe(200);
    expect((await ask('GET', 'about', undefined)).status).toBe(200);
    expect(() => jwtAuthentication({ key: { secret: 'short' }, issuer, audience })).toThrow('32 bytes');
    expect(() => jwtAuthentication({ key: { secret }, algorithms: ['none'], issuer, audience })).toThrow('none');
    expect(() =>
      jwtAuthentication({ key: { keySet: { keys: [] } }, algorithms: ['HS256'], issuer, audience }),
    ).toThrow();
  });

  test('an expired token is asked for anew; where there is none the sync waits, and only the sync', async () => {
    let given: string | undefined = await token({ seconds: -5 });
    let asked = 0;
    const replica = await open({
      token: async () => {
        asked++;
        const now = given;
        given = await token();
        return now;
      },
    });
    await replica.insert('bed', { id: 'b', name: 'north' });
    expect((await replica.sync()).up).toMatchObject({ applied: 1 });
    expect(asked).toBe(2);
    expect(seenUsers.at(-1), 'rules know who writes').toEqual(['runa', 'Ellerbank']);
    await replica.update('bed', 'b', { name: 'runa' });
    await replica.sync();
    expect(await replica.rejections()).toMatchObject([{ problems: [{ message: 'Not your own name.' }] }]);

    let signedIn: string | undefined;
    const away = await open({ token: () => signedIn, sync: { debounce: 0, minDelay: 20, maxDelay: 50 } });
    await expect.poll(() => phaseOf(away)).toBe('needs-auth');
    await away.insert('bed', { id: 'c', name: 'typed meanwhile' });
    expect(await away.count({ from: 'bed' })).toBe(1);
    await new Promise((resolve) => setTimeout(resolve, 200));
    expect(await away.status()).toMatchObject({ pending: 1 });
    expect(await phaseOf(away)).toBe('needs-auth');
    signedIn = await token({ seconds: 3 });
    await away.authChanged();
    await expect.poll(() => phaseOf(away)).toBe('live');
    expect(await away.status()).toMatchObject({ pending: 0 });
    expect((await away.journal(1))[0]?.error).toBeNull();
    // The connection lasts as long as the token, and so does what a program without a replica follows.
    signedIn = undefined;
    const authorization = `Bearer ${await token({ seconds: 2 })}`;
    const followed = await fetch(`${world.server.url}/v1/feed?follow=true`, { headers: { authorization } });
    expect(await followed.text()).toContain('typed meanwhile');
    await expect.poll(() => phaseOf(away)).toBe('needs-auth');
  });

  test('a replica belongs to the first user who came with it: another one’s token sends and fetches nothing', async () => {
    const runa = await open({ file: 'shared.db', token: () => token() });
    await runa.insert('bed', { id: 'b', name: 'north' });
    await runa.sync();
    await runa.update('bed', 'b', { name: 'runa’s edit, unsent' });
    await runa.close();
    const teodor = await open({ file: 'shared.db', token: () => token({ sub: 'teodor' }) });
    await expect(teodor.sync()).rejects.toMatchObject({ code: 'other-user' });
    expect(await phaseOf(teodor)).toBe('needs-auth');
    expect(await teodor.status()).toMatchObject({ pending: 1 });
    const shell = await world.shell();
    expect(await shell.all('SELECT name FROM bed')).toEqual([{ name: 'north' }]);
    await teodor.close();
    // A copy of the file has the same number, and is hers as well.
    await copyFile(world.path('shared.db'), world.path('copy.db'));
    const copy = await open({ file: 'copy.db', token: () => token({ sub: 'teodor' }) });
    await expect(copy.sync()).rejects.toMatchObject({ code: 'other-user' });
    const again = await open({ file: 'shared.db', token: () => token() });
    await again.sync();
    expect(await shell.all('SELECT name FROM bed')).toEqual([{ name: 'runa’s edit, unsent' }]);
    // Nobody learns of another's uploads, nor has his own taken for one of them.
    const origin = '01920000-0000-7000-8000-00000000cccc';
    const asUser = async (sub: string, path: string, replica: string, body: object) => {
      const authorization = `Bearer ${await token({ sub })}`;
      const headers = { 'content-type': 'application/json', authorization };
      const request = { method: 'POST', headers, body: JSON.stringify({ replica, ...body }) };
      return (await fetch(`${world.server.url}/v1/${path}`, request)).json() as Promise<{
        outcomes: { outcome: string }[];
      }>;
    };
    const insert = (id: string) => ({
      base: null,
      transactions: [
        {
          ...{ id: `01920000-0000-7000-8000-00000000${id}`, origins: [origin], editedAt: '2026-06-01T10:00:00.000Z' },
          changes: [{ kind: 'insert', table: 'bed', id, columns: { name: id } }],
        },
      ],
    });
    const [mine, hers] = ['01920000-0000-7000-8000-00000000dd01', '01920000-0000-7000-8000-00000000dd02'];
    expect((await asUser('runa', 'push', hers, insert('ee01'))).outcomes).toMatchObject([{ outcome: 'applied' }]);
    expect(await asUser('teodor', 'applied', mine, { origins: [origin] })).toEqual({ receipts: [] });
    expect(await asUser('runa', 'applied', mine, { origins: [origin] })).toMatchObject({ code: 'other-user' });
    expect((await asUser('teodor', 'push', mine, insert('ee02'))).outcomes).toMatchObject([{ outcome: 'applied' }]);
    // Two users who come at once with one number: one of them has it.
    const fresh = '01920000-0000-7000-8000-00000000aaaa';
    const both = await Promise.all(
      ['runa', 'teodor'].map(async (sub) => {
        const response = await fetch(`${world.server.url}/v1/pull`, {
          method: 'POST',
          headers: { 'content-type': 'application/json', authorization: `Bearer ${await token({ sub })}` },
          body: JSON.stringify({ replica: fresh }),
        });
        return response.status;
      }),
    );
    expect(both.sort()).toEqual([200, 403]);
  });
});

test('tokens are verified by a set of public keys as well, and by no key that is not in it', async () => {
  const { publicKey, privateKey } = await generateKeyPair('ES256', { extractable: true });
  const { privateKey: foreign } = await generateKeyPair('ES256');
  const verify = jwtAuthentication({
    key: { keySet: { keys: [{ ...(await exportJWK(publicKey)), alg: 'ES256', kid: 'k' }] } },
    algorithms: ['ES256'],
    issuer,
    audience,
  });
  expect(await verify(await signedBy(privateKey))).toMatchObject({ id: 'runa' });
  expect(await verify(await signedBy(foreign))).toEqual({ refused: 'signature verification failed' });
  // The public key is public: a token signed with it as if it were a secret is none.
  const confused = await token({ secret: JSON.stringify(await exportJWK(publicKey)) });
  expect(await verify(confused)).toHaveProperty('refused');
});

test('while the keys cannot be had nobody is let in, and nobody has to sign in again for it', async () => {
  const { publicKey, privateKey } = await generateKeyPair('ES256', { extractable: true });
  const keys = JSON.stringify({ keys: [{ ...(await exportJWK(publicKey)), alg: 'ES256', kid: 'k' }] });
  let answer: { readonly status: number; readonly body: string } = { status: 503, body: 'away' };
  const keyServer = createServer((_request, response) => response.writeHead(answer.status).end(answer.body));
  await new Promise<void>((done) => keyServer.listen(0, '127.0.0.1', done));
  const keySet = new URL(`http://127.0.0.1:${(keyServer.address() as AddressInfo).port}`);
  world = await World.of(garden, 'SQLite', {
    authenticate: jwtAuthentication({ key: { keySet }, algorithms: ['ES256'], issuer, audience }),
  });
  const signed = await signedBy(privateKey);
  closing = [];
  const replica = await open({ token: () => signed, sync: { minDelay: 20, maxDelay: 50 } });
  await replica.insert('bed', { id: 'b', name: 'north' });
  for (answer of [answer, { status: 200, body: 'no keys' }, { status: 200, body: '{}' }]) {
    await expect(replica.sync()).rejects.toMatchObject({ code: 'server-failure' });
    expect(await phaseOf(replica)).toBe('waiting');
  }
  answer = { status: 200, body: keys };
  await expect.poll(async () => (await replica.status()).pending).toBe(0);
  for (const each of closing) await each.close();
  await world.end();
  keyServer.close();
});

test('a push over a live connection is of him whose connection it is, and of nobody once his token counts no more', async () => {
  const valid = new Set(['runa', 'edda']);
  world = await World.of(garden, 'SQLite', {
    authenticate: (token) => (valid.has(token) ? { id: token, claims: {} } : undefined),
  });
  const pull = (token: string) =>
    fetch(`${world.server.url}/v1/pull`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', authorization: `Bearer ${token}` },
      body: '{}',
    }).then(
      async (answer) => (JSON.parse((await answer.text()).split('\n')[0] as string) as { cursor: string }).cursor,
    );
  const replicas = { runa: '01920000-0000-7000-8000-000000000001', edda: '01920000-0000-7000-8000-000000000002' };
  const connection = async (person: 'runa' | 'edda') => {
    const socket = new WebSocket(`${world.server.url.replace('http', 'ws')}/v1/live`);
    await new Promise((done) => socket.once('open', done));
    const say = async (said: object) => {
      const answer = new Promise<string>((done) => {
        const hear = (data: unknown) => {
          const message = JSON.parse(String(data)) as {
            type: string;
            problem?: { code: string };
            outcomes?: { outcome: string; id: string }[];
          };
          if (message.type === 'window') return;
          socket.off('message', hear);
          done(message.problem?.code ?? message.outcomes?.[0]?.outcome ?? message.type);
        };
        socket.on('message', hear);
      });
      socket.send(JSON.stringify(said));
      return answer;
    };
    const cursor = await pull(person);
    expect(await say({ join: 1, cursor, replica: replicas[person], token: person })).toBe('joined');
    let pushes = 0;
    const push = (id: string, as: 'runa' | 'edda' = person, name = id) => {
      const changes = [{ kind: 'insert', table: 'bed', id, columns: { name } }];
      const transaction = {
        id: `01920000-0000-7000-9000-00000000000${id}`,
        editedAt: '2026-06-01T10:00:00.000Z',
        dependsOn: [],
      };
      const request = { replica: replicas[as], base: cursor, transactions: [{ ...transaction, changes }] };
      return say({ push: ++pushes, request });
    };
    return { push, close: () => socket.terminate() };
  };
  const [runa, edda] = [await connection('runa'), await connection('edda')];
  expect(await runa.push('1')).toBe('applied');
  expect(await runa.push('2', 'edda'), 'with the replica of another').toBe('other-user');
  expect(await edda.push('1'), 'what another has sent is not told').toBe('rejected');
  valid.delete('runa');
  expect(await runa.push('3')).toBe('not-authenticated');
  expect(await edda.push('4')).toBe('applied');
  const shell = await world.shell();
  expect(await shell.all('SELECT id FROM bed ORDER BY id')).toEqual([{ id: '1' }, { id: '4' }]);
  for (const each of [runa, edda]) each.close();
  await world.end();
});

test('tokens that say too little or too much are refused, and the log says why and never which; nobody can be known by an empty name', async () => {
  for (const empty of [
    { issuer: '', audience },
    { issuer, audience: '' },
  ])
    expect(() => jwtAuthentication({ key: { secret }, ...empty })).toThrow(/is a text that is not empty/);
  const said: { msg: string; reason?: string }[] = [];
  const lines: string[] = [];
  const logger = pino({ level: 'info' }, { write: (line: string) => lines.push(line) && said.push(JSON.parse(line)) });
  const logged = await World.of(garden, 'SQLite', {
    authenticate: jwtAuthentication({ key: { secret }, issuer, audience }),
    logger,
    requestsPerMinute: 8,
  });
  const now = Math.floor(Date.now() / 1000);
  const signed = (payload: Record<string, unknown>) =>
    new SignJWT({ iss: issuer, aud: audience, exp: now + 600, ...payload })
      .setProtectedHeader({ alg: 'HS256' })
      .sign(bytes(secret));
  const ask = async (given: string) =>
    (await fetch(`${logged.server.url}/v1/trash`, { headers: { authorization: `Bearer ${given}` } })).status;
  const reasons = [];
  for (const payload of [
    { sub: 'a\0b' },
    { sub: 7 },
    { sub: '' },
    { sub: 'x'.repeat(300) },
    { sub: 'runa', iat: now + 3_600 },
  ]) {
    const given = await signed(payload);
    expect(await ask(given), JSON.stringify(payload)).toBe(401);
    reasons.push(said.findLast(({ msg }) => msg === 'a token was refused')?.reason);
    expect(lines.join(''), 'the token is not in the log').not.toContain(given.split('.')[2]);
  }
  expect(reasons).toEqual([
    expect.stringContaining('1 to 200 characters'),
    'its sub is no text',
    expect.stringContaining('1 to 200 characters'),
    expect.stringContaining('1 to 200 characters'),
    'its iat is in the future',
  ]);
  const good = await signed({ sub: 'runa', iat: now });
  for (const status of [200, 200, 200, 429]) expect(await ask(good)).toBe(status);
  expect(said.filter(({ msg }) => msg === 'an address sends too many requests')).toHaveLength(1);
  await logged.end();
});

test('a user who is removed hears nothing more within a heartbeat, over sockets and the feed', async () => {
  vi.useFakeTimers({ toFake: ['setInterval'] });
  const known = new Set(['mika']);
  const left = await World.of(garden, 'SQLite', {
    authenticate: (given) => (known.has(given) ? { id: given, claims: {} } : undefined),
  });
  const headers = { authorization: 'Bearer mika', 'content-type': 'application/json' };
  const pulled = await (await fetch(`${left.server.url}/v1/pull`, { method: 'POST', headers, body: '{}' })).text();
  const { cursor } = JSON.parse(pulled.split('\n')[0] as string) as { cursor: string };
  const feed = fetch(`${left.server.url}/v1/feed?follow=true`, { headers }).then((answer) => answer.text());
  const socket = new WebSocket(`${left.server.url.replace('http', 'ws')}/v1/live`);
  const said: { type: string; problem?: { code: string } }[] = [];
  socket.on('message', (data) => said.push(JSON.parse(String(data))));
  socket.on('open', () =>
    socket.send(JSON.stringify({ join: 1, cursor, replica: '01920000-0000-7000-8000-000000000001', token: 'mika' })),
  );
  await expect.poll(() => said[0]?.type).toBe('joined');
  vi.advanceTimersByTime(20_000);
  await new Promise((done) => setTimeout(done, 100));
  expect(said.every(({ type }) => type !== 'refused')).toBe(true);
  known.clear();
  vi.advanceTimersByTime(20_000);
  await expect.poll(() => said.at(-1)?.problem?.code).toBe('not-authenticated');
  await feed;
  vi.useRealTimers();
  await left.end();
});
