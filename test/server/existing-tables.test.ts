import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Writable } from 'node:stream';
import { openReplica } from '@koinon/client';
import { integer, real, reference, schema, setOfText, table, text, timestamp } from '@koinon/core';
import { type Mapping, postgresStore, sqliteStore, startServer, writeRows } from '@koinon/server';
import { pino } from 'pino';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { newDatabase, storeKinds } from '../support/stores.ts';
import { garden, plantedBy, rowsOf, World } from '../support/world.ts';

// Writes of devices into tables that others made, with columns, triggers and locks of their own.

const trade = schema({
  buyer: table({ name: text() }),
  order: table({
    buyer: reference('buyer'),
    code: text({ optional: true }),
    price: real({ optional: true }),
    total: real({ optional: true }),
    number: integer({ optional: true }),
    placed: timestamp({ optional: true }),
    marks: setOfText(),
  }),
});

/** Tables as they are made elsewhere: computed columns, numbers from a sequence, times by default, lengths. */
const theirTables = {
  SQLite: `CREATE TABLE buyer (id TEXT PRIMARY KEY NOT NULL, name VARCHAR(8) NOT NULL CHECK (length(name) <= 8));
    CREATE TABLE "order" (id TEXT PRIMARY KEY NOT NULL, buyer TEXT NOT NULL REFERENCES buyer, code CHAR(4) CHECK (length(code) <= 4), price DECIMAL(8, 2),
      total GENERATED ALWAYS AS (price * 2) STORED, number INTEGER NOT NULL DEFAULT (abs(random()) % 1000 + 1), placed DATETIME NOT NULL DEFAULT CURRENT_TIMESTAMP, marks TEXT NOT NULL)`,
  PostgreSQL: `CREATE DOMAIN short AS varchar(8);
    CREATE TABLE buyer (id varchar(36) PRIMARY KEY, name short NOT NULL);
    CREATE TABLE "order" (id varchar(36) PRIMARY KEY, buyer varchar(36) NOT NULL REFERENCES buyer, code char(4), price numeric(8, 2),
      total numeric GENERATED ALWAYS AS (price * 2) STORED, number integer GENERATED ALWAYS AS IDENTITY, placed timestamptz NOT NULL DEFAULT now(), marks varchar(4)[] NOT NULL)`,
};

test.each(storeKinds.flatMap((kind) => [false, true].map((isMapped) => [kind, isMapped] as const)))(
  'on %s, mapped: %s, what the database computes or gives by default comes back, and nothing is cut to a length',
  async (kind, isMapped) => {
    const known = { total: { lossy: true }, placed: { lossy: true }, marks: { lossy: true } };
    const order = {
      ...(isMapped && { name: 'their_order' }),
      columns: { ...known, ...(isMapped && { number: 'no' }) },
    };
    const mapping: Mapping = isMapped || kind === 'PostgreSQL' ? { order } : {};
    const folder = await mkdtemp(join(tmpdir(), 'koinon-test-'));
    const database = await newDatabase(kind, folder);
    const shell = await database.shell();
    await shell.exec(theirTables[kind]);
    if (isMapped)
      await shell.exec('ALTER TABLE "order" RENAME TO their_order; ALTER TABLE their_order RENAME number TO no');
    const open = { SQLite: sqliteStore, PostgreSQL: postgresStore }[kind];
    const server = await startServer({ store: await open(trade, database.address, { mapping }), port: 0 });
    const [one, other] = await Promise.all([0, 1].map(() => openReplica({ schema: trade, server: server.url })));
    if (one === undefined || other === undefined) throw new Error('opened');
    const both = async () => {
      const { up } = await one.sync();
      await other.sync();
      return up;
    };
    await one.insert('buyer', { id: 'b', name: 'Ada' });
    const { id } = await one.insert('order', { buyer: 'b', price: 1.5, total: 99 });
    expect(await both()).toMatchObject({ applied: 2, rejected: 0, waiting: 0 });
    const made = await other.get('order', id);
    expect(made).toMatchObject({ price: 1.5, total: 3, marks: [] });
    expect(made?.number).toBeGreaterThan(0);
    expect(Math.abs(Date.parse(made?.placed ?? '') - Date.now())).toBeLessThan(60_000);
    // A default is for new rows; what is computed follows what it is computed from, whatever a device says.
    await one.update('order', id, { price: 4, total: 5, code: 'ok' });
    await one.update('order', id, { total: 6 });
    expect(await both()).toMatchObject({ applied: 2, rejected: 0, waiting: 0 });
    expect(await one.get('order', id)).toMatchObject({ price: 4, total: 8, code: 'ok', placed: made?.placed });
    expect(await other.get('order', id)).toEqual(await one.get('order', id));
    await one.update('order', id, { placed: null });
    await one.update('buyer', 'b', { name: 'A name that is too long' });
    expect(await both()).toMatchObject({ applied: 0, rejected: 2 });
    await one.revert('order', id);
    await one.update('order', id, { code: 'too long' });
    if (kind === 'PostgreSQL') await one.include('order', id, 'marks', 'too long');
    expect(await both()).toMatchObject({ applied: 0 });
    const problems = (await one.rejections()).flatMap((each) => each.problems.map(({ code }) => code));
    const refused = kind === 'PostgreSQL' ? 'value-range' : 'constraint';
    expect(problems.slice(0, 2)).toEqual([refused, refused]);
    await one.revert('order', id);
    await one.revert('buyer', 'b');
    await both();
    expect(await one.rows({ from: 'buyer' })).toEqual([{ id: 'b', name: 'Ada' }]);
    expect(await other.get('order', id)).toEqual(await one.get('order', id));
    await one.close();
    await other.close();
    await server.close();
    await shell.close();
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  },
);

describe.each(storeKinds)('on %s', (kind) => {
  let world: World;
  const said: string[] = [];
  beforeEach(async () => {
    said.length = 0;
    const log = new Writable({ write: (line, _encoding, done) => done(void said.push(String(line))) });
    world = await World.of(garden, kind, { logger: pino(log) });
  });
  afterEach(() => world.end());

  test('what the database fails on waits by itself, however much lies behind it, and goes up when that is mended', async () => {
    const office = await plantedBy(world);
    await office.exec(broken[kind]);
    const replica = await world.replica({ upload: 'every step', requestBytes: 4_000 });
    await replica.sync();
    await replica.update('plant', 'A', { height: 13 });
    for (let n = 0; n < 120; n++) {
      await replica.insert('plant', { id: `p${n}`, bed: 'b', kind: 'herb' });
      await replica.update('plant', `p${n}`, { height: n === 60 ? 13 : 100 + n });
    }
    await replica.update('plant', 'A', { label: 'behind it' });
    expect((await replica.sync()).up).toMatchObject({ applied: 239, stale: 0, rejected: 0 });
    const held = (await replica.outbox()).flatMap(({ changes }) => changes.map(({ id }) => id));
    expect(held).toEqual(['A', 'p60', 'A']);
    expect(said.join('')).toContain('could not be written');
    await office.exec(mended[kind]);
    expect((await replica.sync()).up).toEqual({ applied: 3, stale: 0, waiting: 0, rejected: 0 });
    expect(await rowsOf(office)).toEqual(await rowsOf(replica));
    expect(await rowsOf(office)).toMatchObject({ 'plant A': { height: 13, label: 'behind it' } });
  });
});

/** A trigger that fails on a height of 13, not as a rule that refuses, but for a mistake of its own. */
const broken = {
  SQLite: `CREATE TRIGGER clerk BEFORE UPDATE OF height ON plant WHEN NEW.height = 13 BEGIN SELECT json('{'); END`,
  PostgreSQL: `CREATE FUNCTION clerk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.height = 13 THEN PERFORM nowhere FROM no_table; END IF; RETURN NEW; END $$;
    CREATE TRIGGER clerk BEFORE INSERT OR UPDATE ON plant FOR EACH ROW EXECUTE FUNCTION clerk()`,
};
const mended = { SQLite: 'DROP TRIGGER clerk', PostgreSQL: 'DROP TRIGGER clerk ON plant' };

test('PostgreSQL: rows that somebody has locked for long wait, many of them, and all others go up within one request', async () => {
  const world = await World.inTest(garden, 'PostgreSQL');
  const office = await plantedBy(world);
  await office.exec("INSERT INTO plant SELECT 'p' || n, 'b', 'herb', NULL, n, 0, '[]' FROM generate_series(1, 60) n");
  const replica = await world.replica();
  await replica.sync();
  const open = await world.shell();
  await open.exec("BEGIN; UPDATE plant SET watered = 1 WHERE height % 2 = 0 AND id LIKE 'p%'");
  for (let n = 1; n <= 60; n++) await replica.update('plant', `p${n}`, { label: `by hand ${n}` });
  // A device gives up on an answer after half a minute; a wait for each of them would be twice that.
  expect((await replica.sync()).up).toEqual({ applied: 30, stale: 0, waiting: 30, rejected: 0 });
  await open.exec('COMMIT');
  expect((await replica.sync()).up).toEqual({ applied: 30, stale: 0, waiting: 0, rejected: 0 });
  expect(await rowsOf(office)).toEqual(await rowsOf(replica));
});

test('PostgreSQL: whatever a trigger, a policy or a limit refuses is a refusal, under the code it comes with', async () => {
  const world = await World.inTest(garden, 'PostgreSQL');
  const office = await plantedBy(world);
  await office.exec(
    `CREATE INDEX ON plant (label);
    CREATE FUNCTION clerk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
      IF NEW.height = 1 THEN RAISE EXCEPTION 'not this one' USING ERRCODE = 'ZX001'; END IF;
      IF NEW.height = 2 THEN RAISE EXCEPTION 'nor this'; END IF;
      IF NEW.height = 3 THEN NEW.height = 3 / 0; END IF;
      IF NEW.height = 4 THEN ASSERT false, 'not true'; END IF;
      IF NEW.height = 6 THEN RAISE unique_violation; END IF;
      RETURN NEW; END $$;
    CREATE TRIGGER clerk BEFORE UPDATE ON plant FOR EACH ROW EXECUTE FUNCTION clerk();`,
  );
  const replica = await world.replica();
  await replica.sync();
  for (const height of [1, 2, 3, 4, 5, 6]) await replica.insert('plant', { id: `p${height}`, bed: 'b', kind: 'herb' });
  await replica.sync();
  for (const height of [1, 2, 3, 4, 6]) await replica.update('plant', `p${height}`, { height });
  // More than an index takes, of a kind that does not get shorter.
  await replica.update('plant', 'p5', { label: Array.from({ length: 9_000 }, () => Math.random()).join('') });
  await replica.update('bed', 'c', { sunny: false });
  expect((await replica.sync()).up).toEqual({ applied: 1, stale: 0, waiting: 0, rejected: 6 });
  const problems = (await replica.rejections()).flatMap((each) => each.problems);
  expect(problems.map(({ code }) => code)).toEqual([
    'constraint',
    'constraint',
    'value-type',
    'constraint',
    'duplicate-value',
    'value-range',
  ]);
  expect(problems[0]?.message).toContain('not this one');
});

test.each(storeKinds)(
  '%s: a table that only the office writes: a device is refused at once, an older app by the server',
  async (kind) => {
    const price = { name: text(), cents: integer() };
    const prices = schema({ price: table(price, { readOnly: true, label: 'price', namedBy: 'name' }) });
    const world = await World.inTest(prices, kind);
    const shell = await world.shell();
    await shell.exec("INSERT INTO price VALUES ('p', 'candle', 5)");
    const device = await world.replica();
    await device.sync();
    const draft = device.draft();
    // The compiler refuses it as well.
    const office = 'price' as never;
    for (const write of [
      device.insert(office, { name: 'honey', cents: 7 } as never),
      device.update(office, 'p', { cents: 6 }),
      device.delete(office, 'p'),
      device.deleteWhere(office, 'every row'),
      draft.update(office, 'p', { cents: 6 }),
    ])
      await expect(write).rejects.toMatchObject({ code: 'table-read-only', table: 'price' });
    expect((await device.status()).pending).toBe(0);
    const old = await openReplica({ schema: schema({ price: table(price) }), server: world.server.url });
    await old.sync();
    await old.update('price', 'p', { cents: 1 });
    await old.delete('price', 'p');
    expect((await old.sync()).up).toMatchObject({ applied: 0 });
    expect((await old.rejections()).flatMap(({ problems }) => problems)).toMatchObject([{ code: 'table-read-only' }]);
    // The office has deleted a row: no device brings it back, by itself or by asking the server.
    await shell.exec("INSERT INTO price VALUES ('gone', 'wick', 1)");
    await shell.exec("DELETE FROM price WHERE id = 'gone'");
    await expect(device.restore('price', 'gone')).rejects.toMatchObject({ code: 'table-read-only' });
    const asked = await fetch(`${world.server.url}/v1/restore`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ table: 'price', id: 'gone' }),
    });
    expect([asked.status, await asked.json()]).toMatchObject([403, { code: 'table-read-only' }]);
    await shell.exec('UPDATE price SET cents = 6');
    await writeRows(world.store, [{ kind: 'insert', table: 'price', id: 'q', columns: { name: 'honey', cents: 7 } }]);
    await device.sync();
    expect(await device.rows({ from: 'price', order: 'id' })).toMatchObject([{ cents: 6 }, { name: 'honey' }]);
    await old.close();
  },
);
