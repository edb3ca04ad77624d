import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica } from '@koinon/client';
import { counter, integer, reference, schema, table, text } from '@koinon/core';
import { postgresStore, type Store, serveInProcess, sqliteStore, startServer, writeRows } from '@koinon/server';
import { expect, onTestFinished, test, vi } from 'vitest';
import { newDatabase } from '../support/stores.ts';
import { never } from '../support/world.ts';

// An app keeps its schema while its backend changes under it: other tables, other names, another database. Only the mapping changes.

const apiary = schema({
  site: table({ name: text(), note: text({ optional: true }) }),
  hive: table({ site: reference('site'), mark: text(), frames: counter() }),
  loan: table({ site: reference('site'), tool: text(), days: integer() }, { key: ['site', 'tool'] }),
});

/** The office's new layout: other names, another key, and hives behind a view over two tables. */
const elsewhere = `CREATE TABLE "Standorte" (kennung varchar(60) PRIMARY KEY, titel text NOT NULL, bemerkung text);
  CREATE TABLE boxes (box text PRIMARY KEY, stands text NOT NULL REFERENCES "Standorte", label text NOT NULL);
  CREATE TABLE counts (box text PRIMARY KEY REFERENCES boxes ON DELETE CASCADE, frames bigint NOT NULL);
  CREATE VIEW hive_cards AS SELECT b.box AS card, stands, label, frames FROM boxes b JOIN counts c ON c.box = b.box;
  CREATE FUNCTION card_written() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    IF TG_OP = 'DELETE' THEN DELETE FROM boxes WHERE box = OLD.card; RETURN OLD; END IF;
    INSERT INTO boxes VALUES (NEW.card, NEW.stands, NEW.label) ON CONFLICT (box) DO UPDATE SET stands = excluded.stands, label = excluded.label;
    INSERT INTO counts VALUES (NEW.card, NEW.frames) ON CONFLICT (box) DO UPDATE SET frames = excluded.frames;
    RETURN NEW; END $$;
  CREATE TRIGGER card_written INSTEAD OF INSERT OR UPDATE OR DELETE ON hive_cards FOR EACH ROW EXECUTE FUNCTION card_written();
  CREATE TABLE lent (tool text, since_site varchar(60) REFERENCES "Standorte", days integer NOT NULL, PRIMARY KEY (tool, since_site))`;
const mapping = {
  site: { name: 'Standorte', columns: { id: 'kennung', name: 'titel', note: 'bemerkung' } },
  hive: { name: 'hive_cards', columns: { id: 'card', site: 'stands', mark: 'label' } },
  loan: { name: 'lent', columns: { site: 'since_site' } },
};

/** Copies all rows of one store into another, parents before children. */
async function copyRows(from: Store, to: Store): Promise<void> {
  const server = serveInProcess({ store: from });
  const reader = await openReplica({ schema: apiary, server: server.connect() });
  await reader.sync();
  for (const name of ['site', 'hive', 'loan'] as const)
    for (const { id, ...columns } of await reader.rows({ from: name, order: 'id' }))
      await writeRows(to, [{ kind: 'insert', table: name, id, columns }]);
  await reader.close();
  await server.close();
}

test('devices in the field with unsent edits go on over another database, with other tables, keys and a view, without another app', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-moving-'));
  const database = await newDatabase('PostgreSQL', folder);
  onTestFinished(async () => {
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  });
  const file = join(folder, 'office.db');
  const before = await startServer({ store: await sqliteStore(apiary, file), port: 0 });
  const device = async (name: string) => {
    const made = await openReplica({
      ...{ schema: apiary, file: join(folder, name), server: before.url, sync: { when: never, live: false } },
    });
    onTestFinished(() => made.close());
    return made;
  };
  const [one, other] = [await device('one.db'), await device('other.db')];
  await one.insert('site', { id: 's1', name: 'Tolver Down' });
  await one.insert('hive', { id: 'h1', site: 's1', mark: 'A1', frames: 3 });
  await one.insert('hive', { id: 'h2', site: 's1', mark: 'A2' });
  await one.insert('loan', { site: 's1', tool: 'smoker', days: 2 });
  for (const each of [one, other, one]) await each.sync();
  // In the field, without signal.
  await one.add('hive', 'h1', 'frames', 4);
  await one.update('site', 's1', { note: 'mown' });
  await one.delete('hive', 'h2');
  await other.update('hive', 'h1', { mark: 'B1' });
  await other.add('hive', 'h1', 'frames', 1);
  const { id } = await other.insert('hive', { site: 's1', mark: 'A3', frames: 2 });
  await other.insert('loan', { site: 's1', tool: 'net / large', days: 9 });
  await other.update('loan', 's1/smoker', { days: 5 });
  await before.close();

  const shell = await database.shell();
  onTestFinished(() => shell.close());
  await shell.exec(elsewhere);
  const [from, to] = [await sqliteStore(apiary, file), await postgresStore(apiary, database.address, { mapping })];
  await copyRows(from, to);
  await from.close();
  const after = await startServer({ store: to, port: Number(new URL(before.url).port) });
  onTestFinished(() => after.close());
  await vi.waitFor(
    async () => {
      for (const each of [one, other, one, other]) await each.sync();
      for (const each of ['site', 'hive', 'loan'] as const)
        expect(await one.rows({ from: each, order: 'id' })).toEqual(await other.rows({ from: each, order: 'id' }));
    },
    { timeout: 60_000, interval: 200 },
  );
  expect(await shell.all('SELECT card, stands, label, frames FROM hive_cards ORDER BY label')).toEqual([
    { card: id, stands: 's1', label: 'A3', frames: 2 },
    { card: 'h1', stands: 's1', label: 'B1', frames: 8 },
  ]);
  expect(await shell.all('SELECT * FROM "Standorte"')).toEqual([
    { kennung: 's1', titel: 'Tolver Down', bemerkung: 'mown' },
  ]);
  expect(await shell.all('SELECT tool, days FROM lent ORDER BY tool')).toEqual([
    { tool: 'net / large', days: 9 },
    { tool: 'smoker', days: 5 },
  ]);
  expect(await one.rows({ from: 'hive', order: 'mark' })).toMatchObject([{ mark: 'A3' }, { mark: 'B1', frames: 8 }]);
  for (const each of [one, other]) {
    expect(await each.outbox()).toEqual([]);
    expect(await each.conflicts()).toEqual([]);
    expect(await each.rejections()).toEqual([]);
  }
});
