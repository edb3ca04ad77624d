import { httpTransport, type Migration, openReplica, type Replica, type Transport, type Upload } from '@koinon/client';
import { integer, KoinonError, oneOf, reference, type Schema, schema, table, text } from '@koinon/core';
import { alterPostgres, alterSqlite, serveInProcess } from '@koinon/server';
import { expect, test, vi } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { garden, never, World } from '../support/world.ts';

const unreachable = () => new KoinonError('server-unreachable', 'No signal.');

// An app and its server that are not equally far: either may come to know a column or a table before the other does.

test.each(storeKinds)(
  'history 17 on %s: an app that gains a column and a table gets their old values, and overwrites none',
  async (kind) => {
    const note = table({ words: text() });
    const old = schema({ note, unrelated: table({ a: text() }) });
    const gained = schema({
      note: table({ words: text(), colour: text({ optional: true }), stars: integer({ default: 1 }) }),
      label: table({ name: text() }),
      unrelated: old.tables.unrelated,
    });
    const world = await World.of(old as Schema, kind);
    const behind = (await world.replica({ file: 'behind.db' })) as unknown as Replica<typeof old>;
    await behind.insertAll('note', [
      { id: 'n1', words: 'one' },
      { id: 'n2', words: 'two' },
      { id: 'n3', words: 'three' },
    ]);
    await behind.sync();
    // The server and another device move on; this one stays on the old app for a while, and goes on syncing.
    await world.restart(gained);
    const ahead = await openReplica({ schema: gained, server: world.server.url });
    await ahead.sync();
    expect(await ahead.get('note', 'n1')).toMatchObject({ colour: null, stars: 1 });
    await ahead.update('note', 'n1', { colour: 'red', stars: 5 });
    await ahead.insert('label', { id: 'l1', name: 'urgent' });
    await ahead.sync();
    await behind.insert('note', { id: 'n4', words: 'four' });
    await behind.sync();
    expect(await behind.status()).toMatchObject({ pending: 0, rejected: 0 });
    await behind.update('note', 'n2', { words: 'two, offline' });
    await behind.close();
    // Made behind the cursor of this device, and deleted between the old values and what the cursor brings.
    await ahead.insert('note', { id: 'n5', words: 'five' });
    await ahead.insert('label', { id: 'l2', name: 'later' });
    await ahead.sync();
    const network = httpTransport(world.server.url);
    let pulls = 0;
    const upgraded = await openReplica({
      ...{ schema: gained, file: world.path('behind.db'), sync: { when: never, live: false } },
      server: {
        ...network,
        async pull(request, signal) {
          if (++pulls === 2) throw unreachable();
          // Made before the last cursor of the snapshot is asked, and deleted before the own one is asked again.
          if (pulls === 4) await ahead.insert('label', { id: 'l3', name: 'between' });
          if (pulls === 5) await ahead.delete('label', 'l3');
          if (pulls > 3) await ahead.sync();
          return network.pull(request, signal);
        },
      },
    });
    await upgraded.update('note', 'n3', { colour: 'blue' });
    await expect(upgraded.sync()).rejects.toThrow('No signal.');
    expect(await upgraded.get('label', 'l2')).toMatchObject({ name: 'later' });
    await ahead.sync();
    for (const id of ['n4', 'n5']) await ahead.delete('note', id);
    await ahead.delete('label', 'l2');
    await ahead.sync();
    await upgraded.sync();
    await ahead.sync();
    expect(await upgraded.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
    expect(pulls).toBeGreaterThan(4);
    expect((await upgraded.rows({ from: 'label' })).map(({ id }) => id)).toEqual(['l1']);
    expect(
      (await upgraded.rows({ from: 'note' })).map(({ id, words, colour, stars }) => [id, words, colour, stars]),
    ).toEqual([
      ['n1', 'one', 'red', 5],
      ['n2', 'two, offline', null, 1],
      ['n3', 'three', 'blue', 1],
    ]);
    expect(await upgraded.rows({ from: 'label' })).toEqual([{ id: 'l1', name: 'urgent' }]);
    expect(await ahead.rows({ from: 'note' })).toEqual(await upgraded.rows({ from: 'note' }));
    expect((await upgraded.sync()).received).toBe(0);
    await Promise.all([ahead.close(), upgraded.close()]);
    await world.end();
  },
);

test.each(storeKinds)(
  'history 17 on %s: an app that is newer than its server waits with what that does not know; nothing is refused, and old values arrive',
  async (kind) => {
    const note = table({ words: text() });
    const old = schema({ note, unrelated: table({ a: text() }) });
    const columns = { words: text(), colour: text({ optional: true }), stars: integer({ default: 1 }) };
    const newer = schema(
      { note: table(columns), label: table({ name: text() }), unrelated: old.tables.unrelated },
      { version: 2 },
    );
    const world = await World.of(old as Schema, kind);
    const shell = await world.shell();
    const early = async (name: string, upload: Upload) => {
      const sync = { upload, when: never, live: false } as const;
      // Also where it says which tables it has, and the server does not know one of them.
      const only = { tables: ['note', 'label', 'unrelated'] } as const;
      const options = { schema: newer, file: world.path(name), server: world.server.url, sync };
      return openReplica({ ...options, ...(name === 'two.db' && { only }) });
    };
    const one = await early('one.db', 'every step');
    const two = await early('two.db', 'latest state');
    const behind = (await world.replica()) as unknown as Replica<typeof old>;
    await behind.insertAll('note', [
      { id: 'n1', words: 'one' },
      { id: 'n2', words: 'two' },
    ]);
    await behind.sync();
    // Sent before it has been asked what it knows, by another process that is further, say: it is put off as well.
    await one.insert('note', { id: 'n3', words: 'three', colour: 'red' });
    expect((await one.sync({ direction: 'push' })).up).toMatchObject({ waiting: 1, rejected: 0 });
    for (const replica of [one, two]) {
      await replica.sync();
      await replica.update('note', 'n1', { colour: 'blue' });
      await replica.insert('label', { name: 'urgent' });
      await replica.update('note', 'n2', { words: `two by ${replica === one ? 'one' : 'two'}` });
      // A new row that holds there what every row begins with does not wait.
      await replica.insert('note', { words: 'four' });
      expect((await replica.sync()).up).toMatchObject({ applied: replica === one ? 2 : 1, rejected: 0 });
      for (const { stars } of await replica.rows({ from: 'note' })) expect(stars).toBe(1);
    }
    expect(await one.status()).toMatchObject({ pending: 3, rejected: 0 });
    expect((await one.sync()).up, 'nothing is sent again that would be put off').toMatchObject({ waiting: 0 });
    // What the server holds of the column when it comes to know it, no trigger has seen.
    await world.restart(newer);
    expect((await one.sync()).up).toMatchObject({ applied: 3, rejected: 0 });
    expect(await one.get('note', 'n2')).toMatchObject({ words: 'two by two', colour: null, stars: 1 });
    await two.sync();
    await one.sync();
    expect(await two.status()).toMatchObject({ pending: 0, rejected: 0, conflicted: 0 });
    for (const table of ['note', 'label'] as const)
      expect(await one.rows({ from: table, order: ['id'] })).toEqual(await two.rows({ from: table, order: ['id'] }));
    expect(await shell.all('SELECT words, colour, stars FROM note ORDER BY id')).toEqual(
      (await one.rows({ from: 'note', order: ['id'] })).map(({ id: _, ...row }) => row),
    );
    await Promise.all([one.close(), two.close()]);
    await world.end();
  },
);

test.each(storeKinds)(
  'history 17 on %s: what changes while a live replica is at a process that was not brought up yet reaches it afterwards',
  async (kind) => {
    const old = schema({ note: table({ words: text() }) });
    const newer = schema({ note: table({ words: text(), colour: text({ optional: true }) }) }, { version: 2 });
    const world = await World.inTest(newer as Schema, kind);
    const shell = await world.shell();
    await shell.exec("INSERT INTO note (id, words) VALUES ('n1', 'one')");
    // It pulls only when it has to, and when it is asked to: what it hears, it hears live.
    const sync = { minDelay: 20, maxDelay: 100, interval: 3_600_000 };
    const replica = await openReplica({ schema: newer, server: world.server.url, sync });
    await expect.poll(async () => (await stateOf(replica)).phase).toBe('live');
    await world.restart(old);
    await shell.exec("UPDATE note SET colour = 'red', words = 'one, red'");
    await expect.poll(() => replica.get('note', 'n1')).toMatchObject({ words: 'one, red' });
    expect(await replica.get('note', 'n1')).toMatchObject({ colour: null });
    await world.restart(newer);
    await replica.sync();
    expect(await replica.get('note', 'n1')).toMatchObject({ colour: 'red' });
    await replica.close();
  },
);

test.each(storeKinds)(
  'history 17 on %s: what a newer schema takes besides waits for the server, whose tables take it then',
  async (kind) => {
    const same = { bed: reference('bed', { optional: true }) };
    const bed = table({ name: text({ optional: true }) });
    const old = schema({
      bed,
      note: table({
        ...same,
        words: text({ maximumLength: 5 }),
        kind: oneOf(["it's", 'b\\', 'gone']),
        n: integer({ maximum: 10 }),
      }),
    });
    const newer = schema(
      {
        bed,
        note: table({
          ...same,
          words: text({ maximumLength: 9, optional: true }),
          kind: oneOf(["it's", 'b\\', '"c")', '('], { optional: true }),
          n: integer({ maximum: 20 }),
        }),
      },
      { version: 2 },
    );
    const world = await World.of(old as Schema, kind);
    const behind = (await world.replica({ file: 'behind.db' })) as unknown as unknown as Replica<typeof old>;
    await behind.insert('bed', { id: 'b1' });
    for (const [i, value] of (["it's", 'b\\', 'gone'] as const).entries())
      await behind.insert('note', { id: `n${i}`, bed: 'b1', words: 'one', kind: value, n: i });
    await behind.sync();
    const shell = await world.shell();
    await shell.exec('CREATE INDEX of_the_office ON note (n)');
    const device = (file: string) => openReplica({ schema: newer, file: world.path(file), server: world.server.url });
    const ahead = await device('ahead.db');
    await ahead.sync();
    await ahead.insert('note', { id: 'n3', words: 'longer', kind: '"c")', n: 15 });
    await ahead.update('note', 'n0', { words: null });
    await ahead.update('note', 'n1', { n: 12 });
    await ahead.insert('note', { id: 'n4', words: 'fits', kind: "it's", n: 1 });
    expect((await ahead.sync()).up).toMatchObject({ applied: 1, waiting: 3, rejected: 0 });
    for (const _ of ['brought up', 'and begun anew, when nothing is left to do']) {
      await world.restart(newer as Schema);
      await ahead.insert('note', { words: null, kind: null, n: 1 });
      await ahead.sync();
      expect(await ahead.rejections()).toEqual([]);
      expect(await ahead.status()).toMatchObject({ pending: 0 });
    }
    await behind.sync();
    await behind.close();
    const followed = await device('behind.db');
    const notes = { from: 'note', order: ['id'] } as const;
    expect(await followed.rows(notes)).toEqual(await ahead.rows(notes));
    await followed.close();
    // Rows of before, rules that stay, what others added, references and the feed's triggers are as they were.
    await shell.exec("UPDATE note SET n = 9 WHERE kind = 'gone'");
    await ahead.sync();
    expect(await ahead.get('note', 'n2')).toMatchObject({ kind: 'gone', n: 9 });
    await expect(shell.exec("UPDATE note SET kind = 'z'")).rejects.toThrow(/kind/);
    await expect(shell.exec('UPDATE note SET n = NULL')).rejects.toThrow(/n/);
    await expect(shell.exec('DROP INDEX of_the_office')).resolves.toBeUndefined();
    await expect(shell.exec("DELETE FROM bed WHERE id = 'b1'")).rejects.toThrow(/foreign key/i);
    await ahead.close();
    await world.end();
  },
);

test.each(storeKinds)(
  'on %s an update of app and server between any two steps of a sync: nothing is put off, asked about, or empty',
  async (kind) => {
    const words = text({ default: '' });
    const old = schema({ note: table({ words, weight: integer({ default: 0 }) }, { merge: 'ask' }) });
    const newer = schema(
      {
        note: table({ words, load: integer({ default: 0 }), colour: text({ default: 'none' }) }, { merge: 'ask' }),
      },
      { version: 2 },
    );
    const world = await World.of(old as Schema, kind);
    const { address } = world.database;
    const alter = kind === 'SQLite' ? alterSqlite : alterPostgres;
    const sync = { when: never, live: false } as const;
    const device = async (file: string, schema: Schema, server: Transport) =>
      openReplica({
        schema: schema as typeof newer,
        file: world.path(file),
        server,
        sync,
        ...(schema === newer && { migrations: { 2: (given) => given.renameColumn('note', 'weight', 'load') } }),
      });
    const good = httpTransport(world.server.url);
    const lost: Transport = { ...good, push: () => Promise.reject(new Error('the request was lost')) };
    let before = await device('one.db', old, good);
    await before.insert('note', { id: 'n1' });
    await before.sync();
    await before.close();
    before = await device('one.db', old, lost);
    await before.update('note', 'n1', { weight: 3 } as object);
    await expect(before.sync()).rejects.toThrow('lost');
    await before.update('note', 'n1', { words: 'typed' });
    await before.close();
    const earlier = await device('two.db', old, good);
    await earlier.sync();
    await earlier.close();
    // What is new is fetched from the old server, and all that has changed from the new one.
    const other = await device('two.db', newer, {
      ...good,
      pull: async (request, signal) => {
        const page = await good.pull(request, signal);
        if (other.pulls++ === 0)
          await world.restart(newer, () => alter(newer, address, 'ALTER TABLE note RENAME COLUMN weight TO load'));
        return page;
      },
    }).then((replica) => Object.assign(replica, { pulls: 0 }));
    await other.sync();
    expect(await other.rows({ from: 'note' })).toEqual([{ id: 'n1', words: '', load: 0, colour: 'none' }]);
    // A new column begins alike in the row, under what is unsent, and in it.
    const one = await device('one.db', newer, good);
    await one.update('note', 'n1', { colour: 'red' });
    expect((await one.sync()).up).toMatchObject({ applied: 3 });
    expect(await one.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
    await other.sync();
    for (const replica of [one, other]) {
      expect(await replica.rows({ from: 'note' })).toEqual([{ id: 'n1', words: 'typed', load: 3, colour: 'red' }]);
      await replica.close();
    }
    await world.end();
  },
);

test('a server in process says to a replica that joins what it does not know, as one over a network does', async () => {
  const old = schema({ note: table({ words: text() }) });
  const newer = schema({ note: table({ words: text(), colour: text({ default: 'none' }) }) }, { version: 2 });
  const world = await World.inTest(old as Schema);
  const server = serveInProcess({ store: world.store });
  const replica = await openReplica({
    schema: newer,
    server: server.connect(),
    sync: { minDelay: 20, maxDelay: 100, interval: 3_600_000 },
  });
  await expect.poll(async () => (await stateOf(replica)).phase).toBe('live');
  await (await world.shell()).exec("INSERT INTO note VALUES ('n1', 'one')");
  server.wake();
  await expect.poll(() => replica.get('note', 'n1')).toMatchObject({ colour: 'none' });
  await replica.update('note', 'n1', { colour: 'red' });
  await expect
    .poll(async () => (await replica.rows({ from: 'note', join: { sync: 'status' } }))[0]?.sync)
    .toMatchObject({ status: 'pending', waitsForSchema: 'server' });
  expect(await replica.rejections()).toEqual([]);
  await replica.close();
  await server.close();
});

test.each(storeKinds)(
  'on %s what a restored server has lost is offered again, also by an app that has been updated since',
  async (kind) => {
    const old = schema({ note: table({ words: text(), weight: integer({ default: 0 }) }) });
    const newer = schema({ note: table({ words: text(), load: integer({ default: 0 }) }) }, { version: 2 });
    const world = await World.inTest(old as Schema, kind);
    const alter = kind === 'SQLite' ? alterSqlite : alterPostgres;
    const device = (schema: Schema) =>
      openReplica({
        schema: schema as typeof newer,
        file: world.path('one.db'),
        server: world.server.url,
        sync: { when: never, live: false },
        ...(schema === newer && { migrations: { 2: (given) => given.renameColumn('note', 'weight', 'load') } }),
      });
    let replica = await device(old);
    await replica.insert('note', { id: 'n1', words: 'one' });
    await replica.sync();
    const putBack = await world.backup();
    await replica.update('note', 'n1', { weight: 5 } as object);
    await replica.insert('note', { id: 'n2', words: 'two', weight: 7 } as never);
    await replica.sync();
    await replica.sync();
    await replica.close();
    await putBack();
    await world.restart(newer, () =>
      alter(newer, world.database.address, 'ALTER TABLE note RENAME COLUMN weight TO load'),
    );
    replica = await device(newer);
    await replica.sync();
    expect(await replica.status()).toMatchObject({ pending: 0, rejected: 0, conflicted: 0 });
    expect(await (await world.shell()).all('SELECT id, words, load FROM note ORDER BY id')).toEqual([
      { id: 'n1', words: 'one', load: 5 },
      { id: 'n2', words: 'two', load: 7 },
    ]);
    await replica.close();
  },
);

const stateOf = async <S extends Schema>(replica: Replica<S>) => {
  for await (const { rows } of replica.syncState()) if (rows[0]) return rows[0];
  throw new Error('the replica was closed');
};

test('a server that does not know yet what the library may ask is asked without it', async () => {
  const world = await World.inTest(garden);
  const far = globalThis.fetch;
  const asked: boolean[] = [];
  vi.stubGlobal('fetch', async (url: string, init: { readonly body?: unknown }) => {
    if (!url.endsWith('/v1/pull')) return far(url, init as RequestInit);
    asked.push(/omitKnownBytes|rowBlocks/.test(String(init.body)));
    if (!asked.at(-1)) return far(url, init as RequestInit);
    const problem = {
      code: 'malformed-request',
      detail: 'the request: only cursor, limit, unacknowledged is expected, not "omitKnownBytes".',
    };
    return new Response(JSON.stringify(problem), { status: 400 });
  });
  const replica = await world.replica();
  await replica.insert('bed', { id: 'b', name: 'north' });
  await replica.sync();
  await replica.sync();
  vi.unstubAllGlobals();
  expect(await replica.status()).toMatchObject({ pending: 0, rejected: 0 });
  expect(asked.filter(Boolean), 'it is asked with it once').toEqual([true]);
  expect(asked.length).toBeGreaterThan(2);
});

test.each(storeKinds)(
  'a server of another schema on %s is told as that, gets nothing and gives nothing; the right one gets every edit',
  async (kind) => {
    const right = schema({ hive: table({ mark: text(), mass: integer({ default: 0 }) }) });
    const others = [
      schema({ task: table({ title: text() }) }),
      schema({ hive: table({ mark: integer({ default: 0 }), mass: integer({ default: 0 }) }) }),
    ];
    const world = await World.of(right as Schema, kind);
    const foreign: World<Schema>[] = [];
    for (const other of others) foreign.push(await World.of(other as Schema, kind));
    try {
      for (const direction of ['both', 'push', 'pull'] as const) {
        const file = `${direction}.db`;
        for (const [n, other] of ['task', 'hive'].entries()) {
          const { server } = foreign[n] as World<Schema>;
          const shell = () => (foreign[n] as World<Schema>).shell();
          const replica = await openReplica({ schema: right, file: world.path(file), server: server.url });
          if ((await replica.count({ from: 'hive' })) === 0)
            await replica.insert('hive', { id: direction, mark: 'A1' });
          await expect(replica.sync({ direction })).rejects.toMatchObject({ code: 'schema-foreign' });
          expect(await replica.rejections()).toEqual([]);
          expect(await replica.outbox()).toMatchObject([{ state: 'pending', wasSent: false }]);
          expect(await (await shell()).all(`SELECT id FROM ${other}`)).toEqual([]);
          await replica.close();
        }
        const replica = await openReplica({ schema: right, file: world.path(file), server: world.server.url });
        await replica.sync();
        expect(await replica.outbox()).toEqual([]);
        await replica.close();
      }
      expect((await (await world.shell()).all('SELECT id FROM hive ORDER BY id')).map(({ id }) => id)).toEqual([
        'both',
        'pull',
        'push',
      ]);
    } finally {
      for (const each of foreign) await each.end();
      await world.end();
    }
  },
);

test.each(storeKinds)(
  'on %s an app behind a server that renamed a column: those edits wait, the rest goes on, and they go up after its update',
  async (kind) => {
    const first = schema(
      { hive: table({ label: text({ default: '' }), mass: integer({ default: 0 }) }) },
      { version: 1 },
    );
    const second = schema(
      { hive: table({ mark: text({ default: '' }), mass: integer({ default: 0 }) }) },
      { version: 2 },
    );
    const world = await World.of(first as Schema, kind);
    const file = world.path('app.db');
    const old = await openReplica({ schema: first, file, server: world.server.url });
    await old.insertAll('hive', [{ id: 'h1' }, { id: 'h2' }]);
    await old.sync();
    await (await world.shell()).exec('ALTER TABLE hive RENAME COLUMN label TO mark');
    await world.restart(second as Schema);
    const { url } = world.server;
    await old.close();
    const behind = await openReplica({ schema: first, file, server: url });
    await behind.update('hive', 'h1', { label: 'A1' });
    await behind.update('hive', 'h2', { mass: 7 });
    await behind.insert('hive', { id: 'h3', label: 'C3' });
    for (let time = 0; time < 2; time++) await behind.sync();
    expect(await behind.rejections()).toEqual([]);
    expect(await (await world.shell()).all('SELECT id, mark, mass FROM hive ORDER BY id')).toMatchObject([
      { id: 'h1', mark: '', mass: 0 },
      { id: 'h2', mark: '', mass: 7 },
    ]);
    const [waiting] = await behind.rows({ from: 'hive', where: { id: 'h1' }, join: { sync: 'status' } });
    expect(waiting?.sync).toMatchObject({ status: 'pending', waitsForSchema: 'app' });
    await behind.close();
    const updated = await openReplica({
      schema: second,
      file,
      server: url,
      migrations: { 2: (migration) => migration.renameColumn('hive', 'label', 'mark') },
    });
    await updated.sync();
    expect(await updated.outbox()).toEqual([]);
    expect(await (await world.shell()).all('SELECT id, mark, mass FROM hive ORDER BY id')).toMatchObject([
      { id: 'h1', mark: 'A1', mass: 0 },
      { id: 'h2', mark: '', mass: 7 },
      { id: 'h3', mark: 'C3', mass: 0 },
    ]);
    await updated.close();
    await world.end();
  },
);

test.each(storeKinds)(
  'history 26 on %s: a row that was deleted before a column got its name is edited by a device that has the name',
  async (kind) => {
    const old = schema({ note: table({ words: text({ merge: 'ask' }), weight: integer() }) });
    const newer = schema(
      { note: table({ words: text({ merge: 'ask' }), load: integer(), colour: text({ default: 'none' }) }) },
      { version: 2 },
    );
    const alter = kind === 'SQLite' ? alterSqlite : alterPostgres;
    const world = await World.of(old as Schema, kind);
    const shell = await world.shell();
    await shell.exec("INSERT INTO note (id, words, weight) VALUES ('n', 'one', 7)");
    const file = world.path('edits.db');
    const device = await openReplica({ schema: old, file, server: world.server.url });
    await device.sync();
    await device.update('note', 'n', { words: 'mine' });
    await device.close();
    await shell.exec("DELETE FROM note WHERE id = 'n'");
    await world.restart(newer as Schema, () =>
      alter(newer, world.database.address, 'ALTER TABLE note RENAME COLUMN weight TO load'),
    );
    const migrations = { 2: (given: Migration) => given.renameColumn('note', 'weight', 'load') };
    const updated = await openReplica({ schema: newer, file, server: world.server.url, migrations });
    await updated.sync();
    // The edit survives the deletion, as a new row that is whole.
    for (const { table, id } of await updated.conflicts()) await updated.resolve(table, id, 'local');
    await updated.sync();
    expect(await updated.status()).toMatchObject({ pending: 0, rejected: 0, conflicted: 0 });
    expect(await shell.all('SELECT words, load, colour FROM note')).toEqual([
      { words: 'mine', load: 7, colour: 'none' },
    ]);
    await updated.close();
    await world.end();
  },
);

test.each(storeKinds)(
  '%s: a row that an upgraded device does not ask for leaves it, once nothing of it is unsent',
  async (kind) => {
    const tables = { site: table({ name: text() }), hive: table({ site: reference('site'), note: text() }) };
    const [first, second] = [schema(tables), schema({ ...tables, tool: table({ name: text() }) }, { version: 2 })];
    const world = await World.inTest(second, kind);
    const office = await world.shell();
    await office.exec("INSERT INTO site (id, name) VALUES ('s', 'Marrowfen')");
    const given = { only: { tables: ['site'] }, server: world.server.url, sync: { when: never, live: false } } as const;
    const before = await openReplica({ ...given, schema: first, file: world.path('phone.db') });
    await before.sync();
    for (const id of ['deleted', 'edited']) await before.insert('hive', { id, site: 's', note: 'new' });
    await before.sync({ direction: 'push' });
    await office.exec("UPDATE hive SET note = 'seen by the office'");
    await before.delete('hive', 'deleted');
    await before.update('hive', 'edited', { site: 's' });
    await before.close();
    const only = { tables: ['site', 'tool'] } as const;
    const after = await world.closed(openReplica({ ...given, only, schema: second, file: world.path('phone.db') }));
    // The office's edit of the one survives its deletion, so that nothing of either is left to be sent.
    for (let n = 0; n < 2; n++) await after.sync();
    expect(await after.rows({ from: 'hive' })).toEqual([]);
    expect(await after.status()).toMatchObject({ pending: 0, rejected: 0 });
    expect(await office.all('SELECT id, note FROM hive ORDER BY id')).toEqual([
      { id: 'deleted', note: 'seen by the office' },
      { id: 'edited', note: 'seen by the office' },
    ]);
  },
);
