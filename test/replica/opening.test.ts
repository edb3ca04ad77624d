import { spawn } from 'node:child_process';
import { chmod, copyFile, mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Migrations, openNodeDriver, openReplica, type ReplicaOptions, systemHost } from '@koinon/client';
import { boolean, integer, real, type Schema, schema, table, text } from '@koinon/core';
import fc from 'fast-check';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { garden, World } from '../support/world.ts';

// Opening: new files, old files, other people's files, broken files, and files that another process has open.

let folder: string;
let file: string;
beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), 'koinon-open-'));
  file = join(folder, 'replica.db');
});
afterEach(() => rm(folder, { recursive: true, force: true }));

const first = schema({
  tool: table({ label: text(), weight: text({ optional: true }), shelf: text() }),
  shelf: table({ name: text() }),
});
const open = <S extends Schema>(given: S, more: Partial<ReplicaOptions<S>> = {}) =>
  openReplica({ schema: given, file, ...more });

test('new tables, columns with a default and indexes come by themselves, and old rows get the default', async () => {
  const before = await open(first);
  await before.insert('tool', { id: 't1', label: 'smoker', shelf: 's' });
  await before.close();
  const second = schema({
    ...first.tables,
    tool: table({
      label: text({ index: true }),
      weight: text({ optional: true }),
      shelf: text(),
      lent: boolean({ default: false }),
      notes: text({ optional: true }),
    }),
    member: table({ name: text() }),
  });
  const after = await open(second);
  expect(await after.get('tool', 't1')).toMatchObject({ label: 'smoker', lent: false, notes: null });
  expect(await after.count({ from: 'member' })).toBe(0);
  await after.close();
});

test('migrations carry rows, outbox and bases along, and what was unsent is sent in the new shape', async () => {
  const world = await World.inTest(
    schema({
      tool: table({ label: text(), weight: text({ optional: true }), shelf: text() }),
      shelf: table({ name: text() }),
    }),
  );
  const before = await open(first, { server: world.server.url });
  await before.insertAll('tool', [
    { id: 't1', label: 'smoker', weight: '1.5', shelf: 's1' },
    { id: 't2', label: 'veil', weight: '?', shelf: 's1' },
  ]);
  await before.sync();
  await before.transaction(async (transaction) => {
    await transaction.insert('shelf', { id: 's1', name: 'upper' });
    await transaction.update('tool', 't1', { weight: '2.5', label: 'big smoker' });
  });
  await before.close();
  const second = schema(
    { gear: table({ name: text(), weight: real({ optional: true }), place: text() }) },
    { version: 3 },
  );
  const migrations: Migrations = {
    2: (migration) => {
      migration.renameTable('tool', 'gear');
      migration.renameColumn('gear', 'label', 'name');
      migration.renameColumn('gear', 'shelf', 'place');
    },
    3: (migration) => {
      migration.convertColumn('gear', 'weight', real({ optional: true }), (weight) =>
        Number.isFinite(Number(weight)) && weight !== null ? Number(weight) : null,
      );
      migration.removeTable('shelf');
    },
  };
  const after = await open(second, { migrations });
  expect(await after.rows({ from: 'gear' })).toMatchObject([
    { id: 't1', name: 'big smoker', weight: 2.5, place: 's1' },
    { id: 't2', weight: null },
  ]);
  expect(await after.rowState('gear', 't1')).toMatchObject({
    base: { name: 'smoker', weight: 1.5 },
    changed: ['name', 'weight'],
  });
  expect(await after.outbox()).toMatchObject([
    {
      state: 'pending',
      id: expect.stringMatching(/-7/),
      changes: [{ table: 'gear', columns: { name: 'big smoker', weight: 2.5 } }],
    },
  ]);
  await after.revertAll();
  expect(await after.get('gear', 't1')).toMatchObject({ name: 'smoker', weight: 1.5 });
  await after.close();
});

test('a migration that fails, or is missing, leaves the file as it was', async () => {
  const before = await open(first);
  await before.insert('tool', { id: 't1', label: 'smoker', shelf: 's' });
  await before.close();
  const bytes = await readFile(file);
  const shapes: [Schema, Migrations | undefined, string][] = [
    [schema({ tool: first.tables.tool }), undefined, 'schema-changed'],
    [schema({ ...first.tables, shelf: table({ name: integer() }) }), undefined, 'schema-changed'],
    [schema({ ...first.tables, shelf: table({ name: text(), width: integer() }) }), undefined, 'schema-changed'],
    [
      schema({ ...first.tables, tool: table({ label: text(), weight: text(), shelf: text() }) }),
      undefined,
      'schema-changed',
    ],
    [
      schema({ other: table({ a: text() }) }, { version: 2 }),
      {
        2: (migration) => {
          migration.removeTable('shelf');
          throw new Error('halfway');
        },
      },
      'migration-failed',
    ],
    [
      schema(first.tables, { version: 2 }),
      { 2: (migration) => migration.renameColumn('tool', 'nothing', 'x') },
      'migration-failed',
    ],
  ];
  for (const [given, migrations, code] of shapes) {
    await expect(open(given, migrations && { migrations })).rejects.toMatchObject({ code });
    expect(await readFile(file)).toEqual(bytes);
  }
  const newer = await open(schema(first.tables, { version: 2 }));
  await newer.close();
  await expect(open(first)).rejects.toMatchObject({ code: 'schema-newer' });
});

test('whatever steps a schema takes, renamed columns keep their values and their unsent changes', () =>
  fc.assert(
    fc.asyncProperty(
      fc.array(fc.constantFrom('a', 'b', 'c', 'd'), { minLength: 1, maxLength: 5 }),
      fc.boolean(),
      async (names, isSynced) => {
        await rm(file, { force: true });
        let name = 'start';
        let replica = await open(schema({ t: table({ start: text({ optional: true }) }) }) as Schema);
        await replica.insert('t', { id: 'r', start: 'kept' } as never);
        if (isSynced) await replica.update('t', 'r', { start: 'kept on' } as never);
        for (const [i, next] of names.entries()) {
          await replica.close();
          const from = name;
          const migrations = {
            [i + 2]: (migration: Parameters<Migrations[number]>[0]) =>
              from === next ? undefined : migration.renameColumn('t', from, next),
          };
          replica = await open(
            schema({ t: table({ [next]: text({ optional: true }) }) }, { version: i + 2 }) as Schema,
            { migrations },
          );
          name = next;
        }
        expect(await replica.get('t', 'r')).toMatchObject({ [name]: isSynced ? 'kept on' : 'kept' });
        expect((await replica.outbox()).map(({ changes }) => changes[0])).toMatchObject([
          { columns: { [name]: 'kept' } },
          ...(isSynced ? [{ columns: { [name]: 'kept on' } }] : []),
        ]);
        await replica.close();
      },
    ),
    runs(15),
  ));

test('a seed runs once, in one transaction, and again only if it was cut off', async () => {
  let runs = 0;
  const seeded = (fails: boolean) =>
    open(first, {
      seed: async (transaction) => {
        runs++;
        await transaction.insert('shelf', { name: `shelf ${runs}` });
        if (fails) throw new Error('cut off');
      },
    });
  await expect(seeded(true)).rejects.toThrow('cut off');
  for (let n = 0; n < 2; n++) {
    const replica = await seeded(false);
    expect((await replica.rows({ from: 'shelf' })).map(({ name }) => name)).toEqual(['shelf 2']);
    await replica.close();
  }
  expect(runs).toBe(2);
});

test('an app ships with a prebuilt file: each device that starts from it is a replica of its own', async () => {
  const original = await open(first);
  await original.insert('shelf', { id: 's1', name: 'upper' });
  const prebuilt = join(folder, 'prebuilt.db');
  await original.copyTo(prebuilt);
  await expect(original.copyTo(prebuilt)).rejects.toThrow();
  const copy = await open(first, { file: join(folder, 'device.db'), prebuilt });
  expect(await copy.get('shelf', 's1')).toMatchObject({ name: 'upper' });
  expect((await copy.status()).replicaId).not.toBe((await original.status()).replicaId);
  await copy.insert('shelf', { id: 's2', name: 'lower' });
  await copy.close();
  const again = await open(first, { file: join(folder, 'device.db'), prebuilt });
  expect(await again.count({ from: 'shelf' })).toBe(2);
  await again.close();
  await original.close();
});

test('foreign, damaged and forbidden files are refused and left as they are', async () => {
  await writeFile(file, 'This is a letter to my aunt, and no database. '.repeat(100));
  await expect(open(first)).rejects.toMatchObject({ code: 'storage-foreign' });
  expect(await readFile(file, 'utf8')).toMatch(/^This is a letter/);
  const other = await openNodeDriver({ file: join(folder, 'other.db') });
  other.exec('CREATE TABLE theirs (a)');
  other.close();
  await expect(open(first, { file: join(folder, 'other.db') })).rejects.toMatchObject({ code: 'storage-foreign' });
  await expect(open(first, { file: join(folder, 'nowhere', 'x.db') })).rejects.toMatchObject({
    code: 'storage-refused',
  });

  const good = join(folder, 'good.db');
  const replica = await open(first, { file: good });
  await replica.insertAll(
    'shelf',
    Array.from({ length: 500 }, (_, n) => ({ id: `s${n}`, name: 'x'.repeat(200) })),
  );
  await replica.close();
  const bytes = await readFile(good);
  bytes.fill(7, 4096 * 3, bytes.length - 4096);
  await writeFile(file, bytes);
  await expect(
    open(first).then((broken) => broken.rows({ from: 'shelf' }).finally(() => broken.close())),
  ).rejects.toMatchObject({ code: 'storage-damaged' });
});

test('whichever page of a file is damaged, it is opened and read, or is called damaged', async () => {
  const good = join(folder, 'good.db');
  const replica = await open(first, { file: good });
  for (let n = 0; n < 40; n++) await replica.insert('shelf', { id: `s${n}`, name: `${n}`.repeat(20) });
  await replica.close();
  const bytes = await readFile(good);
  const codes = new Set<unknown>();
  for (let page = 4096; page < bytes.length; page += 4096)
    for (const from of [2 * 4096, bytes.length - 4096]) {
      await writeFile(file, Buffer.from(bytes).fill(bytes.subarray(from, from + 4096), page, page + 4096));
      const work = async (broken: Awaited<ReturnType<typeof open<typeof first>>>) => {
        const rows = await broken.rows({ from: 'shelf', join: { sync: 'status' } }).finally(() => broken.close());
        return rows.length <= 40 ? 'read' : 'doubled';
      };
      codes.add(
        await open(first)
          .then(work)
          .catch((error) => error.code),
      );
    }
  expect([...codes].sort()).toEqual(['read', 'storage-damaged']);
});

test.runIf(process.getuid?.() !== 0)('a folder that cannot be written is refused', async () => {
  await chmod(folder, 0o500);
  await expect(open(first)).rejects.toMatchObject({ code: 'storage-refused' });
  await chmod(folder, 0o700);
});

test('a full disk is a clear error, nothing of the write is there, and after making room it goes on', async () => {
  const driver = await openNodeDriver({ file });
  const replica = await openReplica({ schema: first, driver });
  await replica.insert('shelf', { id: 's1', name: 'small' });
  driver.exec('PRAGMA max_page_count = 30');
  const big = { id: 's2', name: 'x'.repeat(200_000) };
  await expect(replica.insert('shelf', big)).rejects.toMatchObject({ code: 'storage-full' });
  await expect(
    replica.transaction(async (transaction) => {
      await transaction.update('shelf', 's1', { name: 'renamed' });
      // Even an app that swallows the error cannot commit half of it.
      await transaction.insert('shelf', big).catch(() => undefined);
    }),
  ).rejects.toMatchObject({ code: 'storage-full' });
  expect(await replica.rows({ from: 'shelf' })).toEqual([{ id: 's1', name: 'small' }]);
  expect(await replica.outbox()).toHaveLength(1);
  driver.exec('PRAGMA max_page_count = 100000');
  await replica.insert('shelf', big);
  expect(await replica.count({ from: 'shelf' })).toBe(2);
  await replica.close();
  await expect(replica.count({ from: 'shelf' })).rejects.toMatchObject({ code: 'replica-closed' });
});

test('memory says that it does not last', async () => {
  const replica = await openReplica({ schema: first });
  expect(await replica.status()).toMatchObject({ storage: 'memory' });
  await replica.close();
  const lasting = await open(first);
  expect(await lasting.status()).toMatchObject({ storage: 'file', syncOwner: null });
  await lasting.close();
});

test('two replicas on one file write side by side; one syncs, the other is told who does', async () => {
  const world = await World.inTest(garden);
  const [one, other] = [await world.replica({ file: 'shared.db' }), await world.replica({ file: 'shared.db' })];
  await Promise.all(Array.from({ length: 40 }, (_, n) => (n % 2 ? one : other).insert('bed', { name: `bed ${n}` })));
  expect(await one.count({ from: 'bed' })).toBe(40);
  const results = await Promise.allSettled([one.sync(), other.sync()]);
  expect(results.map(({ status }) => status).sort()).toEqual(['fulfilled', 'rejected']);
  expect(results.find(({ status }) => status === 'rejected')).toMatchObject({
    reason: { code: 'sync-busy', message: expect.stringContaining(`process ${process.pid}`) },
  });
  await other.sync();
  expect(await other.status()).toMatchObject({ pending: 0, syncOwner: null });

  const lease = async (process: string, lasts = 60_000) => {
    const driver = await openNodeDriver({ file: world.path('shared.db') });
    driver
      .prepare("UPDATE koinon_meta SET value = ? WHERE name = 'sync lease'")
      .run(JSON.stringify({ holder: 'x', process, file: driver.fileId, until: Date.now() + lasts }));
    driver.close();
  };
  // A process that was killed in the middle of a sync gives the file up by being gone.
  const gone = spawn(process.execPath, ['-e', '0']);
  await new Promise((done) => gone.on('close', done));
  const began = 'since 2026-01-01T00:00:00.000Z';
  // In a container that is started again this process may have the number of the one that was killed.
  for (const pid of [gone.pid, process.pid]) {
    await lease(`process ${pid} ${began}`);
    await one.sync();
  }
  // A lease taken while the clock was two years ahead does not count for two years.
  await lease(systemHost.process, 2 * 365 * 86_400_000);
  await one.sync();
  // A copy that is made during a sync is not the file that is being synced.
  await lease(systemHost.process);
  await expect(one.sync()).rejects.toMatchObject({ code: 'sync-busy' });
  for (const part of ['', '-wal']) await copyFile(world.path(`shared.db${part}`), world.path(`copy.db${part}`));
  const copy = await world.replica({ file: 'copy.db' });
  await copy.sync();
});
