import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica } from '@koinon/client';
import {
  boolean,
  bytes,
  counter,
  date,
  integer,
  json,
  oneOf,
  real,
  schema,
  setOfText,
  table,
  text,
  timestamp,
} from '@koinon/core';
import { type InvalidStoredValue, postgresStore, sqliteStore, startServer } from '@koinon/server';
import { expect, test } from 'vitest';
import { newDatabase, storeKinds } from '../support/stores.ts';

// Tables of other programs hold what the schema's types do not. One such value must not stop anybody.

const stock = schema({
  tool: table({
    name: text(),
    worn: integer({ default: 0, minimum: 0 }),
    weight: real({ optional: true }),
    lent: boolean({ default: false }),
    seen: timestamp({ optional: true }),
    bought: date({ optional: true }),
    label: json({ optional: true }),
    state: oneOf(['new', 'old'], { optional: true }),
    used: counter(),
    tags: setOfText(),
    photo: bytes({ optional: true }),
  }),
});

const theirTable = {
  SQLite:
    'CREATE TABLE tool (id TEXT PRIMARY KEY NOT NULL, name, worn, weight, lent, seen, bought, label, state, used, tags, photo)',
  PostgreSQL: `CREATE TABLE tool (id text PRIMARY KEY, name text, worn numeric, weight numeric, lent boolean, seen timestamptz, bought date,
    label text, state text, used bigint, tags jsonb, photo bytea)`,
};

/** The values that another program puts into a column, and what is read of it. */
const written: { readonly [K in keyof typeof theirTable]: readonly (readonly [string, string, unknown])[] } = {
  SQLite: [
    ['worn', "'many'", null],
    ['worn', '9007199254740993', null],
    ['worn', '1.5', null],
    ['worn', '2.0', 2],
    ['name', "x'00ff'", null],
    ['name', '9007199254740993', '9007199254740993'],
    ['weight', "'heavy'", null],
    ['weight', '9e999', null],
    ['weight', '9007199254740993', 9007199254740992],
    ['lent', "'yes'", null],
    ['lent', '7', true],
    ['seen', "'yesterday'", null],
    ['seen', "'2026-01-01 10:00:00'", '2026-01-01T10:00:00.000Z'],
    ['bought', "'2026-13-45'", null],
    ['label', "'{broken'", null],
    ['label', '5', 5],
    ['state', '3', '3'],
    ['used', "'often'", 0],
    ['used', 'NULL', 0],
    ['tags', "'none'", []],
    ['tags', "'[1,2]'", []],
    ['tags', 'NULL', []],
    ['photo', "'a picture'", null],
  ],
  PostgreSQL: [
    ['worn', '9007199254740993', null],
    ['worn', '1.5', null],
    ['worn', "'NaN'", null],
    ['worn', '2.0', 2],
    ['weight', '1e400', null],
    ['weight', "'Infinity'", null],
    ['weight', '12.5', 12.5],
    ['seen', "'infinity'", null],
    ['seen', "'0044-03-15 BC'", null],
    ['seen', "'290000-01-01'", null],
    ['bought', "'-infinity'", null],
    ['bought', "'0044-03-15 BC'", null],
    ['bought', "'0001-03-15 BC'", '0000-03-15'],
    ['label', "'{broken'", null],
    ['label', '\'{"a": 1}\'', { a: 1 }],
    ['label', `repeat('[', 5000) || repeat(']', 5000)`, null],
    ['used', '9007199254740993', 0],
    ['tags', `'{"a": 1}'`, []],
    ['tags', "'[1]'", []],
  ],
};

test.each(storeKinds)(
  '%s: a value of another program that is not of its column’s type is read as none and told of once; everybody goes on',
  async (kind) => {
    const folder = await mkdtemp(join(tmpdir(), 'koinon-invalid-'));
    const database = await newDatabase(kind, folder);
    const office = await database.shell();
    await office.exec(theirTable[kind]);
    const cases = written[kind];
    for (const n of [...cases.keys(), 'other', 'gone'])
      await office.exec(`INSERT INTO tool (id, name, worn, used, tags) VALUES ('t${n}', 'rake', 1, 3, '["old"]')`);
    const told: InvalidStoredValue[] = [];
    const invalidValue = (found: InvalidStoredValue) => told.push(found);
    const mapping = { tool: { columns: { weight: { lossy: true }, seen: { lossy: true } } } };
    const store =
      kind === 'SQLite'
        ? await sqliteStore(stock, database.address, { invalidValue })
        : await postgresStore(stock, database.address, { invalidValue, mapping });
    const server = await startServer({ store, port: 0 });
    const replica = await openReplica({ schema: stock, server: server.url });
    await replica.sync();
    const sound = await replica.rows({ from: 'tool', order: 'id' });
    expect(told).toEqual([]);

    for (const [n, [column, value]] of cases.entries())
      await office.exec(`UPDATE tool SET ${column} = ${value} WHERE id = 't${n}'`);
    await office.exec("UPDATE tool SET name = 'hoe' WHERE id = 'tother'");
    await replica.sync();
    const fresh = await openReplica({ schema: stock, server: server.url });
    await fresh.sync();
    // As the feed brings them, and as a first download does.
    for (const device of [replica, fresh]) {
      for (const [n, [column, value, read]] of cases.entries()) {
        const before = sound.find(({ id }) => id === `t${n}`);
        expect(await device.get('tool', `t${n}`), `${column} = ${value}`).toEqual({ ...before, [column]: read });
      }
      expect(await device.get('tool', 'tother')).toMatchObject({ name: 'hoe' });
    }
    const invalidValues = cases.flatMap(([column, value, read], n) =>
      value === 'NULL' || (read !== null && read !== 0 && !Array.isArray(read))
        ? []
        : [{ table: 'tool', id: `t${n}`, column }],
    );
    const inOrder = (all: InvalidStoredValue[]) => all.sort((a, b) => (a.id < b.id ? -1 : 1));
    expect(inOrder(told)).toEqual(inOrder(invalidValues));

    // An edit of another column leaves it as it is; an edit of the column itself, and a deletion, are as ever.
    const held = () =>
      office.all(`SELECT CAST(worn AS text) AS worn, name FROM tool WHERE id IN ('t0', 't1') ORDER BY id`);
    const [, second] = await held();
    await replica.update('tool', 't0', { worn: 4 });
    await replica.update('tool', 't1', { name: 'spade' });
    await replica.delete('tool', 't2');
    await replica.add('tool', 'tother', 'used', 1);
    expect((await replica.sync()).up).toMatchObject({ applied: 4, stale: 0, rejected: 0 });
    expect(await held()).toEqual([
      { worn: '4', name: 'rake' },
      { ...second, name: 'spade' },
    ]);
    await office.exec("DELETE FROM tool WHERE id NOT IN ('t0', 'tother')");
    await fresh.sync();
    expect((await fresh.rows({ from: 'tool', order: 'id' })).map(({ id }) => id)).toEqual(['t0', 'tother']);
    expect((await fresh.trash()).map(({ id }) => id)).toContain(`t${cases.length - 1}`);
    for (const device of [replica, fresh]) await device.close();
    await server.close();
    await office.close();
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  },
);

test('what can never be read as the schema says, and words that no mapping has, are refused at the start', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-invalid-'));
  const database = await newDatabase('PostgreSQL', folder);
  const office = await database.shell();
  await office.exec(theirTable.PostgreSQL.replace('seen timestamptz', 'seen text'));
  await expect(postgresStore(stock, database.address)).rejects.toMatchObject({ code: 'schema-invalid', table: 'tool' });
  expect(await office.all("SELECT 1 FROM pg_namespace WHERE nspname = 'koinon'")).toEqual([]);
  for (const open of [postgresStore, sqliteStore]) {
    const address = open === postgresStore ? database.address : join(folder, 'stock.db');
    const mapping = { tool: { name: 'tool', soft_delete: 'removed_at' } };
    await expect(open(stock, address, { mapping })).rejects.toThrow('soft_delete');
  }
  await office.close();
  await database.drop();
  await rm(folder, { recursive: true, force: true });
});

const unfit: readonly (readonly [string, string, RegExp])[] = [
  ['without a key', 'CREATE TABLE tool (id text, name text)', /no key or unique index on id alone/],
  ['with a key of two columns', 'CREATE TABLE tool (id text, name text, PRIMARY KEY (id, name))', /on id alone/],
  [
    'whose key holds for some rows',
    "CREATE TABLE tool (id text NOT NULL, name text); CREATE UNIQUE INDEX named ON tool (id) WHERE name <> ''",
    /on id alone/,
  ],
  [
    'with rows that have no id',
    "CREATE TABLE tool (id text UNIQUE, name text); INSERT INTO tool VALUES (NULL, 'x')",
    /rows without id/,
  ],
  [
    'that are views',
    "CREATE TABLE tools (id text PRIMARY KEY, name text); CREATE VIEW tool AS SELECT * FROM tools WHERE name <> ''",
    /no table but a view/,
  ],
  [
    'with values twice that the schema has once',
    "CREATE TABLE tool (id text PRIMARY KEY, name text); INSERT INTO tool VALUES ('1', 'x'), ('2', 'x')",
    /tool.name|\(name\)=\(x\)/,
  ],
];

test.each(storeKinds.flatMap((kind) => unfit.map(([what, sql, why]) => [kind, what, sql, why] as const)))(
  '%s: tables %s are refused at the start, and left as they are',
  async (kind, _what, sql, why) => {
    const folder = await mkdtemp(join(tmpdir(), 'koinon-invalid-'));
    const database = await newDatabase(kind, folder);
    const office = await database.shell();
    await office.exec(sql);
    const named = schema({ tool: table({ name: text({ unique: true }) }) });
    await expect(database.open(named)).rejects.toThrow(why);
    const koinon = {
      SQLite: "SELECT 1 FROM sqlite_schema WHERE name LIKE 'koinon%'",
      PostgreSQL: "SELECT 1 FROM pg_namespace WHERE nspname = 'koinon'",
    };
    expect(await office.all(koinon[kind])).toEqual([]);
    await office.close();
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  },
);

test('PostgreSQL: a table whose name is written in another case is not passed over for a new one', async () => {
  const database = await newDatabase('PostgreSQL', tmpdir());
  const office = await database.shell();
  await office.exec('CREATE TABLE "Tool" (id text PRIMARY KEY, name text)');
  const named = schema({ tool: table({ name: text() }) });
  await expect(database.open(named)).rejects.toThrow('"Tool"');
  const store = await postgresStore(named, database.address, { mapping: { tool: { name: 'Tool' } } });
  await store.close();
  await office.close();
  await database.drop();
});
