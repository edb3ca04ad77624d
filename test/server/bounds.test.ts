import { promisify } from 'node:util';
import { deflate, gzip } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { answerRequests, asked } from '../simulator/requests.ts';
import { runs } from '../support/runs.ts';
import { storeKinds } from '../support/stores.ts';
import { garden, World } from '../support/world.ts';

// All that a peer can make grow has a bound: memory, time and disk, before and after a request is admitted.

const uuid = (n: number) => `00000000-0000-4000-8000-${n.toString(16).padStart(12, '0')}`;
const packed = { gzip: promisify(gzip), deflate: promisify(deflate) };
const bed = (id: string, name = id) => ({ kind: 'insert', table: 'bed', id, columns: { name, sunny: true } });
const transaction = (n: number, changes: readonly object[], more: object = {}) => ({
  id: uuid(n),
  editedAt: '2026-06-01T10:00:00.000Z',
  dependsOn: [],
  changes,
  ...more,
});

describe.each(storeKinds)('on %s', (kind) => {
  let world: World;
  /** Tokens are the names of their users. */
  const users = { authenticate: (token: string) => ({ id: token, claims: {} }) };
  const ask = async (path: string, body: unknown, headers: Record<string, string> = {}) => {
    const answer = await fetch(`${world.server.url}${path}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', authorization: 'Bearer mika', ...headers },
      body:
        typeof body === 'string' || body instanceof Uint8Array
          ? new Uint8Array(Buffer.from(body))
          : JSON.stringify(body),
    });
    const text = await answer.text();
    return {
      status: answer.status,
      type: answer.headers.get('content-type'),
      text,
      code: /"code":"([^"]*)"/.exec(text)?.[1],
    };
  };
  const push = async (replica: number, transactions: readonly object[], token = 'mika') => {
    const answer = await ask(
      '/v1/push',
      { replica: uuid(replica), base: null, transactions },
      { authorization: `Bearer ${token}` },
    );
    if (answer.status !== 200) return answer.code;
    return (JSON.parse(answer.text) as { outcomes: { outcome: string }[] }).outcomes.map(({ outcome }) => outcome);
  };
  beforeAll(async () => {
    world = await World.of(garden, kind, {
      ...users,
      replicasPerUser: 6,
      scopes: {
        bed: { read: (user) => ({ id: { prefix: `${user?.id}-` } }), write: () => undefined },
        plant: { read: () => 'all' },
      },
    });
  });
  afterAll(() => world.end());

  test('pulls with lists of different lengths, and as many conditions, leave no more memory in use', async () => {
    const used = () => {
      (globalThis as { gc?: () => void }).gc?.();
      return process.memoryUsage().rss;
    };
    const pull = (n: number) =>
      ask('/v1/pull', {
        where: { bed: { id: { in: Array.from({ length: 2_000 + n }, (_, i) => `mika-${n}-${i}`) } } },
        limit: 1,
      });
    for (let n = 1; n <= 50; n++) expect((await pull(n)).status).toBe(200);
    const before = used();
    for (let n = 51; n <= (kind === 'SQLite' ? 400 : 120); n++) await pull(n);
    // Statements that were kept took some 700 kB each.
    expect(used() - before).toBeLessThan(120e6);
  });

  test('conditions that are too deep, too long, or no text are refused by name', async () => {
    const nested = (levels: number) => {
      let where: object = { id: 'x' };
      for (let i = 0; i < levels; i++) where = { not: where };
      return where;
    };
    const compare = { id: 'x' };
    for (const where of [
      nested(70),
      nested(1_200),
      { or: Array.from({ length: 1_200 }, () => compare) },
      { and: Array.from({ length: 40 }, () => ({ or: Array.from({ length: 40 }, () => compare) })) },
      { id: { in: Array.from({ length: 30_001 }, (_, i) => `${i}`) } },
      { and: Array.from({ length: 4 }, () => ({ id: { in: Array.from({ length: 8_000 }, (_, i) => `${i}`) } })) },
      { id: { prefix: 'a\0' } },
      { id: { contains: '\0' } },
      { id: { contains: '\ud800' } },
    ]) {
      const { status, code, text } = await ask('/v1/pull', { where: { bed: where } });
      const isDeep = JSON.stringify(where).length > 1_200 && 'not' in where;
      expect([status, code], JSON.stringify(where).slice(0, 80)).toEqual(
        isDeep ? [413, 'too-large'] : [400, 'query-invalid'],
      );
      expect(text).toMatch(/levels|comparisons|lists more|Unicode/);
    }
    const wide = { or: Array.from({ length: 900 }, (_, i) => ({ id: `mika-${i}` })) };
    expect(await ask('/v1/pull', { where: { bed: wide } }), 'an honest one').toMatchObject({ status: 200 });
    expect((await ask('/v1/pull', { where: { bed: nested(60) } })).status).toBe(200);
  });

  test('a body is refused by its size, its ratio, its depth and its values before it is parsed', async () => {
    const arrays = Buffer.from(`[${'[],'.repeat(12e6)}1]`);
    for (const [path, body, encoding] of [
      ['/v1/pull', Buffer.alloc(5e6, 0x20), 'identity'],
      ['/v1/restore', Buffer.alloc(5e6, 0x20), 'identity'],
      ['/v1/wait', await packed.gzip(Buffer.alloc(5e6, 0x20)), 'gzip'],
      ['/v1/push', await packed.gzip(arrays), 'gzip'],
      ['/v1/push', await packed.deflate(arrays), 'deflate'],
      ['/v1/push', Buffer.from(`[${'[],'.repeat(1.1e6)}1]`), 'identity'],
      ['/v1/pull', Buffer.from(`[${'1,'.repeat(110_000)}1]`), 'identity'],
      ['/v1/push', Buffer.from(`${'['.repeat(200)}${']'.repeat(200)}`), 'identity'],
    ] as const) {
      const before = process.cpuUsage();
      const answer = await ask(path, body, { 'content-encoding': encoding });
      expect([answer.status, answer.code], `${path} ${body.length}`).toEqual([413, 'too-large']);
      const { user } = process.cpuUsage(before);
      expect(user, `${path}: CPU microseconds`).toBeLessThan(2e6);
    }
    const texts = JSON.stringify({ table: `"[[[{{\\"${'['.repeat(500)}\\`, id: '\\\\' });
    expect(await ask('/v1/restore', texts), 'brackets in texts are none').toMatchObject({
      status: 400,
      code: 'unknown-table',
    });
    expect(await ask('/v1/pull', await packed.gzip('{}'), { 'content-encoding': 'GZIP' })).toMatchObject({
      status: 200,
    });
  });

  test('parts of a transaction are of one replica, one transaction at a time, and wait a day', async () => {
    const part = (n: number, index: number, count = 3) =>
      transaction(n, [bed(`mika-${n}-${index}`)], { part: { index, count } });
    const stored = async () => {
      const name = kind === 'SQLite' ? 'koinon_part' : 'koinon.part';
      return (await (await world.shell()).all<{ id: string }>(`SELECT id FROM ${name} ORDER BY id, number`)).map(
        ({ id }) => id,
      );
    };
    expect(await push(1, [part(100, 0)])).toEqual(['part-stored']);
    // Another user knows its id: what he sends is of a transaction of his own.
    expect(await push(2, [part(100, 1)], 'tove')).toEqual(['part-stored']);
    expect(await push(1, [part(100, 1)])).toEqual(['part-stored']);
    expect(await push(2, [part(100, 2)], 'tove')).toEqual(['parts-missing']);
    expect(await push(1, [part(100, 2)])).toEqual(['applied']);
    expect(await stored()).toEqual([]);
    expect(await push(1, [part(101, 0)])).toEqual(['part-stored']);
    expect(await push(1, [part(102, 0)])).toEqual(['part-stored']);
    expect(await stored(), 'the one before is given up').toEqual([uuid(102)]);
    await world.store.write((writer) => writer.compact(500, Date.now() + 1));
    expect(await stored()).toEqual([]);
  });

  test('names and receipts are cut to what a database and a person can use', async () => {
    for (const changes of [
      [{ kind: 'insert', table: 't'.repeat(500_000), id: 'x', columns: {} }],
      [{ kind: 'insert', table: 'ü'.repeat(32), id: 'x', columns: {} }],
      [{ kind: 'insert', table: 'bed', id: 'i'.repeat(201), columns: {} }],
      [{ kind: 'insert', table: 'bed', id: 'x', columns: { ['c'.repeat(64)]: 1 } }],
    ])
      expect(await push(1, [transaction(200, changes)])).toBe('malformed-request');
    const wrong = Array.from({ length: 2_000 }, (_, i) => ({
      kind: 'insert',
      table: 'plant',
      id: `p${i}`,
      columns: { kind: 'x'.repeat(5_000) },
    }));
    expect(await push(1, [transaction(201, wrong)])).toEqual(['rejected']);
    const name = kind === 'SQLite' ? 'koinon_receipt' : 'koinon.receipt';
    const [receipt] = await (await world.shell()).all<{ outcome: string }>(
      `SELECT outcome FROM ${name} WHERE id = '${uuid(201)}'`,
    );
    expect(receipt?.outcome.length).toBeLessThan(100_000);
    expect(JSON.parse(receipt?.outcome as string)).toHaveLength(100);
  });

  test('a user has so many replicas and no more; one that was not heard of for long makes room', async () => {
    const first = Array.from({ length: 6 }, (_, n) =>
      push(300 + n, [transaction(300 + n, [bed(`vera-${n}`)])], 'vera'),
    );
    expect((await Promise.all(first)).flat()).toEqual(Array.from({ length: 6 }, () => 'applied'));
    expect(await push(310, [transaction(310, [bed('vera-x')])], 'vera')).toBe('too-many-replicas');
    expect(await push(301, [transaction(311, [bed('vera-y')])], 'vera'), 'those there are go on').toEqual(['applied']);
    const shell = await world.shell();
    const replicas = kind === 'SQLite' ? 'koinon_replica' : 'koinon.replica';
    const contact = { position: null, schemaVersion: null, rowsDown: 0, rowsUp: 0 };
    const forgetFirst = async () => {
      await world.store.write(async (writer) => {
        await writer.noteContacts([{ replica: uuid(300), at: 1, ...contact }]);
        await writer.noteTime(1_000);
      });
      await shell.exec(`UPDATE ${replicas} SET last_seen = 1 WHERE id = '${uuid(300)}'`);
      await world.store.write(async (writer) => {
        await writer.moveHorizon(2_000);
        await writer.compact(500, 0);
      });
      return push(310, [transaction(312, [bed('vera-x')])], 'vera');
    };
    // The server may note the contact of a moment ago in between.
    await expect.poll(forgetFirst, { timeout: 10_000 }).toEqual(['applied']);
  });

  test('who looks for his own in a trash full of others’ gets it, in short pages that say where to go on', async () => {
    const shell = await world.shell();
    const values = Array.from({ length: 12_000 }, (_, i) => `('tove-${i}', 'n${i}', ${kind === 'SQLite' ? 1 : true})`);
    await shell.exec(`INSERT INTO bed VALUES ('lena-1', 'first', ${kind === 'SQLite' ? 1 : true})`);
    await shell.exec("DELETE FROM bed WHERE id = 'lena-1'");
    await shell.exec(`INSERT INTO bed VALUES ${values.join()}`);
    await shell.exec("DELETE FROM bed WHERE id LIKE 'tove-%'");
    const get = async (query: string) => {
      const answer = await fetch(`${world.server.url}/v1/trash?${query}`, {
        headers: { authorization: 'Bearer lena' },
      });
      return (await answer.json()) as {
        rows: { id: string }[];
        next?: { position: number; table: string; id: string };
      };
    };
    const first = await get('limit=1');
    expect(first).toMatchObject({ rows: [], next: { table: 'bed' } });
    const { position, table, id } = first.next as { position: number; table: string; id: string };
    const second = await get(`limit=1&before=${position}&beforeTable=${table}&beforeId=${id}`);
    expect(second.rows.map((row) => row.id)).toEqual(['lena-1']);
    expect((await get('id=lena-1&limit=1')).rows.map((row) => row.id)).toEqual(['lena-1']);
    expect((await get('id=tove-1&limit=1')).rows).toEqual([]);
    expect((await get('table=plant')).rows).toEqual([]);
  });
});

test.each(storeKinds)(
  '%s: requests by the grammar of the OpenAPI document, with mistakes in them, are all answered',
  async (kind) => {
    const world = await World.inTest(asked, kind);
    const { failures, statuses } = await answerRequests(
      await world.database.open(asked),
      20_261_130,
      runs(1_500).numRuns,
    );
    expect(failures).toEqual([]);
    expect([200, 400, 401, 409].filter((status) => !statuses.has(status))).toEqual([]);
  },
);
