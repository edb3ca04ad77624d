import { copyFile } from 'node:fs/promises';
import { join } from 'node:path';
import { httpTransport, openReplica, type Predicting, type Replica, type Transport } from '@koinon/client';
import { action, counter, integer, reference, schema, table, text } from '@koinon/core';
import { type Handlers, postgresStore, sqliteStore } from '@koinon/server';
import fc from 'fast-check';
import { describe, expect, onTestFinished, test } from 'vitest';
import { Office, officeInTest } from '../support/office.ts';
import { runs } from '../support/runs.ts';
import { type StoreKind, storeKinds } from '../support/stores.ts';
import { never } from '../support/world.ts';

// Tables whose keys the database gives: a row is made on a device under a provisional id, and has its key from the server.

const register = schema(
  {
    site: table(
      { name: text({ unique: true }), visits: counter() },
      { assignedKey: true, label: 'site', namedBy: 'name' },
    ),
    hive: table({ site: reference('site'), mark: text() }, { assignedKey: true }),
    note: table({
      site: reference('site', { optional: true }),
      hive: reference('hive', { optional: true }),
      line: text(),
    }),
    care: table(
      { site: reference('site'), turn: integer(), line: text(), times: counter() },
      { key: ['site', 'turn'] },
    ),
  },
  {
    actions: {
      name: action({
        input: { hive: reference('hive'), site: reference('site') },
        result: { site: reference('site') },
      }),
    },
  },
);
type Register = typeof register;

const mapping = {
  site: { name: 'sites', columns: { id: 'no' } },
  hive: { name: 'hives', columns: { id: 'hive_no', site: 'site_no' } },
  note: { name: 'notes', columns: { site: 'site_no', hive: 'hive_no' } },
  care: { name: 'care', columns: { site: 'site_no' } },
};

const theirTables = {
  SQLite: `CREATE TABLE sites (no INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, visits INTEGER NOT NULL DEFAULT 0);
    CREATE TABLE hives (hive_no INTEGER PRIMARY KEY AUTOINCREMENT, site_no INTEGER NOT NULL REFERENCES sites (no), mark TEXT NOT NULL);
    CREATE TABLE notes (id TEXT PRIMARY KEY NOT NULL, site_no INTEGER REFERENCES sites (no), hive_no INTEGER REFERENCES hives (hive_no), line TEXT NOT NULL);
    CREATE TABLE care (site_no INTEGER NOT NULL REFERENCES sites (no), turn INTEGER NOT NULL, line TEXT NOT NULL, times INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (site_no, turn))`,
  PostgreSQL: `CREATE TABLE sites (no integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text NOT NULL UNIQUE, visits bigint NOT NULL DEFAULT 0);
    CREATE TABLE hives (hive_no bigserial PRIMARY KEY, site_no integer NOT NULL REFERENCES sites (no), mark text NOT NULL);
    CREATE TABLE notes (id text PRIMARY KEY, site_no integer REFERENCES sites (no), hive_no bigint REFERENCES hives (hive_no), line text NOT NULL);
    CREATE TABLE care (site_no integer REFERENCES sites (no), turn integer, line text NOT NULL, times bigint NOT NULL DEFAULT 0, PRIMARY KEY (site_no, turn))`,
};

/** Names a hive after its site. */
const actions: Handlers<Register> = {
  async name({ hive, site }, { get, update }) {
    await update('hive', hive, { mark: (await get('site', site))?.name ?? 'nowhere' });
    return { site };
  },
};

const tables = {
  schema: register,
  mapping,
  actions,
  sql: {
    SQLite: `${theirTables.SQLite}; INSERT INTO sites (name) VALUES ('Tolver Down')`,
    PostgreSQL: `${theirTables.PostgreSQL}; INSERT INTO sites (name) VALUES ('Tolver Down')`,
  },
};

const inTest = (kind: StoreKind) => officeInTest(kind, tables);

/** The sites as the office sees them. */
const sites = (office: Office<typeof register>) =>
  office.shell.all<{ name: string; no: number }>('SELECT name, no FROM sites ORDER BY no');

describe.each(storeKinds)('%s', (kind) => {
  test('an action names rows by provisional ids: it is run with their keys, and what was predicted follows', async () => {
    const office = await inTest(kind);
    const one = await office.device();
    const site = await one.insert('site', { name: 'Marrowfen' });
    const hive = await one.insert('hive', { site: site.id, mark: 'A1' });
    const named = { hive: hive.id, site: site.id };
    const locally = (data: Predicting<Register>) => data.update('hive', hive.id, { mark: 'soon' });
    office.lost = 1;
    const first = await one.invoke('name', named, { locally });
    await expect(one.sync()).rejects.toThrow('the connection was cut');
    const late = await one.invoke('name', named, { locally });
    await one.update('hive', hive.id, { mark: 'mine' });
    await one.sync();
    const [{ no } = { no: 0 }] = (await sites(office)).filter(({ name }) => name === 'Marrowfen');
    expect(await one.resultOf(first)).toEqual({ site: String(no) });
    expect(await one.resultOf(late)).toEqual({ site: String(no) });
    expect(await one.invocations()).toMatchObject([{ input: { site: String(no) } }, { input: { site: String(no) } }]);
    // The edit over the prediction is of a value that came out otherwise.
    expect(await one.conflicts()).toMatchObject([{ base: 'soon', local: 'mine', remote: 'Marrowfen' }]);
    await one.resolve('hive', hive.id, 'local');
    await one.sync();
    expect(await office.shell.all('SELECT mark FROM hives')).toEqual([{ mark: 'mine' }]);
    // One that is made when the key is known may still name the row as it was made.
    const again = await one.invoke('name', named);
    await one.sync();
    expect(await one.resultOf(again)).toEqual({ site: String(no) });
  });

  test('K2, K3, K4: references, live queries, a draft and late calls follow the key, while the office takes the next number', async () => {
    const office = await inTest(kind);
    const [one, other] = [await office.device(), await office.device()];
    const made = await one.insert('site', { name: 'Marrowfen' });
    const hive = await one.insert('hive', { site: made.id, mark: 'A1' });
    await one.insert('note', { site: made.id, hive: hive.id, line: 'gentle' });
    await expect(one.insert('site', { id: '7' as never, name: 'of my own' })).rejects.toMatchObject({
      code: 'value-assigned',
    });
    const seen: (readonly string[])[] = [];
    const stop = one
      .live({ from: 'hive', where: { site: made.id } })
      .subscribe(({ rows }) => seen.push(rows.map(({ mark }) => mark)));
    const shown: string[][] = [];
    const stopSites = one
      .live({ from: 'site', order: 'name' })
      .subscribe(({ rows }) => shown.push(rows.map(({ name }) => name)));
    const heard: string[] = [];
    const stopHearing = one.listen(
      'hive',
      (events) => heard.push(...events.map(({ before, after }) => `${before?.mark ?? ''}>${after?.mark ?? ''}`)),
      { where: { site: made.id } },
    );
    const draft = one.draft();
    await draft.update('site', made.id, { name: 'Marrowfen, by the mill' });
    await draft.insert('hive', { site: made.id, mark: 'A2' });
    await office.shell.exec("INSERT INTO sites (name) VALUES ('Old Quay')");
    await other.insert('site', { name: 'Wick' });
    await other.sync();
    expect((await one.sync()).up).toMatchObject({ applied: 3, rejected: 0 });
    const numbers = Object.fromEntries((await sites(office)).map(({ name, no }) => [name, String(no)]));
    expect(Object.keys(numbers).sort()).toEqual(['Marrowfen', 'Old Quay', 'Tolver Down', 'Wick']);
    // Both ids find the row; everything that is stored has the key.
    expect(await one.get('site', made.id)).toMatchObject({ id: numbers.Marrowfen, name: 'Marrowfen' });
    expect(await one.rows({ from: 'hive', where: { site: made.id } })).toMatchObject([{ site: numbers.Marrowfen }]);
    expect(await one.rows({ from: 'note' })).toMatchObject([{ site: numbers.Marrowfen, line: 'gentle' }]);
    expect(draft.changes()).toMatchObject([{ kind: 'update' }, { kind: 'insert' }]);
    await draft.commit();
    await one.add('site', made.id, 'visits', 2);
    await one.update('note', (await one.rows({ from: 'note' }))[0]?.id as string, { line: 'gentle, still' });
    expect((await one.sync()).up).toMatchObject({ applied: 3, rejected: 0 });
    await other.sync();
    for (const from of ['site', 'hive', 'note'] as const)
      expect(await other.rows({ from, order: 'id' })).toEqual(await one.rows({ from, order: 'id' }));
    expect((await one.rows({ from: 'site' })).every(({ id }) => /^\d+$/.test(id))).toBe(true);
    expect(await one.get('site', made.id)).toMatchObject({ name: 'Marrowfen, by the mill', visits: 2 });
    stop();
    stopSites();
    stopHearing();
    expect(heard).toContain('>A2');
    // No moment without the hive, nor with the site twice.
    expect(seen.filter((marks) => !marks.includes('A1'))).toEqual([]);
    expect(shown.filter((names) => new Set(names).size < names.length)).toEqual([]);
    expect(seen.at(-1)).toEqual(['A1', 'A2']);
    expect(await one.outbox()).toEqual([]);
  });

  test('K1: a reply that is lost after the key was given brings the same key; what was written meanwhile goes to the same row', async () => {
    const office = await inTest(kind);
    const one = await office.device('one.db');
    const { id } = await one.insert('site', { name: 'Marrowfen' });
    const hive = await one.insert('hive', { site: id, mark: 'A1' });
    office.lost = 1;
    await expect(one.sync()).rejects.toThrow();
    await one.update('hive', hive.id, { mark: 'A2' });
    await one.insert('note', { site: id, hive: hive.id, line: 'since then' });
    await one.add('site', id, 'visits', 1);
    office.lost = 1;
    await expect(one.sync()).rejects.toThrow();
    await one.sync();
    await one.sync();
    expect(await sites(office)).toMatchObject([{ name: 'Tolver Down' }, { name: 'Marrowfen' }]);
    expect(await office.shell.all('SELECT mark, line FROM hives JOIN notes USING (hive_no, site_no)')).toEqual([
      { mark: 'A2', line: 'since then' },
    ]);
    expect(await one.get('site', id)).toMatchObject({ id: '2', visits: 1 });
    expect(await one.rows({ from: 'site' })).toHaveLength(2);
    expect(await one.outbox()).toEqual([]);
  });

  test('a refusal names the row as the device knows it, and the row is numbered once it is corrected', async () => {
    const office = await inTest(kind);
    const one = await office.device();
    await one.sync();
    await office.shell.exec("INSERT INTO sites (name) VALUES ('Marrowfen')");
    const { id } = await one.insert('site', { name: 'Marrowfen' });
    await one.insert('hive', { site: id, mark: 'A1' });
    expect((await one.sync()).up).toMatchObject({ applied: 0, rejected: 1, waiting: 1 });
    expect(await one.rejections()).toMatchObject([
      { problems: [{ code: 'duplicate-value', table: 'site', id, column: 'name' }] },
    ]);
    await one.update('site', id, { name: 'Marrowfen East' });
    await one.sync();
    await one.sync();
    expect((await sites(office)).map(({ name }) => name)).toEqual(['Tolver Down', 'Marrowfen', 'Marrowfen East']);
    expect(await one.rows({ from: 'hive' })).toMatchObject([{ site: (await one.get('site', id))?.id }]);
    expect(await one.outbox()).toEqual([]);
  });

  test('a number is never taken for a provisional id: a deleted row comes back under its own, and whoever claims one claims no other row', async () => {
    const office = await inTest(kind);
    const one = await office.device();
    const { id } = await one.insert('site', { name: 'Marrowfen' });
    await one.sync();
    await one.delete('site', id);
    await one.sync();
    await one.restore('site', '2');
    const change = { kind: 'insert', table: 'site', id: '1', columns: { name: 'claimed', visits: 0 } };
    const [replica, claim, again] = [1, 2, 3].map((n) => `01920000-0000-7000-8000-00000000000${n}`);
    const push = async (transaction: string | undefined, changes: object[]) => {
      const transactions = [{ id: transaction, editedAt: '2026-06-01T10:00:00.000Z', changes }];
      const body = JSON.stringify({ replica, base: null, transactions });
      const request = { method: 'POST', headers: { 'content-type': 'application/json' }, body };
      const answer = (await (await fetch(`${office.server.url}/v1/push`, request)).json()) as { outcomes: object[] };
      return answer.outcomes;
    };
    expect(await push(claim, [change])).toMatchObject([{ outcome: 'stale', rows: [{ id: '1' }] }]);
    expect(await push(again, [{ ...change, id: '70' }])).toMatchObject([{ outcome: 'applied' }]);
    await one.update('site', '1', { name: 'Tolver Up' });
    await one.sync();
    expect(await sites(office)).toEqual([
      { no: 1, name: 'Tolver Up' },
      { no: 2, name: 'Marrowfen' },
      { no: 70, name: 'claimed' },
    ]);
    // Nor does an answer that makes no sense give a row the id of another.
    const there = httpTransport(office.server.url);
    const senseless: Transport = {
      ...there,
      push: async (...given) => {
        const answer = (await there.push(...given)) as { outcomes: object[] };
        const assigned = [{ table: 'site', provisional: '1', id: '9' }];
        return { ...answer, outcomes: answer.outcomes.map((outcome) => ({ ...outcome, assigned })) };
      },
    };
    const misled = await openReplica({ schema: register, server: senseless, sync: { when: never, live: false } });
    await misled.sync();
    await misled.update('site', '1', { name: 'Tolver Down' });
    expect((await misled.sync()).up).toMatchObject({ applied: 1 });
    expect((await misled.rows({ from: 'site', order: 'id' })).map((row) => row.id)).toEqual(['1', '2', '70']);
    await misled.close();
    const open = kind === 'SQLite' ? sqliteStore : postgresStore;
    const wrong = schema({ note: table({ line: text() }, { assignedKey: true }) });
    await expect(open(wrong, office.database.address, { mapping: { note: { name: 'notes' } } })).rejects.toMatchObject({
      ...{ code: 'schema-invalid', table: 'note', message: expect.stringMatching('does not count the key id') },
    });
  });

  test('rows that are taken away from a server and linked again get numbers anew, with what refers to them', async () => {
    const office = await inTest(kind);
    const one = await office.device('one.db');
    const { id } = await one.insert('site', { name: 'Marrowfen' });
    await one.insert('hive', { site: id, mark: 'A1' });
    await one.sync();
    await one.unlink({ rows: 'keep', server: 'delete' });
    expect(await sites(office)).toEqual([]);
    await office.shell.exec("INSERT INTO sites (name) VALUES ('Old Quay'), ('Wick')");
    await one.link();
    for (let n = 0; n < 3; n++) await one.sync();
    const named = 'SELECT name, mark FROM sites LEFT JOIN hives ON site_no = no ORDER BY no';
    const rows = await office.shell.all<{ name: string; mark: string | null }>(named);
    expect(rows.map(({ name, mark }) => `${name} ${mark}`).sort()).toEqual([
      'Marrowfen A1',
      'Old Quay null',
      'Tolver Down null',
      'Wick null',
    ]);
    expect(await one.outbox()).toEqual([]);
  });

  test.each(['as the file', 'by copyTo'])(
    'K5: a replica that is copied %s sends the same row: it is one, and the copy learns its key',
    async (how) => {
      const office = await inTest(kind);
      let first = await office.device('one.db');
      await first.sync();
      const { id } = await first.insert('site', { name: 'Marrowfen' });
      await first.insert('hive', { site: id, mark: 'A1' });
      if (how === 'by copyTo') await first.copyTo(join(office.folder, 'other.db'));
      await first.close();
      if (how === 'as the file') await copyFile(join(office.folder, 'one.db'), join(office.folder, 'other.db'));
      first = await office.device('one.db');
      await first.sync();
      const copy = await office.device('other.db');
      await copy.sync();
      // Whatever it has to send itself: it has learned the keys of both rows.
      expect(await copy.rows({ from: 'site', order: 'id' })).toMatchObject([{ id: '1' }, { id: '2' }]);
      expect(await copy.rows({ from: 'hive' })).toMatchObject([{ id: '1', site: '2' }]);
      await copy.insert('hive', { site: id, mark: 'B1' });
      for (const device of [copy, copy, first]) await device.sync();
      expect(await sites(office)).toHaveLength(2);
      for (const device of [first, copy]) {
        expect(await device.rows({ from: 'site', order: 'id' })).toMatchObject([{ name: 'Tolver Down' }, { id: '2' }]);
        expect((await device.rows({ from: 'hive', order: 'mark' })).map(({ site, mark }) => [site, mark])).toEqual([
          ['2', 'A1'],
          ['2', 'B1'],
        ]);
        expect(await device.get('site', id)).toMatchObject({ id: '2' });
        expect(await device.outbox()).toEqual([]);
      }
    },
  );

  test('K6: over live connections no result shows a row twice, or goes without one, while rows are numbered', async () => {
    const office = await inTest(kind);
    const devices = [await office.device(undefined, {}), await office.device(undefined, {})] as const;
    const results: string[][][] = [[], []];
    for (const [n, device] of devices.entries()) {
      const stop = device
        .live({ from: 'site', order: 'name' })
        .subscribe(({ rows }) => results[n]?.push(rows.map(({ name }) => name)));
      onTestFinished(stop);
    }
    const made: string[] = [];
    for (let n = 0; n < 20; n++)
      for (const [who, device] of devices.entries()) {
        const { id } = await device.insert('site', { name: `s${who} ${n}` });
        await device.insert('hive', { site: id, mark: `s${who} ${n}` });
        if (n % 3 === 0) await device.update('site', id, { name: `s${who} ${n}!` });
        made.push(`s${who} ${n}${n % 3 === 0 ? '!' : ''}`);
        await new Promise((go) => setImmediate(go));
      }
    await expect
      .poll(async () => Promise.all(devices.map(async (device) => (await device.outbox()).length)))
      .toEqual([0, 0]);
    await expect
      .poll(async () =>
        (await Promise.all(devices.map((device) => device.rows({ from: 'hive' })))).map(({ length }) => length),
      )
      .toEqual([40, 40]);
    for (const seen of results) {
      expect(seen.filter((names) => new Set(names).size < names.length)).toEqual([]);
      const counts = seen.map(({ length }) => length);
      expect(counts.filter((count, i) => i > 0 && count < (counts[i - 1] ?? 0))).toEqual([]);
      expect(seen.at(-1)).toEqual(['Tolver Down', ...made].sort());
    }
    const [first, second] = devices;
    for (const from of ['site', 'hive'] as const)
      expect(await first.rows({ from, order: 'id' })).toEqual(await second.rows({ from, order: 'id' }));
  });

  test('K8: a restored server gives the row another number, since the office has taken the one before; what refers to it follows', async () => {
    const office = await inTest(kind);
    const one = await office.device('one.db');
    await one.sync();
    const putBack = await office.backup();
    const { id } = await one.insert('site', { name: 'Marrowfen' });
    await one.sync();
    await one.insert('hive', { site: id, mark: 'A1' });
    await one.sync();
    expect(await one.get('site', id)).toMatchObject({ id: '2' });
    await putBack();
    await office.shell.exec("INSERT INTO sites (name) VALUES ('Old Quay')");
    for (let n = 0; n < 4; n++) await one.sync();
    expect(await sites(office)).toMatchObject([
      { name: 'Tolver Down' },
      { name: 'Old Quay', no: 2 },
      { name: 'Marrowfen', no: 3 },
    ]);
    expect(await one.rows({ from: 'site', order: 'id' })).toMatchObject([
      {},
      { id: '2', name: 'Old Quay' },
      { id: '3', name: 'Marrowfen' },
    ]);
    expect(await one.get('site', id)).toMatchObject({ id: '3' });
    expect(await one.rows({ from: 'hive' })).toMatchObject([{ site: '3', mark: 'A1' }]);
    expect(await office.shell.all('SELECT site_no, mark FROM hives')).toMatchObject([{ site_no: 3, mark: 'A1' }]);
    expect(await one.outbox()).toEqual([]);
  });

  test('whatever two devices and the office do, with lost replies: each row is there once, under one key, with what refers to it', () =>
    fc.assert(
      fc.asyncProperty(
        fc.array(
          fc.record({
            who: fc.nat(1),
            what: fc.constantFrom(
              'site',
              'site',
              'hive',
              'hive',
              'rename',
              'count',
              'note',
              'care',
              'care',
              'office',
              'sync',
              'sync',
              'cut',
            ),
            which: fc.nat(20),
          }),
          { minLength: 6, maxLength: 25 },
        ),
        async (acts) => {
          const office = await Office.open(kind, tables);
          try {
            const devices = [await office.device(), await office.device()] as const;
            for (const device of devices) await device.sync();
            // The ids that each device's pages have kept, whatever the rows are called by now.
            const kept: [string, string][][] = [[], []];
            const hives: [string, string][][] = [[], []];
            let count = 0;
            let added = 0;
            const cares: [id: string, by: number][] = [];
            let cared = 0;
            for (const { who, what, which } of acts) {
              const device = devices[who] as Replica<Register>;
              const sites = kept[who] as [string, string][];
              const site = sites[which % Math.max(sites.length, 1)];
              const name = `s${++count}`;
              if (what === 'site') sites.push([(await device.insert('site', { name })).id, name]);
              else if (what === 'hive' && site) {
                const mark = `${site[1]} ${count}`;
                (hives[who] as [string, string][]).push([
                  (await device.insert('hive', { site: site[0], mark })).id,
                  mark,
                ]);
              } else if (what === 'rename' && site)
                await device
                  .update('hive', (await device.rows({ from: 'hive' }))[0]?.id ?? site[0], {})
                  .catch(() => undefined);
              else if (what === 'count' && site && ++added) await device.add('site', site[0], 'visits');
              else if (what === 'note' && site) await device.insert('note', { site: site[0], line: site[1] });
              else if (what === 'care' && site) {
                // By the id under which the page knows the row, whatever that is by now.
                const known = cares.find(([id, by]) => by === who && id.startsWith(`${site[0]}/`));
                if (known !== undefined && which % 3 > 0) await device.add('care', known[0], 'times', ++cared && 1);
                else {
                  const made = await device.insert('care', { site: site[0], turn: count, line: site[1] });
                  cares.push([made.id.startsWith(site[0]) ? made.id : `${site[0]}/${count}`, who]);
                }
              } else if (what === 'office')
                await office.shell.exec(`INSERT INTO sites (name) VALUES ('office ${count}')`);
              else if (what === 'sync' || what === 'cut') {
                if (what === 'cut') office.lost = 1;
                await device.sync().catch(() => undefined);
                office.lost = 0;
              }
            }
            for (let n = 0; n < 3; n++) for (const device of devices) await device.sync();
            const made = acts.filter(({ what }) => what === 'site').length;
            const theirs = acts.filter(({ what }) => what === 'office').length;
            expect(await sites(office)).toHaveLength(1 + made + theirs);
            const summed = await office.shell.all<{ n: number }>('SELECT CAST(sum(visits) AS INTEGER) AS n FROM sites');
            expect(Number(summed[0]?.n)).toBe(added);
            // A hive says in its mark of which site it is, a note in its line.
            const wrong = "SELECT mark FROM hives JOIN sites ON no = site_no WHERE mark NOT LIKE name || ' %'";
            expect(await office.shell.all(wrong)).toEqual([]);
            expect(
              await office.shell.all('SELECT line FROM notes JOIN sites ON no = site_no WHERE line <> name'),
            ).toEqual([]);
            expect(
              await office.shell.all('SELECT line FROM care JOIN sites ON no = site_no WHERE line <> name'),
            ).toEqual([]);
            const care = await office.shell.all<{ times: number }>('SELECT times FROM care');
            expect(care).toHaveLength(cares.length);
            expect(care.reduce((sum, { times }) => sum + Number(times), 0)).toBe(cared);
            for (const [id, by] of cares) expect(await devices[by]?.get('care', id)).toBeDefined();
            expect(await office.shell.all('SELECT hive_no FROM hives')).toHaveLength(hives.flat().length);
            const [first, second] = devices;
            for (const from of ['site', 'hive', 'note', 'care'] as const)
              expect(await first.rows({ from, order: 'id' })).toEqual(await second.rows({ from, order: 'id' }));
            for (const [n, device] of devices.entries()) {
              expect(await device.outbox()).toEqual([]);
              for (const [id, name] of kept[n] ?? []) expect(await device.get('site', id)).toMatchObject({ name });
              for (const [id, mark] of hives[n] ?? []) expect(await device.get('hive', id)).toMatchObject({ mark });
              expect((await device.rows({ from: 'site' })).every(({ id }) => /^\d+$/.test(id))).toBe(true);
            }
          } finally {
            await office.end();
          }
        },
      ),
      runs(kind === 'SQLite' ? 25 : 12),
    ));
});
