import type { Replica } from '@koinon/client';
import { integer, reference, schema, table, text } from '@koinon/core';
import { postgresStore, sqliteStore } from '@koinon/server';
import { describe, expect, test, vi } from 'vitest';
import { type Office, officeInTest } from '../support/office.ts';
import { type StoreKind, storeKinds } from '../support/stores.ts';

// Views of an office: some that only it writes, some that devices write by its INSTEAD OF triggers.

const register = schema({
  person: table({ name: text(), town: text({ optional: true }) }),
  hive: table({ keeper: reference('person'), mark: text() }),
  // Sums over other tables, which nobody can write.
  keeping: table({ town: text(), hives: integer() }, { readOnly: true, key: ['town', 'hives'] }),
  total: table({ hives: integer() }, { readOnly: true }),
});
type Register = typeof register;

/** The office keeps people in two tables, and shows them as one. */
const shared = `CREATE TABLE who (no TEXT PRIMARY KEY NOT NULL, full_name TEXT NOT NULL, seen INTEGER NOT NULL DEFAULT 0);
  CREATE TABLE lives (no TEXT PRIMARY KEY NOT NULL REFERENCES who, town TEXT);
  CREATE TABLE hives (id TEXT PRIMARY KEY NOT NULL, keeper TEXT NOT NULL REFERENCES who, mark TEXT NOT NULL);
  CREATE VIEW people AS SELECT w.no AS person_no, full_name, town FROM who w LEFT JOIN lives l ON l.no = w.no;
  CREATE VIEW totals AS SELECT no AS "the key", count(hives.id) AS n FROM who LEFT JOIN hives ON keeper = no GROUP BY no;
  CREATE VIEW keepings AS SELECT coalesce(town, '-') AS town, count(*) AS n FROM hives LEFT JOIN lives ON keeper = no GROUP BY 1;
  INSERT INTO who (no, full_name) VALUES ('p1', 'Ida Moss'), ('p2', 'Odd Fell'); INSERT INTO lives VALUES ('p1', 'Wick'); INSERT INTO hives VALUES ('h1', 'p1', 'A1')`;
const instead = {
  SQLite: ['INSERT', 'UPDATE', 'DELETE']
    .map((event) => {
      const work = {
        INSERT:
          'INSERT INTO who (no, full_name) VALUES (NEW.person_no, trim(NEW.full_name)); INSERT INTO lives SELECT NEW.person_no, NEW.town WHERE NEW.town IS NOT NULL',
        UPDATE:
          'UPDATE who SET full_name = trim(NEW.full_name), seen = seen + 1 WHERE no = OLD.person_no; DELETE FROM lives WHERE no = OLD.person_no; INSERT INTO lives SELECT OLD.person_no, NEW.town WHERE NEW.town IS NOT NULL',
        DELETE: 'DELETE FROM lives WHERE no = OLD.person_no; DELETE FROM who WHERE no = OLD.person_no',
      }[event];
      return `CREATE TRIGGER people_${event} INSTEAD OF ${event} ON people BEGIN ${work}; END`;
    })
    .join(';'),
  PostgreSQL: `CREATE FUNCTION people_written() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    IF TG_OP = 'INSERT' THEN INSERT INTO who (no, full_name) VALUES (NEW.person_no, trim(NEW.full_name)); INSERT INTO lives SELECT NEW.person_no, NEW.town WHERE NEW.town IS NOT NULL; RETURN NEW; END IF;
    DELETE FROM lives WHERE no = OLD.person_no;
    IF TG_OP = 'DELETE' THEN DELETE FROM who WHERE no = OLD.person_no; RETURN OLD; END IF;
    UPDATE who SET full_name = trim(NEW.full_name), seen = seen + 1 WHERE no = OLD.person_no; INSERT INTO lives SELECT OLD.person_no, NEW.town WHERE NEW.town IS NOT NULL; RETURN NEW;
  END $$; CREATE TRIGGER people_written INSTEAD OF INSERT OR UPDATE OR DELETE ON people FOR EACH ROW EXECUTE FUNCTION people_written()`,
};

const mapping = {
  person: { name: 'people', columns: { id: 'person_no', name: 'full_name' } },
  hive: { name: 'hives' },
  keeping: { name: 'keepings', columns: { hives: 'n' } },
  total: { name: 'totals', columns: { id: 'the key', hives: 'n' } },
};

const open = (kind: StoreKind) => (kind === 'SQLite' ? sqliteStore : postgresStore);
const inTest = (kind: StoreKind) =>
  officeInTest(kind, {
    ...{ schema: register, mapping },
    sql: { SQLite: `${shared};${instead.SQLite}`, PostgreSQL: `${shared};${instead.PostgreSQL}` },
  });

const all = async (device: Replica<Register>) =>
  Object.fromEntries(
    await Promise.all(
      (['person', 'hive', 'keeping', 'total'] as const).map(async (from) => [
        from,
        (await device.rows({ from, order: 'id' })).map((row) => Object.values(row).join(' ')),
      ]),
    ),
  ) as Record<keyof typeof mapping, string[]>;

/** The rows of the views, as the devices ought to have them. */
async function shown({ shell }: Office<Register>) {
  const of = async (sql: string) => (await shell.all(`${sql} ORDER BY 1`)).map((row) => Object.values(row).join(' '));
  return {
    person: await of('SELECT person_no, full_name, town FROM people'),
    hive: await of('SELECT id, keeper, mark FROM hives'),
    keeping: await of("SELECT town || '/' || n, town, n FROM keepings"),
    total: await of('SELECT "the key", n FROM totals'),
  };
}

describe.each(storeKinds)('%s', (kind) => {
  test('devices and the office write what views show; each has in the end what the views say', async () => {
    const office = await inTest(kind);
    const [one, other] = [await office.device(), await office.device()];
    const agree = () =>
      vi.waitFor(
        async () => {
          for (const device of [one, other]) await device.sync();
          expect(await all(one)).toEqual(await shown(office));
          expect(await all(other)).toEqual(await all(one));
        },
        { timeout: 60_000, interval: 200 },
      );
    await agree();
    await expect(one.update('total' as never, 'p1', { hives: 4 } as never)).rejects.toMatchObject({
      code: 'table-read-only',
    });
    // The triggers of the office write something else than they are given: the device has it with the next pull.
    const made = await one.insert('person', { name: '  Runa Brook ', town: 'Old Quay' });
    await one.insert('hive', { keeper: made.id, mark: 'R1' });
    await one.update('person', 'p2', { town: 'Wick' });
    expect((await one.sync()).up).toMatchObject({ applied: 3, rejected: 0 });
    expect(await one.get('person', made.id)).toMatchObject({ name: 'Runa Brook', town: 'Old Quay' });
    expect(await office.shell.all("SELECT seen FROM who WHERE no = 'p2'")).toEqual([{ seen: 1 }]);
    await agree();
    // The office writes behind the view; the device's edit of another column is merged, of the same one is a conflict.
    await office.shell.exec(
      "UPDATE who SET full_name = 'Odd Fell-Moss' WHERE no = 'p2'; UPDATE lives SET town = 'Marrowfen' WHERE no = 'p1'",
    );
    await one.update('person', 'p2', { town: 'Tolver' });
    await one.update('person', 'p1', { town: 'Sedge' });
    for (let n = 0; n < 3; n++) await one.sync();
    expect(await office.shell.all("SELECT full_name, town FROM people WHERE person_no = 'p2'")).toEqual([
      { full_name: 'Odd Fell-Moss', town: 'Tolver' },
    ]);
    expect(await one.conflicts()).toMatchObject([{ table: 'person', id: 'p1' }]);
    await one.resolve('person', 'p1', 'local');
    await other.delete('person', 'p2');
    await agree();
    await other.restore('person', 'p2');
    await office.shell.exec(
      "DELETE FROM hives WHERE mark = 'A1'; INSERT INTO hives VALUES ('h2', 'p1', 'A2'), ('h3', 'p2', 'A3')",
    );
    await agree();
    expect(await one.outbox()).toEqual([]);
    const idle = await one.sync();
    expect(Object.values(idle.down)).toEqual(Object.values(idle.down).map(() => 0));
  });

  test('a view that cannot be served is refused with the way out; rows that cannot be told apart are named and harm nothing', async () => {
    const office = await inTest(kind);
    const one = await office.device();
    const { address } = office.database;
    await one.sync();
    const refused = (tables: object, given: object, message: RegExp) =>
      expect(open(kind)(schema(tables as never), address, { mapping: given as never })).rejects.toMatchObject({
        code: 'schema-invalid',
        message: expect.stringMatching(message),
      });
    const { total, person } = mapping;
    await refused({ total: table({ hives: integer() }) }, { total }, /cannot be written.*readOnly: true.*INSTEAD OF/);
    await refused(
      { total: table({ bees: integer() }, { readOnly: true }) },
      { total: { ...total, columns: { id: 'the key' } } },
      /has no column bees/,
    );
    await refused({ person: table({ name: text() }, { assignedKey: true }) }, { person }, /leave assignedKey away/);
    // Two rows of one key: the copy stays as it was, and what other views say goes on.
    await office.shell.exec('DROP VIEW totals');
    await office.shell.exec(`CREATE VIEW totals AS SELECT 'p1' AS "the key", 1 AS n UNION ALL SELECT 'p1', 2`);
    const store = await open(kind)(register, address, { mapping });
    await office.shell.exec("INSERT INTO hives VALUES ('h9', 'p1', 'Z9')");
    const faults = () =>
      vi.waitFor(async () => {
        const found = await store.followViews();
        expect(found).toBeDefined();
        return found;
      });
    const told = (message: string) => [{ table: 'total', message: expect.stringContaining(message) }];
    expect(await faults()).toMatchObject(told('The view totals of total has rows with the same the key'));
    // One that fails when it is read.
    await office.shell.exec('DROP VIEW totals');
    const failing = kind === 'SQLite' ? 'abs(-9223372036854775807 - count(*))' : '1 / (count(*) - count(*))::int';
    await office.shell.exec(`CREATE VIEW totals AS SELECT 'p1' AS "the key", ${failing} AS n FROM hives LIMIT 1`);
    await office.shell.exec("DELETE FROM hives WHERE id = 'h1'");
    expect(await faults()).toMatchObject(told('The view totals of total cannot be read'));
    await store.close();
    await vi.waitFor(
      async () => {
        await one.sync();
        expect(await one.rows({ from: 'keeping' })).toMatchObject([{ town: 'Wick', hives: 1 }]);
        expect(await one.count({ from: 'hive' })).toBe(1);
        expect(await one.get('hive', 'h9')).toBeDefined();
      },
      { timeout: 60_000, interval: 200 },
    );
    expect(await one.rows({ from: 'total', order: 'id' })).toMatchObject([
      { id: 'p1', hives: 1 },
      { id: 'p2', hives: 0 },
    ]);
  });
});
