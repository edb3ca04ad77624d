import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, openReplica, type Replica } from '@koinon/client';
import { real, reference, schema, table, text } from '@koinon/core';
import { type Mapping, releaseSqlite, sqliteDdl, sqliteStore, startServer } from '@koinon/server';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from './support/runs.ts';
import type { Shell } from './support/stores.ts';
import { type Garden, garden, rowsOf, World } from './support/world.ts';

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
  const world = await World.of(garden);
  try {
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
  } finally {
    await world.end();
  }
});

test('cascades reach the replicas, and a row replaced by an equal one is not sent again', async () => {
  const world = await World.of(garden);
  try {
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
  } finally {
    await world.end();
  }
});

test('rows that were in the database before Koinon are stamped, and others’ unique indexes are respected', async () => {
  const world = await World.of(garden);
  try {
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
  } finally {
    await world.end();
  }
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
    [{ bed: { ...mapping.bed, softDelete: 'note' } }, 'marks deletions'],
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
  await releaseSqlite(file);
  expect(objects()).toEqual(before);
  office.close();
  await rm(folder, { recursive: true, force: true });
});
