import { spawnSync } from 'node:child_process';
import { mkdtemp, rm, symlink } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica, type Replica } from '@koinon/client';
import { type AnyRow, integer, type Schema, schema, table, text } from '@koinon/core';
import {
  type AdoptedTable,
  adoptPostgres,
  adoptSqlite,
  type Mapping,
  postgresDdl,
  postgresStore,
  serveInProcess,
  sqliteDdl,
  sqliteStore,
  startServer,
} from '@koinon/server';
import { afterAll, describe, expect, onTestFinished, test, vi } from 'vitest';
import { officeDatabase } from '../support/office-database.ts';
import { newDatabase, type StoreKind, storeKinds } from '../support/stores.ts';

// A database that an office has had for years is adopted by the command, served, and written by devices and by the office at once.

const root = join(import.meta.dirname, '../..');
const folder = await mkdtemp(join(tmpdir(), 'koinon-adopt-'));
await symlink(join(root, 'node_modules'), join(folder, 'node_modules'));
afterAll(() => rm(folder, { recursive: true, force: true }));

function koinon(...words: string[]) {
  const { status, stdout, stderr } = spawnSync(
    process.execPath,
    ['--import', 'tsx', '--conditions=koinon-source', join(root, 'packages/cli/src/koinon.ts'), ...words],
    { cwd: root, encoding: 'utf8', env: { ...process.env, NO_COLOR: '1' } },
  );
  return { status, output: stdout + stderr };
}

async function office(kind: StoreKind) {
  const database = await newDatabase(kind, await mkdtemp(join(folder, 'office-')));
  const shell = await database.shell();
  await shell.exec(officeDatabase(kind));
  onTestFinished(async () => {
    await shell.close();
    await database.drop();
  });
  return { database, shell, address: database.address };
}

/** Verdicts of the columns of a table that are not exact. */
const told = (tables: readonly AdoptedTable[], name: string) =>
  Object.fromEntries(
    (tables.find(({ relation }) => relation.endsWith(name))?.columns ?? []).flatMap(({ column, verdict }) =>
      verdict === 'exact' ? [] : [[column, verdict]],
    ),
  );

describe.each(storeKinds)('%s', (kind) => {
  const adopt = kind === 'SQLite' ? adoptSqlite : adoptPostgres;
  const hives = kind === 'SQLite' ? 'hive' : 'stock.hive';

  test('every table and column is taken or named with the reason, and the database is as it was', async () => {
    const { address, shell } = await office(kind);
    const before = await shell.all(`SELECT * FROM ${hives}`);
    const { tables } = await adopt(address);
    const refused = Object.fromEntries(
      tables.filter(({ name }) => name === null).map(({ relation, why }) => [relation, why]),
    );
    expect(refused).toEqual({
      log: expect.stringMatching('no key'),
      only_key: expect.stringMatching('no column'),
      rate: expect.stringMatching('neither a text'),
      todays: expect.stringMatching('no column'),
      weather: expect.stringMatching('its key is site, hour, and hour is a'),
    });
    expect(told(tables, 'hive')).toEqual({ label: 'read only', half: kind === 'SQLite' ? 'read only' : 'loses' });
    expect((await adopt(address)).module).toMatch(
      kind === 'SQLite' ? 'mark: text()' : 'mark: text({ maximumLength: 9 })',
    );
    expect(told(tables, 'site')).toEqual({ deleted_at: 'marks deletion' });
    expect(told(tables, 'visit')).toEqual(kind === 'SQLite' ? {} : { temperature: 'loses', duration: 'read only' });
    expect(told(tables, 'harvest')).toEqual(kind === 'SQLite' ? { price: 'not taken' } : { kilos: 'loses' });
    expect(tables.find(({ relation }) => relation === 'wide')?.columns).toHaveLength(299);
    await expect(adopt(address, { tables: ['nowhere'] })).rejects.toMatchObject({ code: 'unknown-table' });
    expect(await shell.all(`SELECT * FROM ${hives}`)).toEqual(before);
    // The way out gives a key to what is there and to new rows of the office, also while it is served.
    for (const relation of ['log', 'weather', 'rate'])
      await shell.exec(tables.find((table) => table.relation === relation)?.wayOut as string);
    expect((await adopt(address)).tables.filter(({ name }) => name !== null)).toHaveLength(25);
    const lines = schema({ log: table({ line: text({ optional: true }) }), weather: table({ site: integer() }) });
    const names = { columns: { id: 'row_id' } };
    const open = kind === 'SQLite' ? sqliteStore : postgresStore;
    const mapping = { log: { name: 'log', ...names }, weather: { name: 'weather', ...names } };
    const store = await open(lines, address, { mapping });
    await shell.exec(
      "INSERT INTO log (line) VALUES ('served'); INSERT INTO weather (site, hour, degrees) VALUES (1, '2026-05-01 09:00:00', 7.5)",
    );
    const device = await openReplica({ schema: lines, server: serveInProcess({ store }).connect() });
    await device.sync();
    expect((await device.rows({ from: 'log' })).map(({ line }) => line)).toEqual(['served']);
    expect((await device.rows({ from: 'weather' })).map(({ site }) => site)).toEqual([1]);
    await device.close();
    await store.close();
  });

  test('when the mapping names another table, devices get its rows and send what was unsent; the one before is left alone', async () => {
    const { address, shell } = await office(kind);
    const open = kind === 'SQLite' ? sqliteStore : postgresStore;
    const members = schema({ member: table({ name: text() }) });
    await shell.exec(`CREATE TABLE person ("key" TEXT PRIMARY KEY NOT NULL, full_name TEXT NOT NULL);
      INSERT INTO person SELECT id, name FROM member WHERE id = 'm1'; INSERT INTO person VALUES ('m3', 'Runa')`);
    const serve = async (mapping: Mapping, port: number) =>
      startServer({ store: await open(members, address, { mapping }), port });
    const first = await serve({ member: { name: 'member' } }, 0);
    const device = await openReplica({ schema: members, server: first.url });
    await device.sync();
    await device.update('member', 'm1', { name: 'Ida, unsent' });
    await first.close();
    const second = await serve(
      { member: { name: 'person', columns: { id: 'key', name: 'full_name' } } },
      Number(new URL(first.url).port),
    );
    onTestFinished(async () => {
      await device.close();
      await second.close();
    });
    await device.sync();
    await shell.exec(
      "INSERT INTO person VALUES ('m4', 'Odd'); UPDATE site SET keeper = NULL; UPDATE member SET name = 'nobody' WHERE id = 'm2'; DELETE FROM member WHERE id = 'm1'",
    );
    await device.sync();
    const rows = await device.rows({ from: 'member', order: 'id' });
    expect(rows.map(({ id, name }) => [id, name])).toEqual([
      ['m1', 'Ida, unsent'],
      ['m3', 'Runa'],
      ['m4', 'Odd'],
    ]);
    expect(await shell.all('SELECT full_name FROM person ORDER BY 1')).toEqual(
      ['Ida, unsent', 'Odd', 'Runa'].map((full_name) => ({ full_name })),
    );
  });

  test('adopted by the command, it is served: devices and the office write it at once, and nothing else changes', async () => {
    const { address, shell } = await office(kind);
    const file = join(folder, `${kind}.ts`);
    const written = koinon('adopt', address, file);
    expect(written).toMatchObject({ status: 0, output: expect.stringMatching('22 of 27 tables are taken') });
    expect(koinon('adopt', address, file)).toMatchObject({
      status: 1,
      output: expect.stringMatching('is there already'),
    });
    expect(koinon('adopt', address, file, '--check')).toMatchObject({
      status: 0,
      output: expect.stringMatching('fits'),
    });
    const { default: adopted, mapping } = (await import(file)) as { default: Schema; mapping: Mapping };
    const exact = 'SELECT CAST(ticket AS TEXT) AS ticket, CAST(written AS TEXT) AS written FROM visit';
    const untouched = await shell.all('SELECT kilos, price FROM harvest');
    const store = await (kind === 'SQLite' ? sqliteStore : postgresStore)(adopted, address, { mapping });
    // Nothing more is lacking then.
    const ddl = kind === 'SQLite' ? sqliteDdl : postgresDdl;
    expect(await ddl(adopted, address, mapping)).toEqual([]);
    const server = await startServer({ store, port: 0 });
    const [one, other] = await Promise.all([1, 2].map(() => openReplica({ schema: adopted, server: server.url })));
    if (one === undefined || other === undefined) throw new Error('opened');
    onTestFinished(async () => {
      for (const each of [one, other, server]) await each.close();
    });
    await one.sync();
    const rows = async (replica: Replica<Schema>, from: string) => {
      const query = { from, order: 'id' } as never;
      return (await replica.rows(query)) as unknown as readonly AnyRow[];
    };
    const [first, second] = await rows(one, 'hive');
    expect(first).toMatchObject({
      site_no: '1',
      mark: 'A1',
      queen: 'white',
      mites: 7,
      weight: '1234.56',
      frames: 3,
      notes: { brood: [1, 2] },
      label: 'A11',
    });
    expect(first).toMatchObject({ seen: '2026-05-01T09:30:00.123Z', photo: new Uint8Array([1, 2, 255]) });
    expect((await rows(one, 'site')).map(({ name }) => name)).toEqual(['Tolver Down', 'Marrowfen']);
    expect(await rows(one, 'visit')).toMatchObject([{ ticket: 9007199254740993n, temperature: 21.5 }]);
    // A device edits what it can, adds a row where it gives the key, and deletes; the office writes the same rows meanwhile.
    await one.update(
      'hive',
      first?.id as string,
      { mark: 'B1', weight: '0.1', queen: 'red', photo: new Uint8Array([9]) } as never,
    );
    await one.insert('hive', { id: '00000000-0000-4000-8000-000000000003', site_no: '2', mark: 'C3' } as never);
    await one.update('visit', '00000000-0000-4000-8000-000000000011', {
      temperature: 3.25,
      ticket: 9007199254740995n,
    } as never);
    await one.delete('site', '3').catch(() => undefined);
    // Keys of several columns, one of them a number that the database gives; views.
    const delivery = await one.insert('delivery', {
      member: 'm1',
      day: '2026-05-02',
      at: '09:15:00',
      paid: '1.5',
    } as never);
    await one.insert('delivery_line', { delivery: delivery.id, line: 1, tool: 't1', pieces: 2 } as never);
    await one.update('delivery_line', '1/2', { pieces: 3 } as never);
    await one.update('price', '2026-01-01/t1', { price: '13' } as never);
    await one.update('group', 't %2F x/3', { where: 'here' } as never);
    await one.delete('event', (await rows(one, 'event'))[0]?.id as string);
    expect(await one.get('Größen', '1/2 %')).toMatchObject({ beschreibung: 'klein' });
    expect(await rows(one, 'keeping')).toMatchObject([{ id: 'm1', sites: kind === 'SQLite' ? 1 : 1n }, { id: 'm2' }]);
    await expect(one.update('keeping', 'm1', { sites: 3 } as never)).rejects.toMatchObject({ code: 'table-read-only' });
    expect(await rows(one, 'tool')).toMatchObject([{ name: 'smoker', lent: false }]);
    await expect(one.update('hive', second?.id as string, { label: 'x' } as never)).rejects.toMatchObject({
      code: 'value-assigned',
    });
    await expect(one.update('hive', second?.id as string, { mites: 41 } as never)).rejects.toMatchObject({
      code: 'value-range',
    });
    await shell.exec(
      `UPDATE ${hives} SET mites = 9 WHERE mark = 'A1'; UPDATE member SET name = 'Ida Moss' WHERE id = 'm1'`,
    );
    expect((await one.sync()).up).toMatchObject({ applied: 9, rejected: 0 });
    expect(await shell.all('SELECT * FROM delivery_line ORDER BY delivery, line')).toEqual([
      { delivery: 1, line: 1, tool: 't1', pieces: 4 },
      { delivery: 1, line: 2, tool: null, pieces: 3 },
      { delivery: 2, line: 1, tool: 't1', pieces: 2 },
    ]);
    await other.sync();
    expect((await rows(other, 'hive')).map(({ mark, weight, mites, label }) => [mark, weight, mites, label])).toEqual([
      ['B1', '0.10', 9, 'B11'],
      ['A2', '0.07', null, 'A22'],
      ['C3', null, null, 'C32'],
    ]);
    expect((await rows(other, 'member')).map(({ name }) => name)).toEqual(['Ida Moss', 'O\'Rourke "Ru"']);
    await vi.waitFor(
      async () => {
        for (const device of [one, other]) await device.sync();
        expect(await rows(one, 'strong')).toMatchObject([{ name: 'Ida Moss' }, { id: 'm2' }]);
        for (const table of Object.keys(adopted.tables))
          expect(await rows(other, table), table).toEqual(await rows(one, table));
      },
      { timeout: 60_000, interval: 200 },
    );
    expect(await shell.all(exact)).toEqual([{ ticket: '9007199254740995', written: '1987-06-05 04:03:02' }]);
    expect(await shell.all('SELECT kilos, price FROM harvest')).toEqual(untouched);

    // A table of 300 columns, whose SQL has parts for each of them.
    await shell.exec(
      "INSERT INTO wide (id, c0, c298) VALUES ('w1', 'a', 'b'), ('w2', 'a', 'b'); UPDATE wide SET c298 = 'office'",
    );
    await one.sync();
    await one.update('wide', 'w1', { c0: 'device', c150: 'too' } as never);
    await one.insert('wide', { id: 'w3', c297: 'new' } as never);
    await shell.exec("DELETE FROM wide WHERE id = 'w2'");
    expect((await one.sync()).up).toMatchObject({ applied: 2, rejected: 0 });
    await other.sync();
    expect(await rows(other, 'wide')).toMatchObject([
      { id: 'w1', c0: 'device', c150: 'too', c298: 'office' },
      { id: 'w3', c297: 'new' },
    ]);
    expect(await rows(other, 'wide')).toEqual(await rows(one, 'wide'));

    await shell.exec(`ALTER TABLE tool RENAME COLUMN name TO title`);
    await shell.exec(
      `ALTER TABLE member ADD COLUMN pin TEXT NOT NULL ${kind === 'SQLite' ? "DEFAULT ''" : "DEFAULT ''; ALTER TABLE member ALTER COLUMN pin DROP DEFAULT"}`,
    );
    const differs = koinon('adopt', address, file, '--check', '--json');
    expect(differs.status).toBe(1);
    expect(JSON.parse(differs.output)).toMatchObject([
      ...(kind === 'SQLite' ? [] : [{ table: 'member', message: expect.stringMatching('pin must have a value') }]),
      { table: 'tool', column: 'name', message: expect.stringMatching('no column name') },
      { table: 'tool', message: expect.stringMatching('title must have a value') },
    ]);
  });
});
