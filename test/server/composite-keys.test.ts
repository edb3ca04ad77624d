import { openReplica, type Replica } from '@koinon/client';
import { date, integer, reference, schema, table, text } from '@koinon/core';
import { postgresStore, sqliteStore, uninstallPostgres, uninstallSqlite } from '@koinon/server';
import { describe, expect, test } from 'vitest';
import { officeInTest } from '../support/office.ts';
import { storeKinds } from '../support/stores.ts';

// Tables whose key is several columns: a row's id is made of their values.

const register = schema({
  site: table({ name: text() }, { assignedKey: true }),
  tool: table({ name: text() }),
  // A table that joins two others, and one whose key has all other types in it.
  loan: table(
    { site: reference('site'), tool: reference('tool'), days: integer({ optional: true }) },
    { key: ['site', 'tool'] },
  ),
  reading: table(
    { sensor: text(), day: date(), turn: integer(), value: integer(), remark: text({ optional: true }) },
    { key: ['sensor', 'day', 'turn'] },
  ),
});

const theirs = {
  SQLite: `CREATE TABLE sites (no INTEGER PRIMARY KEY, name TEXT NOT NULL); CREATE TABLE tools (code TEXT PRIMARY KEY NOT NULL, name TEXT NOT NULL);
    CREATE TABLE loans (site_no INTEGER NOT NULL REFERENCES sites, tool_code TEXT NOT NULL REFERENCES tools, days INTEGER, gone INTEGER, PRIMARY KEY (tool_code, site_no))`,
  PostgreSQL: `CREATE TABLE sites (no integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text NOT NULL); CREATE TABLE tools (code varchar(20) PRIMARY KEY, name text NOT NULL);
    CREATE TABLE loans (site_no integer REFERENCES sites, tool_code varchar(20) REFERENCES tools, days integer, gone boolean, PRIMARY KEY (tool_code, site_no))`,
};
const rows =
  "; INSERT INTO sites (name) VALUES ('Tolver Down'); INSERT INTO tools VALUES ('smoker', 'Smoker'), ('50% / wide', 'Feeder'); INSERT INTO loans VALUES (1, 'smoker', 3, NULL)";

const tables = {
  schema: register,
  mapping: {
    site: { name: 'sites', columns: { id: 'no' } },
    tool: { name: 'tools', columns: { id: 'code' } },
    loan: { name: 'loans', columns: { site: 'site_no', tool: 'tool_code' }, softDelete: 'gone' },
  },
  sql: { SQLite: theirs.SQLite + rows, PostgreSQL: theirs.PostgreSQL + rows },
};

const all = async (device: Replica<typeof register>) => ({
  loans: await device.rows({ from: 'loan', order: 'id' }),
  readings: await device.rows({ from: 'reading', order: 'id' }),
});

describe.each(storeKinds)('%s', (kind) => {
  test('rows are written by devices and by SQL, and a part that the office changes is a row that goes and one that comes (K7)', async () => {
    const office = await officeInTest(kind, tables);
    const [one, other] = [await office.device('one.db'), await office.device()];
    for (const device of [one, other]) await device.sync();
    expect(await one.get('loan', '1/smoker')).toMatchObject({ site: '1', tool: 'smoker', days: 3 });
    const odd = await one.insert('loan', { site: '1', tool: '50% / wide' });
    expect(odd.id).toBe('1/50%25 %2F wide');
    await one.insert('reading', { sensor: 'a', day: '2026-05-01', turn: -2, value: 7 });
    await one.upsert('reading', { sensor: 'a', day: '2026-05-01', turn: -2, value: 8 });
    await one.sync();
    // The same key on two devices is one row; what both of them wrote is merged as in any other.
    await one.insert('reading', { sensor: 'b', day: '0999-12-31', turn: 1, value: 1, remark: 'wet' });
    await other.insert('reading', { sensor: 'b', day: '0999-12-31', turn: 1, value: 1 });
    for (const device of [one, other, one]) await device.sync();
    expect(await other.rows({ from: 'reading', where: { sensor: 'b' } })).toMatchObject([{ id: 'b/0999-12-31/1' }]);
    await office.shell.exec("UPDATE loans SET days = 5 WHERE tool_code = 'smoker'");
    await office.shell.exec("INSERT INTO reading (sensor, day, turn, value) VALUES ('it''s / c', '2026-05-02', 3, 4)");
    await office.shell.exec("UPDATE reading SET turn = 9 WHERE sensor = 'a'");
    await other.update('loan', odd.id, { days: 1 });
    for (const device of [other, one, other]) await device.sync();
    expect((await one.rows({ from: 'reading', order: 'id' })).map(({ id }) => id)).toEqual([
      'a/2026-05-01/9',
      'b/0999-12-31/1',
      "it's %2F c/2026-05-02/3",
    ]);
    expect(await one.get('loan', odd.id)).toMatchObject({ days: 1 });
    expect(await one.get('loan', '1/smoker')).toMatchObject({ days: 5 });
    expect(await all(one)).toEqual(await all(other));
    // Marked as deleted, and made again under the same key.
    await one.delete('loan', odd.id);
    await one.sync();
    expect(await office.shell.all('SELECT tool_code FROM loans WHERE gone IS NULL')).toHaveLength(1);
    await other.sync();
    await other.insert('loan', { site: '1', tool: '50% / wide', days: 2 });
    await other.delete('reading', 'a/2026-05-01/9');
    for (const device of [other, one]) await device.sync();
    await one.restore('reading', 'a/2026-05-01/9');
    for (const device of [one, other]) await device.sync();
    expect(await all(one)).toEqual(await all(other));
    expect(await office.shell.all('SELECT days FROM loans ORDER BY days')).toEqual([{ days: 2 }, { days: 5 }]);
    expect(await office.shell.all('SELECT turn, value FROM reading ORDER BY sensor')).toMatchObject([
      ...[{ turn: 9, value: 8 }, { turn: 1 }, { turn: 3, value: 4 }],
    ]);
    expect(await one.outbox()).toEqual([]);
    // A fresh device gets them by key, in several pages.
    await office.shell.exec(
      Array.from(
        { length: 1_200 },
        (_, n) => `INSERT INTO reading (sensor, day, turn, value) VALUES ('m', '2026-06-01', ${n}, 0)`,
      ).join(';'),
    );
    const fresh = await office.device();
    await fresh.sync();
    await one.sync();
    expect(await all(fresh)).toEqual(await all(one));
  });

  test('a key that names a row without its number follows it: on the device, in what is unsent, and in late calls', async () => {
    const office = await officeInTest(kind, tables);
    const [one, other] = [await office.device('one.db'), await office.device()];
    for (const device of [one, other]) await device.sync();
    const { id: site } = await one.insert('site', { name: 'Marrowfen' });
    const loan = await one.insert('loan', { site, tool: 'smoker', days: 1 });
    const draft = one.draft();
    await draft.insert('loan', { site, tool: '50% / wide', days: 4 });
    await draft.update('loan', loan.id, { days: 2 });
    const seen: string[][] = [];
    const stop = one
      .live({ from: 'loan', where: { site } })
      .subscribe((found) => seen.push(found.rows.map(({ tool }) => tool)));
    office.lost = 1;
    await expect(one.sync()).rejects.toThrow();
    await one.update('loan', loan.id, { days: 7 });
    await one.sync();
    expect(await one.get('loan', loan.id)).toMatchObject({ id: '2/smoker', site: '2', days: 7 });
    await draft.commit();
    await one.delete('loan', loan.id);
    for (const device of [one, other]) await device.sync();
    stop();
    expect(seen.filter((tools) => !tools.includes('smoker')).length).toBeLessThan(seen.length);
    expect(seen.at(-1)).toEqual(['50% / wide']);
    expect(await one.outbox()).toEqual([]);
    expect(await all(one)).toEqual(await all(other));
    expect(await office.shell.all('SELECT site_no, days FROM loans WHERE gone IS NULL ORDER BY site_no')).toEqual([
      { site_no: 1, days: 3 },
      { site_no: 2, days: 4 },
    ]);
    // A refusal names the row as the device knows it.
    const wrong = await one.transaction(async (tx) => {
      const { id: second } = await tx.insert('site', { name: 'Wick' });
      await tx.insert('tool', { id: 'a tool of a name that is far too long', name: 'x' });
      return tx.insert('loan', { site: second, tool: 'a tool of a name that is far too long' });
    });
    await one.sync();
    if (kind === 'PostgreSQL') expect((await one.rejections())[0]?.rows.map(({ id }) => id)).toContain(wrong.id);
  });

  test('what cannot be a key is refused: at the schema, on a device, by the server, and where the database has another one', async () => {
    const office = await officeInTest(kind, tables);
    const one = await office.device('one.db');
    const reading = { sensor: 'a', day: '2026-05-01', turn: 1, value: 7 };
    const made = await one.insert('reading', reading);
    await expect(one.insert('reading', { ...reading, id: 'b' })).rejects.toMatchObject({ code: 'key-column' });
    await expect(one.insert('reading', reading)).rejects.toMatchObject({ code: 'duplicate-id' });
    await expect(one.update('reading', made.id, { turn: 2 })).rejects.toMatchObject({
      ...{ code: 'key-column', table: 'reading', column: 'turn' },
      message:
        'reading.turn is a part of the key (sensor, day, turn) and cannot change; insert a new row and delete this one.',
    });
    expect(await one.update('reading', made.id, { turn: 1, value: 9 })).toMatchObject({ value: 9 });
    await one.sync();
    const change = { kind: 'insert', table: 'reading', id: 'b/2026-05-01/1', columns: { ...reading, remark: null } };
    const moved = { kind: 'update', table: 'reading', id: made.id, columns: { turn: 2 } };
    const transactions = [change, moved].map((each, n) => ({
      ...{ id: `01920000-0000-7000-8000-00000000000${n}`, editedAt: '2026-06-01T10:00:00.000Z', changes: [each] },
    }));
    const body = JSON.stringify({ replica: '01920000-0000-7000-8000-000000000009', base: null, transactions });
    const request = { method: 'POST', headers: { 'content-type': 'application/json' }, body };
    const answer = (await (await fetch(`${office.server.url}/v1/push`, request)).json()) as { outcomes: object[] };
    const refused = { outcome: 'rejected', problems: [{ code: 'key-column' }] };
    expect(answer.outcomes).toMatchObject([refused, refused]);
    expect(await office.shell.all('SELECT turn FROM reading')).toEqual([{ turn: 1 }]);
    for (const [columns, key] of [
      [{ a: text(), b: text({ optional: true }) }, ['a', 'b']],
      [{ a: text() }, ['a']],
      [{ a: text(), b: text() }, ['a', 'c']],
    ] as const)
      expect(() => schema({ wrong: table(columns, { key: key as never }) })).toThrow(/schema-invalid|key/);
    const loan = { loan: register.tables.loan };
    expect(() => schema({ ...register.tables, more: table({ loan: reference('loan') }) })).toThrow(
      'have columns for site, tool here',
    );
    expect(() =>
      schema({ ...loan, site: register.tables.site, tool: table({ a: text(), b: text() }, { key: ['a', 'b'] }) }),
    ).toThrow();
    const open = kind === 'SQLite' ? sqliteStore : postgresStore;
    const other = schema({
      ...register.tables,
      loan: table({ site: reference('site'), days: integer() }, { key: ['site', 'days'] }),
    });
    const { tool: _tool, ...columns } = tables.mapping.loan.columns;
    const mapping = { ...tables.mapping, loan: { ...tables.mapping.loan, columns } };
    await expect(open(other, office.database.address, { mapping })).rejects.toMatchObject({
      ...{
        code: 'schema-invalid',
        table: 'loan',
        message: expect.stringContaining('has no key or unique index on site_no, days alone'),
      },
    });
    // A file keeps the key that its rows were made by.
    const file = `${office.folder}/one.db`;
    await one.close();
    const keyless = schema({ ...register.tables, reading: table(register.tables.reading.columns) });
    await expect(openReplica({ schema: keyless, file })).rejects.toMatchObject({
      ...{ code: 'schema-changed', table: 'reading' },
    });
    await office.server.close();
    await (kind === 'SQLite' ? uninstallSqlite : uninstallPostgres)(office.database.address);
    const left =
      kind === 'SQLite'
        ? "SELECT name FROM sqlite_schema WHERE name LIKE 'koinon%'"
        : "SELECT relname FROM pg_class WHERE relname LIKE 'koinon%'";
    expect(await office.shell.all(left)).toEqual([]);
  });
});
