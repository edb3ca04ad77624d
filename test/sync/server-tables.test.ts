import {
  connectReplica,
  hostReplica,
  httpTransport,
  openReplica,
  type Replica,
  type ReplicaOptions,
  type Result,
  type Transport,
} from '@koinon/client';
import { bytes, integer, json, type LiveMessage, reference, schema, table, text } from '@koinon/core';
import type { Scopes, ServerOptions } from '@koinon/server';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { type StoreKind, storeKinds } from '../support/stores.ts';
import { order, row, things, where } from '../support/things.ts';
import { waitFor } from '../support/wait-for.ts';
import { never, World } from '../support/world.ts';

const library = schema({
  thing: things,
  part: table({ thing: reference('thing', { optional: true }), next: reference('part', { optional: true }) }),
});

/** A live connection that no network lets through. */
const broken: NonNullable<Transport['live']> = (listener) => {
  queueMicrotask(() => listener.closed());
  return { say: () => undefined, close: () => undefined };
};

const until = (check: () => boolean | Promise<boolean>) => waitFor(async () => expect(await check()).toBe(true));

/** Plants are for everybody to look up, and nobody holds them; of prices there are each user's own; a visit names a plant. */
const hives = schema({
  plant: table(
    {
      name: text(),
      blooms: integer({ optional: true }),
      family: reference('plant', { optional: true }),
      secret: text({ optional: true }),
      picture: bytes({ optional: true }),
      more: json({ optional: true }),
    },
    { home: 'server', index: [['name']] },
  ),
  price: table({ person: text({ filterable: true }), plant: reference('plant'), cents: integer() }, { home: 'server' }),
  visit: table({ person: text({ filterable: true }), plant: reference('plant', { optional: true }), note: text() }),
});

const scopes = {
  plant: { read: 'all', withhold: (user) => (user?.id === 'office' ? [] : ['secret']) },
  price: { read: (user) => ({ person: user?.id ?? '' }) },
  visit: { read: (user) => ({ person: user?.id ?? '' }) },
} satisfies Scopes<typeof hives>;

type Hives = Replica<typeof hives>;

async function hivesWorld(kind: StoreKind, options: Partial<ServerOptions<typeof hives>> = {}) {
  const world = await World.inTest(hives, kind, {
    authenticate: (token) => ({ id: token, claims: {} }),
    scopes,
    ...options,
  });
  const shell = await world.shell();
  await shell.exec(`INSERT INTO plant (id, name, blooms, family, secret) VALUES
    ('rose', 'Roses', NULL, NULL, NULL), ('sloe', 'Sloe', 4, 'rose', 'by the mill'), ('haw', 'Hawthorn', 5, 'rose', 'on the hill')`);
  await shell.exec(
    "INSERT INTO price (id, person, plant, cents) VALUES ('m', 'mika', 'sloe', 250), ('t', 'tove', 'sloe', 300)",
  );
  const replica = (person: string, more: Partial<ReplicaOptions<typeof hives>> = {}): Promise<Hives> =>
    world.closed(
      openReplica({
        ...{ schema: hives, file: world.path(`${person}.db`) },
        server: httpTransport(world.server.url, { token: () => person }),
        ...more,
      }),
    );
  return { world, shell, replica };
}

test('SQLite: after a query that fails in the middle of its rows the server reads what is new', async () => {
  const held = schema({ plant: table({ n: integer({ optional: true }) }, { home: 'server' }) });
  const world = await World.inTest(held, 'SQLite', {}, (shell) =>
    shell.exec(
      "CREATE TABLE plant (id TEXT PRIMARY KEY NOT NULL, n INTEGER); INSERT INTO plant VALUES ('a', 1152921504606846976)",
    ),
  );
  const replica = await world.replica();
  const most = replica.summary({ from: 'plant', by: ['id'], measures: { most: ['max', 'n'] } });
  await expect(most).rejects.toMatchObject({ code: 'query-invalid' });
  await (await world.shell()).exec("INSERT INTO plant VALUES ('b', 7)");
  expect(await replica.count({ from: 'plant' })).toBe(2);
  expect(await replica.rows({ from: 'plant' })).toEqual([
    { id: 'a', n: null },
    { id: 'b', n: 7 },
  ]);
});

describe.each(storeKinds)('%s', (kind) => {
  test('the server answers a query as a device answers it that has the same rows', async () => {
    const world = await World.inTest(library, kind);
    const replica = await world.replica();
    const measures = {
      ...{ all: 'count', least: ['min', 'name'], last: ['max', 'at'], worst: ['min', 'good'], best: ['max', 'good'] },
      ...{
        sum: ['sum', 'serial'],
        whole: ['sum', 'count'],
        taken: ['sum', 'paid'],
        dear: ['max', 'price'],
        first: ['min', 'wall'],
      },
    };
    await fc.assert(
      fc.asyncProperty(
        fc.array(row, { maxLength: 8 }),
        where,
        order,
        fc.option(fc.integer({ min: 0, max: 6 }), { nil: undefined }),
        fc.integer({ min: 0, max: 3 }),
        fc.constantFrom('name', 'good', 'kind', 'price', 'serial', 'at', 'day', 'id'),
        async (rows, condition, ordered, limit, offset, by) => {
          const made = await replica.insertAll('thing', rows as never);
          for (const { id } of made) await replica.insert('part', { thing: id });
          await replica.sync();
          const query = {
            from: 'thing',
            where: condition,
            order: ordered,
            offset,
            ...(limit !== undefined && { limit }),
          };
          const here = await replica.rows(query as never);
          expect(await replica.onServer.rows(query as never)).toEqual(here);
          const last = here.at(-1) as never;
          const next = { ...(query as object), offset: 0, after: last } as never;
          if (last) expect(await replica.onServer.rows(next)).toEqual(await replica.rows(next));
          const some = { from: 'thing', where: condition } as never;
          expect(await replica.onServer.count(some)).toBe(await replica.count(some));
          const summary = { from: 'thing', where: condition, by: [by], measures } as never;
          expect(await replica.onServer.summary(summary)).toEqual(await replica.summary(summary));
          const joined = {
            from: 'part',
            columns: ['id'],
            order: [['id', 'desc']],
            join: { of: { by: 'thing' }, parts: { from: 'part', by: 'next', where: { thing: null } } },
          } as never;
          expect(await replica.onServer.rows(joined)).toEqual(await replica.rows(joined));
          await replica.deleteWhere('part', 'every row' as never);
          await replica.deleteWhere('thing', 'every row' as never);
        },
      ),
      { ...runs(40), endOnFailure: true },
    );
  });

  test('a table of the server is read like any other, is on no device, and is written by none', async () => {
    const { world, shell, replica } = await hivesWorld(kind);
    const mika = await replica('mika');
    await mika.sync();
    expect(await mika.get('plant', 'sloe')).toEqual({
      ...{ id: 'sloe', name: 'Sloe', blooms: 4, family: 'rose' },
      ...{ secret: null, picture: null, more: null },
    });
    expect(await mika.get('plant', 'oak')).toBeUndefined();
    const named = { from: 'plant', where: { blooms: { '>': 3 } }, order: 'name', columns: ['name'] } as const;
    expect(await mika.rows({ ...named, join: { family: { by: 'family' } } })).toMatchObject([
      { id: 'haw', name: 'Hawthorn', family: { name: 'Roses' } },
      { id: 'sloe', name: 'Sloe', family: { name: 'Roses' } },
    ]);
    expect(await mika.count({ from: 'plant' })).toBe(3);
    expect(
      await mika.rows({
        from: 'plant',
        where: { id: 'sloe' },
        columns: [],
        join: { prices: { from: 'price', by: 'plant' } },
      }),
    ).toEqual([{ id: 'sloe', prices: [{ id: 'm', person: 'mika', plant: 'sloe', cents: 250 }] }]);
    expect(await mika.summary({ from: 'price', measures: { all: 'count', sum: ['sum', 'cents'] } })).toEqual([
      { all: 1, sum: 250 },
    ]);
    expect(await mika.onServer.get('price', 't')).toBeUndefined();
    await expect(mika.insert('plant' as never, { name: 'Oak' } as never)).rejects.toMatchObject({
      code: 'table-on-server',
    });
    await expect(mika.hold('all', { from: 'plant' as never })).rejects.toMatchObject({ code: 'table-on-server' });
    await mika.transaction(async (transaction) => {
      await expect(transaction.rows({ from: 'plant' })).rejects.toMatchObject({ code: 'table-on-server' });
    });
    const tables = (await mika.select({
      text: "SELECT name FROM sqlite_schema WHERE name = 'plant'",
      values: [],
    })) as [];
    expect(tables).toEqual([]);
    // A program that asks for it all the same, or writes it, gets no further.
    const way = httpTransport(world.server.url, { token: () => 'mika' });
    const page = await way.pull({ columns: { plant: ['name'], visit: ['note'] } });
    expect(page.rows).toEqual([]);
    const change = { kind: 'update', table: 'plant', id: 'sloe', columns: { name: 'Plum' }, operations: {} };
    const id = '00000000-0000-4000-8000-000000000001';
    const transaction = { id, editedAt: '2026-05-01T08:00:00.000Z', changes: [change] };
    const outcome = await way.push(JSON.stringify({ replica: id, base: null, transactions: [transaction] }));
    expect(outcome).toMatchObject({ outcomes: [{ outcome: 'rejected', problems: [{ code: 'table-read-only' }] }] });
    expect(await shell.all("SELECT name FROM plant WHERE id = 'sloe'")).toEqual([{ name: 'Sloe' }]);
  });

  test('a column that is withheld can be neither read nor asked for, and rows of others are not there', async () => {
    const { replica } = await hivesWorld(kind);
    const mika = await replica('mika');
    const office = await replica('office');
    expect(await office.rows({ from: 'plant', columns: ['secret'], where: { secret: { prefix: 'by' } } })).toEqual([
      { id: 'sloe', secret: 'by the mill' },
    ]);
    const hidden = [
      { from: 'plant', columns: ['secret'] },
      { from: 'plant', where: { not: { or: [{ secret: null }] } } },
      { from: 'plant', order: ['name', ['secret', 'desc']] },
      { from: 'plant', order: 'secret', after: { id: 'a', secret: 'b' } },
      { from: 'plant', join: { kinds: { from: 'plant', by: 'family', where: { secret: 'x' } } } },
      { from: 'plant', join: { kinds: { from: 'plant', by: 'family', order: 'secret' } } },
    ];
    for (const query of hidden)
      await expect(mika.rows(query as never)).rejects.toMatchObject({ code: 'column-withheld', column: 'secret' });
    await expect(mika.count({ from: 'plant', where: { secret: 'x' } })).rejects.toMatchObject({
      code: 'column-withheld',
    });
    const measured = { from: 'plant', measures: { least: ['min', 'secret'] } } as const;
    await expect(mika.summary(measured)).rejects.toMatchObject({ code: 'column-withheld' });
    await expect(mika.summary({ from: 'plant', by: ['secret'], measures: { all: 'count' } })).rejects.toMatchObject({
      code: 'column-withheld',
    });
    expect(await mika.onServer.rows({ from: 'price', where: { or: [{ person: 'tove' }, { cents: 300 }] } })).toEqual(
      [],
    );
    expect(
      JSON.stringify(await mika.rows({ from: 'plant', join: { kinds: { from: 'plant', by: 'family' } } })),
    ).not.toContain('mill');
  });

  test('a query over a limit is refused with what to do, and everything else goes on', async () => {
    const { shell, replica, world } = await hivesWorld(kind, {
      queryLimits: { rows: 50, bytes: 20_000, cost: 150_000 },
    });
    const mika = await replica('mika');
    await shell.exec(`WITH RECURSIVE numbers(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM numbers WHERE n < 60000)
      INSERT INTO plant (id, name) SELECT 'p' || n, 'plant ' || n FROM numbers`);
    if (kind === 'PostgreSQL') await shell.exec('ANALYZE plant');
    await expect(mika.rows({ from: 'plant' })).rejects.toMatchObject({
      code: 'query-limit',
      message: /more than 50 rows/,
    });
    expect(await mika.rows({ from: 'plant', order: 'name', limit: 50 })).toHaveLength(50);
    const joined = { from: 'plant', order: 'name', join: { kinds: { from: 'plant', by: 'family' } } } as const;
    expect(await mika.rows({ ...joined, limit: 48 })).toHaveLength(48);
    await expect(mika.rows({ ...joined, limit: 49 })).rejects.toMatchObject({
      code: 'query-limit',
    });
    const any = { or: Array.from({ length: 900 }, (_, n) => ({ name: { contains: `${n}x` } })) };
    await expect(mika.count({ from: 'plant', where: any })).rejects.toMatchObject({
      code: 'query-limit',
      message: /cost/,
    });
    await shell.exec(`UPDATE plant SET more = '"${'x'.repeat(15_000)}"' WHERE id IN ('p1', 'p2')`);
    const two = { from: 'plant', where: { id: { in: ['p1', 'p2'] } } } as const;
    await expect(mika.rows(two)).rejects.toMatchObject({ code: 'query-limit', message: /bytes/ });
    expect(await mika.rows({ ...two, columns: ['name'] })).toHaveLength(2);
    expect(await mika.rows({ ...two, limit: 1 })).toHaveLength(1);
    await world.restart(hives, undefined, { queryLimits: { time: 20, cost: 1e12 } });
    await expect(mika.count({ from: 'plant', where: any })).rejects.toMatchObject({
      code: 'query-limit',
      message: /20 ms/,
    });
    expect(await mika.get('plant', 'p7')).toMatchObject({ name: 'plant 7' });
  });

  test('a live query is asked again when its rows change, and says why it is old offline', async () => {
    const { world, shell, replica } = await hivesWorld(kind);
    const mika = await replica('mika', { sync: 'automatic' });
    const results: Result<unknown>[] = [];
    const stop = mika
      .live({ from: 'plant', order: 'name', columns: ['name'] })
      .subscribe((result) => results.push(result));
    const names = () => results.at(-1)?.rows.map((row) => (row as { name: string }).name);
    await until(() => names()?.length === 3);
    const [before] = [results.at(-1)?.rows[0]];
    await shell.exec("INSERT INTO plant (id, name) VALUES ('oak', 'Oak')");
    await until(() => names()?.join() === 'Hawthorn,Oak,Roses,Sloe');
    expect(results.at(-1)).toMatchObject({ added: [{ id: 'oak' }], updated: [], removed: [], origin: 'server' });
    expect(results.at(-1)?.rows[0]).toBe(before);
    await world.restart(hives, async () => {
      await expect(mika.rows({ from: 'plant' })).rejects.toMatchObject({ code: 'server-unreachable' });
      await shell.exec("DELETE FROM plant WHERE id = 'oak'").catch(() => undefined);
    });
    await mika.retrySync();
    await until(() => names()?.length === 3);
    expect(results.at(-1)?.error).toBeUndefined();
    stop();
    await world.server.close();
    const offline: Result<unknown>[] = [];
    mika.live({ from: 'plant' }).subscribe((result) => offline.push(result));
    await until(() => offline.at(-1)?.error?.code === 'server-unreachable');
    expect(offline.at(-1)).toMatchObject({ ready: false, rows: [] });
    await world.restart();
  });

  test('who queries a table is told of rows that he may read, and of no others', async () => {
    const { world, shell } = await hivesWorld(kind);
    const way = httpTransport(world.server.url, { token: () => 'mika' });
    const { cursor } = (await way.pull({})).header;
    const told: string[] = [];
    const heard = (message: LiveMessage) =>
      told.push(message.type === 'moved' ? `moved ${message.tables.join()}` : message.type);
    const channel = way.live?.({ open: () => say(), message: heard, closed: () => undefined });
    const replica = '00000000-0000-4000-8000-000000000007';
    const say = () => channel?.say({ join: 1, cursor, replica, queries: ['price', 'plant'] });
    await until(() => told.includes('joined'));
    await shell.exec("UPDATE price SET cents = 1 WHERE id = 't'");
    await shell.exec("UPDATE plant SET blooms = 3 WHERE id = 'sloe'");
    await until(() => told.includes('moved plant'));
    await shell.exec("UPDATE price SET person = 'tove' WHERE id = 'm'");
    await until(() => told.includes('moved price'));
    channel?.close();
    expect(told).toEqual(['joined', 'moved plant', 'moved price']);
    // The request that waits is answered where no WebSocket gets through, and the query is asked again.
    const through: Transport = { ...way, live: broken };
    const mika = await openReplica({ schema: hives, server: through, sync: 'automatic' });
    const results: Result<{ readonly blooms: number | null }>[] = [];
    mika.live({ from: 'plant', where: { id: 'sloe' } }).subscribe((result) => results.push(result));
    await until(() => results.at(-1)?.rows[0]?.blooms === 3);
    await shell.exec("UPDATE plant SET blooms = 9 WHERE id = 'sloe'");
    await until(() => results.at(-1)?.rows[0]?.blooms === 9);
    await mika.close();
  });

  test('a replica that another thread runs asks and follows as well', async () => {
    const { world, shell, replica } = await hivesWorld(kind);
    const { port1, port2 } = new MessageChannel();
    void hostReplica(port1, () => replica('mika', { sync: 'automatic' }));
    const mika = await connectReplica(port2, hives);
    expect(await mika.get('plant', 'sloe')).toMatchObject({ name: 'Sloe', secret: null });
    expect(await mika.onServer.rows({ from: 'price' })).toMatchObject([{ id: 'm' }]);
    await expect(mika.rows({ from: 'plant', columns: ['secret'] })).rejects.toMatchObject({ code: 'column-withheld' });
    const results: Result<{ readonly name: string }>[] = [];
    mika.live({ from: 'plant', order: 'name', columns: ['name'] }).subscribe((result) => results.push(result));
    await until(() => results.at(-1)?.rows.length === 3);
    await shell.exec("UPDATE plant SET name = 'Blackthorn' WHERE id = 'sloe'");
    await until(() => results.at(-1)?.rows[0]?.name === 'Blackthorn');
    const summed: Result<unknown>[] = [];
    await world.server.close();
    mika.liveSummary({ from: 'price', measures: { all: 'count' } }).subscribe((result) => summed.push(result));
    await until(() => summed.at(-1)?.error?.code === 'server-unreachable');
    expect(summed.at(-1)).toMatchObject({ ready: false, rows: [] });
    await world.restart();
    await mika.close();
  });

  test('a row of the device may refer to one of the server, which alone can check it; the two are not joined silently', async () => {
    const { shell, replica } = await hivesWorld(kind);
    const mika = await replica('mika');
    const visit = await mika.insert('visit', { person: 'mika', plant: 'sloe', note: 'in bloom' });
    await mika.sync();
    const wrong = await mika.insert('visit', { person: 'mika', plant: 'fern', note: 'none' });
    await mika.sync();
    expect(await mika.rejections()).toMatchObject([{ problems: [{ code: 'no-such-reference', column: 'plant' }] }]);
    await mika.revert('visit', wrong.id);
    const joined = { from: 'visit', join: { plant_row: { by: 'plant' } } } as const;
    await expect(mika.rows(joined)).rejects.toMatchObject({ code: 'query-mixed', message: /onServer/ });
    const backwards = { from: 'plant', join: { visits: { from: 'visit', by: 'plant' } } } as const;
    await expect(mika.rows(backwards)).rejects.toMatchObject({ code: 'query-mixed' });
    const failed: unknown[] = [];
    mika.live(joined).subscribe(
      () => undefined,
      (error) => failed.push(error),
    );
    await until(() => failed.length > 0);
    expect(failed).toMatchObject([{ code: 'query-mixed' }]);
    await mika.transaction((transaction) =>
      expect(transaction.rows(joined)).rejects.toMatchObject({ code: 'table-on-server' }),
    );
    expect(await mika.onServer.rows(joined)).toMatchObject([{ id: visit.id, plant_row: { name: 'Sloe' } }]);
    expect(await mika.rows({ from: 'visit' })).toMatchObject([{ plant: 'sloe' }]);
    await shell.exec("DELETE FROM price WHERE plant = 'sloe'");
    await expect(shell.exec("DELETE FROM plant WHERE id = 'sloe'")).rejects.toThrow();
  });

  test('a table that the server takes back from the devices leaves them', async () => {
    const before = schema({ plant: table({ name: text() }), visit: table({ note: text() }) });
    const world = await World.inTest(before as never, kind);
    const shell = await world.shell();
    await shell.exec("INSERT INTO plant VALUES ('a', 'Alder')");
    const old = (await world.replica({ file: 'old.db' })) as unknown as Replica<typeof before>;
    await old.sync();
    expect(await old.count({ from: 'plant' })).toBe(1);
    const now = schema(
      { plant: table({ name: text() }, { home: 'server' }), visit: table({ note: text() }) },
      { version: 2 },
    );
    await world.restart(now as never);
    await old.sync();
    expect(await old.count({ from: 'plant' })).toBe(0);
    await old.close();
    const options = { schema: now, file: world.path('old.db'), server: world.server.url };
    await expect(openReplica(options)).rejects.toMatchObject({ message: /plant is no longer held by devices/ });
    const renewed = await openReplica({ ...options, migrations: { 2: (migration) => migration.removeTable('plant') } });
    expect(await renewed.rows({ from: 'plant' })).toEqual([{ id: 'a', name: 'Alder' }]);
    // Devices still get whole what they hold: also a deletion of which nothing else is known.
    await shell.exec("INSERT INTO visit VALUES ('v', 'calm')");
    await renewed.sync();
    const stamps = kind === 'SQLite' ? 'koinon_stamp' : 'koinon.stamp';
    await shell.exec(`DELETE FROM plant; DELETE FROM visit; UPDATE ${stamps} SET image = NULL WHERE deleted`);
    expect((await httpTransport(world.server.url).pull({})).header.partial).toBeUndefined();
    await renewed.sync();
    expect(await renewed.count({ from: 'visit' })).toBe(0);
    expect(await renewed.trash()).toEqual([]);
    await renewed.close();
  });

  test('programs ask without a replica, and what they ask wrongly is told', async () => {
    const { world } = await hivesWorld(kind);
    const ask = async (body: unknown) => {
      const response = await fetch(`${world.server.url}/v1/query`, {
        method: 'POST',
        headers: { 'content-type': 'application/json', authorization: 'Bearer mika' },
        body: JSON.stringify(body),
      });
      return (await response.json()) as { code?: string; rows?: unknown; count?: number };
    };
    expect(await ask({ rows: { from: 'plant', where: { id: 'sloe' }, columns: ['name'] } })).toEqual({
      rows: [{ id: 'sloe', name: 'Sloe' }],
    });
    expect(await ask({ count: { from: 'visit' } })).toEqual({ count: 0 });
    const wrong: [unknown, string][] = [
      [{}, 'malformed-request'],
      [{ rows: { from: 'plant' }, count: { from: 'plant' } }, 'malformed-request'],
      [{ rows: 'plant' }, 'malformed-request'],
      [{ rows: {} }, 'unknown-table'],
      [{ rows: { from: '__proto__' } }, 'unknown-table'],
      [{ rows: { from: 'koinon_stamp' } }, 'unknown-table'],
      [{ rows: { from: 'plant', where: { nothing: 1 } } }, 'unknown-column'],
      [{ rows: { from: 'plant', where: { blooms: '4; DROP TABLE plant' } } }, 'value-type'],
      [{ rows: { from: 'plant', order: [['name', 'desc; --']] } }, 'query-invalid'],
      [{ rows: { from: 'plant', limit: -1 } }, 'query-invalid'],
      [{ rows: { from: 'plant', join: { state: 'status' } } }, 'query-invalid'],
      [{ count: { from: 'plant', limit: 1 } }, 'malformed-request'],
      [{ summary: { from: 'plant', measures: {} } }, 'query-invalid'],
      [{ rows: { from: 'plant', where: { picture: { '>': '!!' } } } }, 'value-type'],
    ];
    for (const [body, code] of wrong) expect([body, (await ask(body)).code]).toEqual([body, code]);
    const unsigned = await fetch(`${world.server.url}/v1/query`, { method: 'POST', body: '{}' });
    expect(unsigned.status).toBe(401);
  });

  test('a server that answers nonsense, or is older, is told from one that has no rows', async () => {
    const { world, replica } = await hivesWorld(kind);
    for (const answer of [{}, { rows: [1] }, { rows: [{ name: 'no id' }] }, { rows: 'x' }, { count: -1 }]) {
      const server = {
        ...httpTransport(world.server.url, { token: () => 'mika' }),
        query: async () => answer as never,
      };
      const odd = await replica('mika', { server, file: world.path('odd.db'), sync: { when: never } });
      await expect(odd.rows({ from: 'plant' })).rejects.toMatchObject({ code: 'server-answer' });
      await odd.close();
    }
    const { query: _, ...way } = httpTransport(world.server.url, { token: () => 'mika' });
    const cannot = await replica('mika', { server: way, file: world.path('cannot.db') });
    await expect(cannot.rows({ from: 'plant' })).rejects.toMatchObject({ code: 'not-linked' });
    const alone = await openReplica({ schema: hives });
    await expect(alone.rows({ from: 'plant' })).rejects.toMatchObject({ code: 'not-linked' });
    await alone.close();
  });
});
