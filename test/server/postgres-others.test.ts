import { type AddressInfo, connect, createServer } from 'node:net';
import { openReplica } from '@koinon/client';
import { schema, table, text } from '@koinon/core';
import { postgresDdl, postgresStore, resendAllPostgres, startServer, uninstallPostgres } from '@koinon/server';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { newDatabase, type Shell } from '../support/stores.ts';
import { garden, plantedBy, rowsOf, World } from '../support/world.ts';

// PostgreSQL databases as others keep them: their roles, their dumps, their tables and types.

let world: World;
let office: Shell;

beforeEach(async () => {
  world = await World.of(garden, 'PostgreSQL');
  office = await plantedBy(world);
});
afterEach(() => world.end());

test('a role that may do nothing but write the table is followed, and so is what is restamped after no trigger saw it', async () => {
  const replica = await world.replica();
  await replica.sync();
  const role = `clerk_${process.pid}`;
  await office.exec(
    `CREATE ROLE ${role}; GRANT SELECT, UPDATE ON plant TO ${role}; SET ROLE ${role}; UPDATE plant SET label = 'by the clerk'; RESET ROLE`,
  );
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(office));
  await office.exec(
    "ALTER TABLE plant DISABLE TRIGGER ALL; DELETE FROM plant WHERE id = 'A'; UPDATE plant SET height = 77; INSERT INTO plant VALUES ('new', 'b', 'herb', NULL, 1, 0, '[]'); ALTER TABLE plant ENABLE TRIGGER USER",
  );
  expect((await replica.sync()).received).toBe(0);
  await resendAllPostgres(garden, world.database.address);
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(office));
  await office.exec(`DROP OWNED BY ${role}; DROP ROLE ${role}`);
});

test('a server whose role owns nothing, and may do no more than what is documented, serves what the owner has prepared', async () => {
  const address = new URL(world.database.address);
  const role = `server_${process.pid}`;
  await office.exec(
    `CREATE ROLE ${role} LOGIN PASSWORD 'as the server'; GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO ${role};
    GRANT USAGE ON SCHEMA koinon TO ${role}; GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA koinon TO ${role}`,
  );
  address.username = role;
  address.password = 'as the server';
  const server = await startServer({ store: await postgresStore(garden, address.href, { mode: 'serve' }), port: 0 });
  const replica = await openReplica({ schema: garden, file: world.path('served.db'), server: server.url });
  await replica.sync();
  await replica.update('plant', 'A', { label: 'through the role' });
  await replica.delete('plant', 'B');
  await replica.insert('bed', { id: 'd', name: 'east' });
  expect((await replica.sync()).up).toMatchObject({ applied: 3, rejected: 0, waiting: 0 });
  expect(await rowsOf(office)).toEqual(await rowsOf(replica));
  // A privilege that is taken away is the operator's to give back: what needs it waits, the rest goes on.
  await office.exec(`REVOKE UPDATE ON bed FROM ${role}`);
  await replica.update('bed', 'd', { sunny: false });
  await replica.update('plant', 'A', { height: 5 });
  expect((await replica.sync()).up).toEqual({ applied: 1, stale: 0, waiting: 1, rejected: 0 });
  await office.exec(`GRANT UPDATE ON bed TO ${role}`);
  expect((await replica.sync()).up).toMatchObject({ applied: 1, waiting: 0 });
  await replica.close();
  await server.close();
  await office.exec(`DROP OWNED BY ${role}; DROP ROLE ${role}`);
});

test('a database that came from another system: its stamps are renewed, and none of their transaction ids is taken for one of this', async () => {
  const replica = await world.replica();
  await replica.sync();
  await replica.update('plant', 'A', { label: 'confirmed' });
  await replica.sync();
  await world.restart(garden, async () => {
    // As a dump of a system that had come much further leaves it in a new one.
    await office.exec("UPDATE koinon.meta SET value = 'another system' WHERE name = 'feed'");
    await office.exec(
      `UPDATE koinon.stamp SET position = '900000', row_position = '900000', columns = '{"height": [900000, 0, null]}'`,
    );
    await office.exec("UPDATE koinon.horizon SET position = '800000'");
  });
  await office.exec("UPDATE plant SET height = 3 WHERE id = 'B'");
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(office));
  await replica.update('plant', 'A', { height: 9 });
  expect((await replica.sync()).up).toMatchObject({ applied: 1, stale: 0 });
  expect((await replica.sync()).received).toBe(0);
  expect(await rowsOf(replica)).toEqual(await rowsOf(office));
});

test('tables that were there before keep their names, types and rows; a deletion mark stands for deletion; release leaves no trace', async () => {
  const database = await newDatabase('PostgreSQL', world.folder);
  const shell = await database.shell();
  await shell.exec(
    `CREATE SCHEMA stock; CREATE TABLE stock.beds (bed_no uuid PRIMARY KEY, title varchar(40) UNIQUE NOT NULL, sunny smallint NOT NULL DEFAULT 1, note text DEFAULT 'of the office');
    CREATE TABLE stock.plants (no bigint PRIMARY KEY, bed uuid NOT NULL REFERENCES stock.beds, kind text NOT NULL, label text, height numeric(6, 1), watered integer NOT NULL DEFAULT 0, tags text[] NOT NULL DEFAULT '{}', removed_at timestamptz);
    INSERT INTO stock.beds VALUES ('11111111-1111-4111-8111-111111111111', 'north'); INSERT INTO stock.plants VALUES (7, '11111111-1111-4111-8111-111111111111', 'herb', 'Sage', 12, 3, '{a,b}', NULL), (8, '11111111-1111-4111-8111-111111111111', 'herb', 'gone', 1, 0, '{}', now())`,
  );
  const dump = () =>
    shell.all(
      "SELECT (SELECT jsonb_agg(to_jsonb(b)) FROM stock.beds b) AS beds, (SELECT array_agg(tgname::text) FROM pg_trigger WHERE NOT tgisinternal) AS triggers, (SELECT array_agg(nspname::text ORDER BY nspname) FROM pg_namespace WHERE nspname !~ '^pg_') AS schemas, (SELECT count(*) FROM pg_event_trigger) AS events",
    );
  const before = await dump();
  const mapping = {
    bed: { name: 'stock.beds', columns: { id: 'bed_no', name: 'title' } },
    plant: { name: 'stock.plants', columns: { id: 'no', tags: { lossy: true } }, softDelete: 'removed_at' },
  };
  const ddl = await postgresDdl(garden, database.address, mapping);
  expect(await dump()).toEqual(before);
  await expect(postgresStore(garden, database.address, { mapping, mode: 'serve' })).rejects.toMatchObject({
    code: 'not-served',
  });
  for (const sql of ddl) await shell.exec(sql);
  const store = await postgresStore(garden, database.address, { mapping, mode: 'serve' });
  const server = await startServer({ store, port: 0 });
  const replica = await openReplica({ schema: garden, server: server.url });
  await replica.sync();
  expect(await replica.rows({ from: 'plant' })).toEqual([
    {
      id: '7',
      bed: '11111111-1111-4111-8111-111111111111',
      kind: 'herb',
      label: 'Sage',
      height: 12,
      watered: 3,
      tags: ['a', 'b'],
    },
  ]);
  await replica.update('plant', '7', { label: 'SAGE' });
  await replica.include('plant', '7', 'tags', 'c');
  await replica.insert('plant', { id: '8', bed: '11111111-1111-4111-8111-111111111111', kind: 'tree' });
  await replica.insert('plant', { id: '9', bed: '11111111-1111-4111-8111-111111111111', kind: 'tree' });
  await replica.sync();
  await replica.delete('plant', '9');
  // Ids that the table's own type does not take are refused as what they are.
  await replica.insert('plant', { id: 'not a number', bed: '11111111-1111-4111-8111-111111111111', kind: 'tree' });
  await replica.insert('plant', { id: '010', bed: '11111111-1111-4111-8111-111111111111', kind: 'tree' });
  await replica.sync();
  expect(await replica.rejections()).toMatchObject(Array(2).fill({ problems: [{ code: 'value-type' }] }));
  await replica.revert('plant', 'not a number');
  await replica.revert('plant', '010');
  expect(
    await shell.all('SELECT no, label, tags, removed_at IS NOT NULL AS removed FROM stock.plants ORDER BY no'),
  ).toEqual([
    { no: 7, label: 'SAGE', tags: ['a', 'b', 'c'], removed: false },
    { no: 8, label: null, tags: [], removed: false },
    { no: 9, label: null, tags: [], removed: true },
  ]);
  await shell.exec(
    'UPDATE stock.plants SET removed_at = now() WHERE no = 7; UPDATE stock.plants SET removed_at = NULL WHERE no = 9',
  );
  await replica.sync();
  expect((await replica.rows({ from: 'plant', order: 'id' })).map(({ id }) => id)).toEqual(['8', '9']);
  await replica.close();
  await server.close();
  await uninstallPostgres(database.address);
  expect(await dump()).toEqual(before);
  await shell.close();
  await database.drop();
});

test('a part of the rows is the same part in every locale and type that a column may have', async () => {
  const roll = schema({ bed: table({ name: text({ filterable: true }) }) });
  const database = await newDatabase('PostgreSQL', world.folder);
  const shell = await database.shell();
  await shell.exec(
    'CREATE TABLE bed (no integer PRIMARY KEY, name varchar(20) COLLATE "en-x-icu" NOT NULL)', // 'a' before 'B' before 'z'
  );
  const mapping = { bed: { name: 'bed', columns: { id: 'no' } } };
  const store = await postgresStore(roll, database.address, { mapping });
  const server = await startServer({ store, port: 0 });
  const names = ['apple', 'Apple', 'banana', 'Zebra', 'zebra', 'ähre', 'Ähre', '9'];
  const insert = (from: number) =>
    shell.exec(`INSERT INTO bed VALUES ${names.map((name, i) => `(${from + i}, '${name}')`).join(', ')}`);
  for (const where of [{ name: { '<': 'b' } }, { name: { between: ['B', 'z'] } }, { id: { '>=': '5' } }] as const) {
    await shell.exec('DELETE FROM bed');
    await insert(1);
    const all = await openReplica({ schema: roll, server: server.url });
    const part = await openReplica({ schema: roll, server: server.url, only: { where: { bed: where } } });
    // First those that come by their keys, then those that come by the feed.
    for (const from of [11, 101]) {
      await all.sync();
      await part.sync();
      const wanted = await all.rows({ from: 'bed', where, order: 'id' });
      expect(wanted.length).toBeGreaterThan(0);
      expect(await part.rows({ from: 'bed', order: 'id' })).toEqual(wanted);
      await insert(from);
    }
    await part.close();
    await all.close();
  }
  await server.close();
  await shell.close();
  await database.drop();
});

test('connections that PostgreSQL cuts, in the middle of a push as well: the server stays up, and all goes on as before', async () => {
  let isWaiting = false;
  const slow = {
    plant: {
      validate: async () => {
        isWaiting = true;
        await new Promise((done) => setTimeout(done, 300));
        return undefined;
      },
    },
  };
  await world.restart(undefined, undefined, { rules: slow as never });
  const live = await world.closed(
    openReplica({ schema: garden, server: world.server.url, sync: { minDelay: 50, maxDelay: 200 } }),
  );
  for await (const { rows } of live.syncState()) if (rows[0]?.phase === 'live') break;
  const replica = await world.replica();
  await replica.sync();
  await replica.add('plant', 'A', 'watered', 5);
  const cut = () =>
    office.exec(
      "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'koinon' AND datname = current_database()",
    );
  const synced = () =>
    replica.sync().then(
      () => 'done',
      (error: { code: string }) => error.code,
    );
  const pushing = synced();
  while (!isWaiting) await new Promise((done) => setTimeout(done, 1));
  await cut();
  // Whether it was taken up again over another connection, or came to nothing and is sent again: it is done once.
  expect(['done', 'server-failure']).toContain(await pushing);
  await cut();
  await expect.poll(synced).toBe('done');
  expect(await rowsOf(office)).toMatchObject({ 'plant A': { watered: 5 } });
  // What another program writes is on the way again without anybody's asking.
  await office.exec("UPDATE bed SET name = 'by the office' WHERE id = 'b'");
  await expect.poll(async () => (await live.get('bed', 'b'))?.name).toBe('by the office');
  expect(await live.get('plant', 'A')).toMatchObject({ watered: 5 });
});

test('a connection that PostgreSQL ends in the moment in which it is ready ends no server', async () => {
  const fields = Buffer.from('SFATAL\0C57P01\0Mterminating connection due to administrator command\0\0');
  const head = Buffer.from('E\0\0\0\0');
  head.writeInt32BE(fields.length + 4, 1);
  const { hostname, port } = new URL(world.database.address);
  let isStopping = false;
  const between = createServer((client) => {
    const database = connect(Number(port), hostname);
    client.pipe(database);
    database.on('data', (chunk) => {
      const isReady = chunk.subarray(-6).equals(Buffer.from('Z\0\0\0\x05I'));
      if (isStopping && isReady) client.end(Buffer.concat([chunk, head, fields]));
      else client.write(chunk);
    });
    for (const socket of [client, database]) socket.on('error', () => undefined);
    client.on('close', () => database.destroy());
  });
  await new Promise<void>((done) => between.listen(0, '127.0.0.1', done));
  const address = Object.assign(new URL(world.database.address), {
    hostname: '127.0.0.1',
    port: String((between.address() as AddressInfo).port),
  });
  const store = await postgresStore(garden, String(address));
  const read = () => store.read((reader) => reader.position());
  isStopping = true;
  await Promise.allSettled(Array.from({ length: 5 }, read));
  isStopping = false;
  expect(await read()).toBe(await world.store.read((reader) => reader.position()));
  await store.close();
  between.close();
});
