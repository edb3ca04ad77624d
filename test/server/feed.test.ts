import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, openReplica, type Replica } from '@koinon/client';
import { real, reference, schema, table, text } from '@koinon/core';
import { type Mapping, sqliteDdl, sqliteStore, startServer, uninstallSqlite } from '@koinon/server';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import type { Shell } from '../support/stores.ts';
import { type Garden, garden, rowsOf, World } from '../support/world.ts';

// Other programs write the server's tables in plain SQL; replicas must follow, whatever form the SQL takes.

const id = fc.constantFrom('p1', 'p2', 'p3', 'p4');
const bedId = fc.constantFrom('b1', 'b2', 'b3');
const name = fc.constantFrom('north', 'south', 'pond', 'shed');
const plantValues = fc
  .tuple(id, bedId, fc.option(name), fc.nat(30))
  .map(([p, b, label, height]) => `('${p}', '${b}', 'herb', ${label ? `'${label}'` : 'NULL'}, ${height}, 0, '[]')`);
const bedValues = fc.tuple(bedId, name).map(([b, n]) => `('${b}', '${n}', 1)`);
const statement = fc.oneof(
  fc
    .tuple(
      fc.constantFrom('INSERT', 'INSERT OR REPLACE', 'INSERT OR IGNORE', 'REPLACE'),
      fc.array(plantValues, { minLength: 1, maxLength: 3 }),
    )
    .map(([form, rows]) => `${form} INTO plant VALUES ${rows.join(', ')}`),
  fc
    .tuple(
      fc.constantFrom('INSERT', 'INSERT OR REPLACE', 'INSERT OR IGNORE'),
      fc.array(bedValues, { minLength: 1, maxLength: 3 }),
    )
    .map(([form, rows]) => `${form} INTO bed VALUES ${rows.join(', ')}`),
  bedValues.map((row) => `INSERT INTO bed VALUES ${row} ON CONFLICT (name) DO UPDATE SET sunny = 1 - sunny`),
  fc
    .tuple(fc.constantFrom('UPDATE', 'UPDATE OR REPLACE', 'UPDATE OR IGNORE'), bedId, name)
    .map(([form, b, n]) => `${form} bed SET name = '${n}' WHERE id = '${b}'`),
  fc
    .tuple(fc.constantFrom('UPDATE', 'UPDATE OR REPLACE', 'UPDATE OR IGNORE'), id, id)
    .map(([form, from, to]) => `${form} plant SET id = '${to}', height = height + 1 WHERE id = '${from}'`),
  fc
    .tuple(id, fc.nat(9))
    .map(([p, n]) => `UPDATE plant SET watered = watered + ${n}, label = upper(label) WHERE id >= '${p}'`),
  id.map((p) => `DELETE FROM plant WHERE id = '${p}'`),
  bedId.map((b) => `DELETE FROM bed WHERE id = '${b}'`),
  fc.constant('DELETE FROM plant'),
);

const run = async (shell: Shell, sql: string) => {
  try {
    await shell.exec(sql);
  } catch (error) {
    // A constraint said no, as it may; the statement did nothing.
    if (!/constraint/.test((error as Error).message)) throw error;
  }
};

test('history 11: REPLACE, OR IGNORE, key updates, DELETE without WHERE: all are in the feed', async () => {
  const world = await World.inTest(garden);
  const shell = await world.shell();
  let follower: Replica<Garden> = await world.replica();
  await follower.sync();
  await fc.assert(
    fc.asyncProperty(fc.array(statement, { minLength: 1, maxLength: 6 }), async (statements) => {
      for (const sql of statements) await run(shell, sql);
      await follower.sync();
      expect(await rowsOf(follower)).toEqual(await rowsOf(shell));
    }),
    runs(250),
  );
  follower = await world.replica();
  await follower.sync();
  expect(await rowsOf(follower)).toEqual(await rowsOf(shell));
});

test('cascades reach the replicas, and a row replaced by an equal one is not sent again', async () => {
  const world = await World.inTest(garden);
  const shell = await world.shell();
  await shell.exec('CREATE TABLE row_count (n INTEGER); INSERT INTO row_count VALUES (0)');
  await shell.exec(
    'CREATE TRIGGER of_the_office AFTER DELETE ON bed BEGIN DELETE FROM plant WHERE bed = OLD.id; UPDATE row_count SET n = n + 1; END',
  );
  await shell.exec("INSERT INTO bed VALUES ('b1', 'north', 1), ('b2', 'south', 0)");
  await shell.exec(
    "INSERT INTO plant VALUES ('p1', 'b1', 'herb', NULL, 3, 0, '[]'), ('p2', 'b2', 'tree', 'oak', 3, 0, '[]')",
  );
  const replica = await world.replica();
  await replica.sync();
  await shell.exec("DELETE FROM bed WHERE id = 'b1'");
  expect((await replica.sync()).down).toMatchObject({ insert: 0, update: 0, delete: 2 });
  await shell.exec("REPLACE INTO plant VALUES ('p2', 'b2', 'tree', 'oak', 3, 0, '[]')");
  expect((await replica.sync()).received).toBe(0);
  await shell.exec("REPLACE INTO plant VALUES ('p2', 'b2', 'tree', 'oak', 4, 0, '[]')");
  const { lines } = await world.request('/v1/pull', {});
  expect((await replica.sync()).down).toMatchObject({ insert: 0, update: 1, delete: 0 });
  expect(lines).toHaveLength(3);
});

test('a store that would be in memory is refused, since its connections would see nothing of each other', async () => {
  for (const file of [':memory:', ''])
    await expect(sqliteStore(garden, file)).rejects.toMatchObject({ code: 'storage-refused', value: file });
});

test('rows that were in the database before Koinon are stamped, and others’ unique indexes are respected', async () => {
  const world = await World.inTest(garden);
  const shell = await world.shell();
  await shell.exec('DROP TRIGGER koinon_bed_after_insert');
  await shell.exec("INSERT INTO bed VALUES ('b1', 'unseen', 1)");
  await shell.exec('CREATE UNIQUE INDEX one_label ON plant (label)');
  await world.restart();
  const replica = await world.replica();
  await replica.sync();
  expect(await replica.get('bed', 'b1')).toMatchObject({ name: 'unseen' });
  await shell.exec("INSERT INTO plant VALUES ('p1', 'b1', 'herb', 'sage', 3, 0, '[]')");
  await replica.sync();
  await shell.exec("REPLACE INTO plant VALUES ('p2', 'b1', 'herb', 'sage', 3, 0, '[]')");
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
  expect(await replica.get('plant', 'p1')).toBeUndefined();
});

test('SQLite: tables that were there before keep their names, keys and rows; every writer’s changes are in the feed; release leaves no trace', async () => {
  const stock = schema({
    bed: table({ name: text({ unique: true }), owner: text({ optional: true, filterable: true }) }),
    plant: table({ bed: reference('bed'), label: text({ optional: true }), height: real({ optional: true }) }),
  });
  const folder = await mkdtemp(join(tmpdir(), 'koinon-mapped-'));
  const file = join(folder, 'stock.db');
  const office = await openNodeDriver({ file });
  office.exec(`PRAGMA foreign_keys = on;
    CREATE TABLE beds (code TEXT PRIMARY KEY NOT NULL, title TEXT UNIQUE NOT NULL, who TEXT, note TEXT DEFAULT 'of the office');
    CREATE TABLE plants (no INTEGER PRIMARY KEY, bed_code TEXT NOT NULL REFERENCES beds, label TEXT, cm REAL);
    INSERT INTO beds (code, title) VALUES ('n', 'north'); INSERT INTO plants VALUES (7, 'n', 'Sage', 12.5)`);
  const objects = () => office.prepare('SELECT type, name, sql FROM sqlite_schema ORDER BY 1, 2').all();
  const before = objects();
  const mapping: Mapping = {
    bed: { name: 'beds', columns: { id: 'code', name: 'title', owner: 'who' } },
    plant: { name: 'plants', columns: { id: 'no', bed: 'bed_code', height: 'cm' } },
  };
  expect((await sqliteDdl(stock, file, mapping)).join('\n')).toContain('CREATE VIEW "koinon_view_plant"');
  expect(objects()).toEqual(before);
  for (const [wrong, why] of [
    [{ plant: { name: 'plants', columns: { id: 'number' } } }, 'has no column number'],
    [{ bed: { name: 'nothing' } }, 'is not there'],
    [{ bed: { ...mapping.bed, softDelete: 'gone' } }, 'has no column gone'],
  ] as const)
    await expect(sqliteStore(stock, file, { mapping: { ...mapping, ...wrong } })).rejects.toThrow(why);
  const server = await startServer({ store: await sqliteStore(stock, file, { mapping }), port: 0 });
  const replica = await openReplica({ schema: stock, server: server.url });
  await replica.sync();
  expect(await replica.get('plant', '7')).toEqual({ id: '7', bed: 'n', label: 'Sage', height: 12.5 });
  // From the device.
  await replica.update('plant', '7', { height: 13 });
  await replica.insert('bed', { id: 's', name: 'south' });
  await replica.insert('plant', { id: '8', bed: 's', label: 'Dill' });
  await replica.insert('plant', { id: 'eight', bed: 's' });
  await replica.insert('bed', { id: 'x', name: 'west' });
  office.exec("INSERT INTO beds (code, title) VALUES ('w', 'west')");
  expect((await replica.sync()).up).toMatchObject({ applied: 3, rejected: 2 });
  expect((await replica.rejections()).map(({ problems }) => [problems[0]?.code, problems[0]?.column])).toEqual([
    ['value-type', undefined],
    ['duplicate-value', 'name'],
  ]);
  expect(office.prepare('SELECT * FROM plants').all()).toEqual([
    { no: 7, bed_code: 'n', label: 'Sage', cm: 13 },
    { no: 8, bed_code: 's', label: 'Dill', cm: null },
  ]);
  expect(office.prepare("SELECT note FROM beds WHERE code = 's'").get()).toEqual({ note: 'of the office' });
  await replica.revertAll();
  // From other programs, in forms that fire no delete trigger as well.
  office.exec(`UPDATE plants SET no = 17 WHERE no = 7; INSERT OR REPLACE INTO beds (code, title) VALUES ('p', 'south pond');
    UPDATE plants SET cm = 1 WHERE no = 8; DELETE FROM plants WHERE no = 8; INSERT INTO plants VALUES (9, 'p', 'Reed', 2);
    INSERT OR REPLACE INTO plants VALUES (9, 'p', 'Rush', 3); UPDATE beds SET note = 'unseen'; DELETE FROM beds WHERE code = 's'`);
  await replica.sync();
  expect(await replica.rows({ from: 'plant', order: ['id'] })).toEqual([
    { id: '17', bed: 'n', label: 'Sage', height: 13 },
    { id: '9', bed: 'p', label: 'Rush', height: 3 },
  ]);
  expect((await replica.rows({ from: 'bed', order: ['id'] })).map(({ id }) => id)).toEqual(['n', 'p', 'w']);
  expect((await replica.trash()).map(({ id, columns }) => [id, columns.name ?? columns.label])).toEqual(
    expect.arrayContaining([
      ['s', 'south'],
      ['8', 'Dill'],
    ]),
  );
  await replica.close();
  await server.close();
  // Nothing more is made at the next start, and nothing is left after release.
  expect((await sqliteDdl(stock, file, mapping)).filter((sql) => /CREATE (VIEW|TRIGGER|INDEX)/.test(sql))).toEqual([]);
  await uninstallSqlite(file);
  expect(objects()).toEqual(before);
  office.close();
  await rm(folder, { recursive: true, force: true });
});

test('SQLite: a column that marks deletions stands for deletion, both ways, whichever statement sets it', async () => {
  const stock = schema({
    bed: table({ name: text({ unique: true }), owner: text({ optional: true, filterable: true }) }),
    plant: table({ label: text() }),
  });
  const folder = await mkdtemp(join(tmpdir(), 'koinon-marked-'));
  const file = join(folder, 'stock.db');
  const office = await openNodeDriver({ file });
  office.exec(`CREATE TABLE beds (id TEXT PRIMARY KEY NOT NULL, name TEXT UNIQUE, owner TEXT, removed_at TEXT);
    CREATE TABLE plants (no INTEGER PRIMARY KEY, label TEXT, gone INTEGER NOT NULL DEFAULT 0);
    INSERT INTO beds VALUES ('a', 'north', 'ida', NULL), ('b', 'south', 'ida', '2025-01-01');
    INSERT INTO plants VALUES (1, 'Sage', 0), (2, 'Dill', 1), (8, 'Mint', 1)`);
  const mapping: Mapping = {
    bed: { name: 'beds', softDelete: 'removed_at' },
    plant: { name: 'plants', columns: { id: 'no' }, softDelete: 'gone' },
  };
  const server = await startServer({
    store: await sqliteStore(stock, file, { mapping }),
    port: 0,
    scopes: { bed: { read: () => ({ owner: 'ida' }) }, plant: 'all' },
  });
  const replica = await openReplica({ schema: stock, server: server.url });
  const fresh = await openReplica({ schema: stock, server: server.url });
  const held = async (of = replica) => {
    const { down, received } = await of.sync();
    const beds = (await of.rows({ from: 'bed', order: 'id' })).map(({ id, name }) => `${id} ${name}`);
    const plants = (await of.rows({ from: 'plant', order: 'id' })).map(({ id, label }) => `${id} ${label}`);
    return [[...beds, ...plants].join(), received, down.delete, down.leave];
  };
  expect(await held()).toEqual(['a north,1 Sage', 2, 0, 0]);
  // Each statement of another program; what the device holds after it, how many rows came, were deleted, have left.
  for (const [sql, ...expected] of [
    ["UPDATE plants SET gone = 1, label = 'more' WHERE no = 1", 'a north', 1, 1, 0],
    ["UPDATE plants SET gone = 2, label = 'last'", 'a north', 0, 0, 0],
    ['UPDATE plants SET gone = 0 WHERE no = 1', 'a north,1 last', 1, 0, 0],
    ["INSERT INTO plants VALUES (3, 'never there', 1)", 'a north,1 last', 0, 0, 0],
    ["REPLACE INTO plants VALUES (1, 'Sage', 1)", 'a north', 1, 1, 0],
    ["REPLACE INTO plants VALUES (1, 'Sage', 0)", 'a north,1 Sage', 1, 0, 0],
    ['UPDATE plants SET no = 4 WHERE no = 3', 'a north,1 Sage', 0, 0, 0],
    ['UPDATE plants SET no = 5, gone = 1 WHERE no = 1', 'a north', 1, 1, 0],
    ['UPDATE plants SET no = 6, gone = 0 WHERE no = 5', 'a north,6 Sage', 1, 0, 0],
    ['UPDATE plants SET gone = 1 WHERE no = 6', 'a north', 1, 1, 0],
    ['DELETE FROM plants WHERE no IN (2, 6)', 'a north', 0, 0, 0],
    ["INSERT INTO beds VALUES ('c', 'west', 'ida', NULL)", 'a north,c west', 1, 0, 0],
    ["UPDATE beds SET removed_at = 'now' WHERE id = 'c'", 'a north', 1, 1, 0],
    ["REPLACE INTO beds VALUES ('d', 'west', 'ida', 'now')", 'a north', 0, 0, 0],
    ["DELETE FROM beds WHERE id = 'd'", 'a north', 0, 0, 0],
    // Whom a mark displaces by a value that no two rows share.
    ["UPDATE OR REPLACE beds SET name = 'north' WHERE id = 'b'", '', 1, 1, 0],
    ["UPDATE beds SET removed_at = NULL WHERE id = 'b'", 'b north', 1, 0, 0],
    ["UPDATE beds SET owner = 'ben', removed_at = 'now' WHERE id = 'b'", '', 1, 1, 0],
    ["UPDATE beds SET owner = 'ida', removed_at = NULL", 'b north', 1, 0, 0],
    ["UPDATE beds SET owner = 'ben'", '', 1, 0, 1],
    ["UPDATE beds SET removed_at = 'now', owner = 'ida'", '', 0, 0, 0],
    ['UPDATE beds SET removed_at = NULL', 'b north', 1, 0, 0],
  ] as const) {
    office.exec(sql);
    expect(await held(), sql).toEqual(expected);
  }
  // From the device: a deletion sets the mark, a new row of a marked one's id takes it off.
  await replica.delete('bed', 'b');
  await replica.insert('plant', { id: '4', label: 'Reed' });
  await replica.insert('plant', { id: '7', label: 'Rush' });
  await replica.insert('plant', { id: '8', label: 'Mint tea' });
  expect((await replica.sync()).up).toMatchObject({ applied: 4 });
  expect(() => office.exec("INSERT INTO koinon_view_plant VALUES ('8', 'taken')")).toThrow(/UNIQUE.*plants\.no/);
  await replica.delete('plant', '8');
  await replica.delete('plant', '7');
  await replica.sync();
  expect(office.prepare('SELECT * FROM plants ORDER BY no').all()).toEqual([
    { no: 4, label: 'Reed', gone: 0 },
    { no: 7, label: 'Rush', gone: 1 },
    { no: 8, label: 'Mint tea', gone: 1 },
  ]);
  expect(office.prepare('SELECT id, removed_at LIKE ? AS is_now FROM beds').all('20__-%Z')).toEqual([
    { id: 'b', is_now: 1 },
  ]);
  const [trashed] = await replica.trash({ table: 'plant', id: '7' });
  expect(trashed?.columns).toEqual({ label: 'Rush' });
  await fetch(`${server.url}/v1/restore`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ table: 'plant', id: '7' }),
  });
  expect(await held()).toEqual(['4 Reed,7 Rush', 1, 0, 0]);
  expect(await held(fresh)).toEqual(['4 Reed,7 Rush', 2, 0, 0]);
  for (const each of [replica, fresh]) await each.close();
  await server.close();
  await uninstallSqlite(file);
  expect(office.prepare("SELECT count(*) AS n FROM sqlite_schema WHERE name LIKE 'koinon%'").get()).toEqual({ n: 0 });
  office.close();
  await rm(folder, { recursive: true, force: true });
});

test('SQLite: while another program is in the middle of writing, others read and are answered, and a push goes through when it has ended', async () => {
  const world = await World.inTest(garden);
  const shell = await world.shell();
  const replica = await world.replica();
  await replica.insert('bed', { id: 'mine', name: 'mine' });
  await shell.exec("BEGIN IMMEDIATE; INSERT INTO bed VALUES ('theirs', 'theirs', true)");
  const pushing = replica.sync({ direction: 'push' });
  const reader = await world.replica();
  expect((await reader.sync()).received).toBe(0);
  await shell.exec('COMMIT');
  expect((await pushing).up).toMatchObject({ applied: 1 });
  await reader.sync();
  expect((await reader.rows({ from: 'bed', order: 'id' })).map(({ id }) => id)).toEqual(['mine', 'theirs']);
});
