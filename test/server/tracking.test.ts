import { existsSync } from 'node:fs';
import { openNodeDriver, openReplica } from '@koinon/client';
import { boolean, bytes, integer, json, real, reference, schema, setOfText, table, text } from '@koinon/core';
import { alterPostgres, alterSqlite, postgresStore, sqliteDdl, sqliteStore } from '@koinon/server';
import { pino } from 'pino';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// The changes of others to the tables under a server: triggers that are switched off or dropped, tables and columns that go, constraints
// that are checked at the end; and stores that are opened without changing anything.

const register = schema({
  hive: table({ mark: text(), strength: integer({ default: 0 }), place: text({ optional: true }) }),
  visit: table({ hive: reference('hive'), notes: text() }),
});

describe.each(storeKinds)('on %s', (kind) => {
  let world: World<typeof register>;
  let said: string[];
  beforeEach(async () => {
    said = [];
    const logger = pino({ level: 'warn' }, { write: (line: string) => said.push(JSON.parse(line).msg) });
    world = await World.of(register, kind, { logger });
  });
  afterEach(() => world.end());
  const marksOf = async (replica: Awaited<ReturnType<typeof world.replica>>) => {
    await replica.sync();
    return (await replica.rows({ from: 'hive', order: 'id' })).map(({ id, mark }) => `${id} ${mark}`);
  };

  test('history 28: a bulk load with the triggers off is noticed, also by a server that was down meanwhile, and its rows arrive', async () => {
    const shell = await world.shell();
    const replica = await world.replica();
    await shell.exec("INSERT INTO hive VALUES ('a', 'first', 1, NULL), ('b', 'second', 1, NULL)");
    expect(await marksOf(replica)).toEqual(['a first', 'b second']);
    const load = async (mark: string) => {
      const triggers =
        kind === 'SQLite'
          ? await shell.all<{ name: string; sql: string }>(
              "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = 'hive'",
            )
          : [];
      const off =
        kind === 'SQLite'
          ? triggers.map(({ name }) => `DROP TRIGGER "${name}";`).join('')
          : 'ALTER TABLE hive DISABLE TRIGGER ALL;';
      const on = kind === 'SQLite' ? '' : 'ALTER TABLE hive ENABLE TRIGGER ALL;';
      await shell.exec(off);
      await shell.exec(`UPDATE hive SET mark = '${mark}' WHERE id = 'a'; DELETE FROM hive WHERE id = 'b';
        INSERT INTO hive VALUES ('${mark}', '${mark}', 1, NULL); INSERT INTO hive VALUES ('b', '${mark}', 1, NULL)`);
      await shell.exec(`${on} DELETE FROM hive WHERE id = 'b' AND mark = 'x'`);
    };
    await load('one');
    await world.store.lookAfterTables();
    expect(await marksOf(replica)).toEqual(['a one', 'b one', 'one one']);
    await world.restart(undefined, () => load('two'));
    expect(await marksOf(replica)).toEqual(['a two', 'b two', 'one one', 'two two']);
    await expect.poll(() => said.filter((line) => line.includes('triggers that follow hive were')).length).toBe(1);
    await world.restart();
    expect((await replica.sync()).received, 'it is mended once').toBe(0);
    // A push of its own has the server look at once.
    if (kind === 'PostgreSQL') {
      await shell.exec('ALTER TABLE hive DISABLE TRIGGER koinon_insert');
      await new Promise((done) => setTimeout(done, 5_100));
      await replica.insert('hive', { id: 'pushed', mark: 'by a device' });
      await replica.sync();
      const other = await world.replica();
      await expect.poll(() => marksOf(other)).toContain('pushed by a device');
    }
  });

  test('a table or a column that goes is told, and nobody’s rows are deleted for it', async () => {
    const shell = await world.shell();
    const replica = await world.replica();
    await shell.exec("INSERT INTO hive VALUES ('a', 'first', 1, NULL)");
    expect(await marksOf(replica)).toEqual(['a first']);
    const tables = async () => (await world.store.lookAfterTables()).map(({ message }) => message);
    expect(await tables()).toEqual([]);
    await shell.exec('DROP TABLE visit');
    expect(await tables()).toEqual([expect.stringMatching(/^The table visit is gone/)]);
    if (kind === 'SQLite') {
      await shell.exec('CREATE TABLE visit (id TEXT, hive TEXT, notes TEXT)');
      expect(await tables()).toEqual([expect.stringMatching(/^The table visit has no key/)]);
      await shell.exec('DROP TABLE visit');
    }
    await shell.exec('DROP TABLE hive');
    expect(await tables()).toHaveLength(2);
    await expect(world.database.open(register)).rejects.toMatchObject({
      code: 'schema-invalid',
      message: expect.stringMatching(/served before and is gone/),
    });
    expect(await replica.count({ from: 'hive' })).toBe(1);
  });

  test('a constraint that is checked when the transaction ends refuses it, and only it', async () => {
    await world.end();
    world = await World.of(register, kind, {}, async (shell) => {
      const type = kind === 'SQLite' ? 'TEXT' : 'text COLLATE "C"';
      await shell.exec(`CREATE TABLE yard (name ${type} PRIMARY KEY);
        CREATE TABLE hive (id ${type} PRIMARY KEY, mark text NOT NULL, strength integer NOT NULL,
          place ${type} REFERENCES yard (name) DEFERRABLE INITIALLY DEFERRED);
        INSERT INTO yard VALUES ('north')`);
    });
    const replica = await world.replica();
    await replica.insert('hive', { id: 'good', mark: 'a', place: 'north' });
    await replica.insert('hive', { id: 'bad', mark: 'b', place: 'nowhere' });
    await replica.insert('hive', { id: 'free', mark: 'c' });
    expect((await replica.sync()).up).toMatchObject({ applied: 2, rejected: 1 });
    expect(await replica.rejections()).toMatchObject([{ problems: [{ code: 'no-such-reference', table: 'hive' }] }]);
    expect((await replica.sync()).up, 'it is refused for good').toMatchObject({ applied: 0 });
  });

  test('plain SQL gets the schema’s defaults, and is held to its ranges, which a newer schema may widen', async () => {
    const shaped = (most: number, letters: number) =>
      schema({
        frame: table({
          mites: integer({ default: 3, minimum: 0, maximum: most }),
          mark: text({ default: 'it’s', minimumLength: 1, maximumLength: letters }),
          sunny: boolean({ default: true }),
          share: real({ default: -0.5, minimum: -1, optional: true }),
          tags: setOfText(),
          box: json<string[]>({ default: ['a'] }),
          seal: bytes({ optional: true, maximumLength: 2 }),
        }),
      });
    const other = await World.of(shaped(40, 5), kind);
    const shell = await other.shell();
    await shell.exec("INSERT INTO frame (id) VALUES ('plain')");
    const replica = await other.replica();
    await replica.sync();
    expect(await replica.get('frame', 'plain')).toEqual({
      id: 'plain',
      mites: 3,
      mark: 'it’s',
      sunny: true,
      share: -0.5,
      tags: [],
      box: ['a'],
      seal: null,
    });
    const refused = (columns: string, values: string) =>
      expect(shell.exec(`INSERT INTO frame (id, ${columns}) VALUES ('x', ${values})`), values).rejects.toThrow();
    const [three, two] = kind === 'SQLite' ? ["x'010203'", "x'0102'"] : ["'\\x010203'", "'\\x0102'"];
    for (const [column, value] of [
      ['mites', '41'],
      ['mites', '-1'],
      ['mark', "''"],
      ['mark', "'äöüßéè'"],
      ['share', '-1.5'],
      ['seal', three],
    ] as const)
      await refused(column, value);
    await shell.exec(`INSERT INTO frame (id, mark, seal, mites) VALUES ('fits', 'äöüßé', ${two}, 40)`);
    await other.restart(shaped(60, 8));
    await (await other.shell()).exec("INSERT INTO frame (id, mites, mark) VALUES ('wider', 60, 'eightett')");
    await refused('mites', '61');
    await other.restart(shaped(10, 4));
    await (await other.shell()).exec("UPDATE frame SET mites = 59 WHERE id = 'wider'");
    await other.end();
  });

  test('the office drops and renames columns under a running server, and nothing is missed', async () => {
    const shell = await world.shell();
    const replica = await world.replica();
    await shell.exec(`ALTER TABLE hive ADD COLUMN paint text`);
    await shell.exec("INSERT INTO hive (id, mark, paint) VALUES ('a', 'first', 'blue')");
    await world.store.lookAfterTables();
    expect(await marksOf(replica)).toEqual(['a first']);
    const alter = (sql: string) =>
      kind === 'SQLite'
        ? alterSqlite(register, world.database.address, sql)
        : alterPostgres(register, world.database.address, sql);
    if (kind === 'SQLite') await expect(shell.exec('ALTER TABLE hive DROP COLUMN paint')).rejects.toThrow('trigger');
    await alter('ALTER TABLE hive DROP COLUMN paint; ALTER TABLE hive ADD COLUMN colour text');
    await shell.exec(
      "UPDATE hive SET mark = 'second', colour = 'red' WHERE id = 'a'; INSERT INTO hive (id, mark) VALUES ('b', 'new')",
    );
    expect(await marksOf(replica)).toEqual(['a second', 'b new']);
    expect(
      (await world.store.lookAfterTables()).filter(({ isRepaired }) => isRepaired),
      'all was followed',
    ).toEqual([]);
    await expect(alter('ALTER TABLE hive DROP COLUMN nothing')).rejects.toThrow();
    await shell.exec("UPDATE hive SET mark = 'third' WHERE id = 'a'");
    expect(await marksOf(replica), 'what fails changes nothing').toEqual(['a third', 'b new']);
  });

  test('a store that is opened to be read, or without making anything, changes nothing', async () => {
    const { address } = world.database;
    const open = (mode: 'serve' | 'read') =>
      kind === 'SQLite' ? sqliteStore(register, address, { mode }) : postgresStore(register, address, { mode });
    await (await world.shell()).exec("INSERT INTO hive VALUES ('a', 'first', 1, NULL)");
    const reading = await open('read');
    expect((await reading.read((reader) => reader.changesSince('0', { rows: 10, bytes: 1e6 }))).changes).toHaveLength(
      1,
    );
    await expect(reading.write(async () => undefined)).rejects.toMatchObject({ code: 'storage-refused' });
    await reading.close();
    const wider = schema({ ...register.tables, tool: table({ name: text() }) });
    const openWider = (mode: 'serve' | 'read') =>
      kind === 'SQLite' ? sqliteStore(wider, address, { mode }) : postgresStore(wider, address, { mode });
    for (const mode of ['serve', 'read'] as const)
      await expect(openWider(mode)).rejects.toMatchObject({ code: 'not-served' });
    const tables = kind === 'SQLite' ? 'sqlite_schema' : 'pg_tables';
    const named = kind === 'SQLite' ? 'name' : 'tablename';
    expect(await (await world.shell()).all(`SELECT 1 FROM ${tables} WHERE ${named} = 'tool'`)).toEqual([]);
    await (await open('serve')).close();
  });
});

test('a device’s file is no server’s database; a file that Koinon never served says so, and stays as it is', async () => {
  const world = await World.inTest(register);
  const replica = await openReplica({ schema: register, file: world.path('phone.db') });
  await replica.close();
  for (const mode of ['prepare', 'serve', 'read'] as const)
    await expect(sqliteStore(register, world.path('phone.db'), { mode })).rejects.toMatchObject({
      code: 'storage-foreign',
    });
  await expect(sqliteDdl(register, world.path('phone.db'))).rejects.toMatchObject({ code: 'storage-foreign' });
  const plain = world.path('plain.db');
  const driver = await openNodeDriver({ file: plain });
  const made = () => driver.prepare('SELECT sql FROM sqlite_schema').all();
  driver.exec('CREATE TABLE hive (id TEXT PRIMARY KEY, mark TEXT NOT NULL, strength INTEGER NOT NULL, place TEXT)');
  const before = made();
  await expect(sqliteStore(register, plain, { mode: 'read' })).rejects.toMatchObject({
    code: 'not-served',
    message: expect.stringContaining('not served by Koinon yet'),
  });
  expect((await sqliteDdl(register, plain)).length).toBeGreaterThan(5);
  expect((await sqliteDdl(register, world.path('none.db'))).some((sql) => sql.includes('"visit"'))).toBe(true);
  await expect(sqliteStore(register, world.path('none.db'), { mode: 'read' })).rejects.toMatchObject({
    code: 'storage-refused',
  });
  expect(made()).toEqual(before);
  expect(existsSync(world.path('none.db'))).toBe(false);
  driver.close();
});

test('a mapping names a table that has to be there', async () => {
  const world = await World.inTest(register, 'PostgreSQL');
  await expect(
    postgresStore(register, world.database.address, { mapping: { hive: { name: 'hivves' } } }),
  ).rejects.toMatchObject({ code: 'schema-invalid', message: expect.stringContaining('is not there') });
});
