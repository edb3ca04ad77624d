import { type ChildProcess, spawn } from 'node:child_process';
import { readdir } from 'node:fs/promises';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { openNodeDriver, openReplica } from '@koinon/client';
import { folderContents, openFiles } from '@koinon/client/files';
import type { FileValue } from '@koinon/core';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import photos from '../support/photos.ts';
import { runs } from '../support/runs.ts';
import { garden, rowsOf, World } from '../support/world.ts';

// Either side is killed wherever it happens to be, again and again; nothing may be lost, doubled or done by halves.

const root = join(import.meta.dirname, '../..');
const start = (script: string, ...words: string[]) =>
  spawn(process.execPath, ['--import', 'tsx', '--conditions=koinon-source', join(root, script), ...words], {
    cwd: root,
    stdio: ['ignore', 'pipe', 'ignore'],
  });
const ended = (child: ChildProcess) => new Promise<number | null>((done) => child.on('close', (code) => done(code)));

let world: World;
beforeEach(async () => {
  world = await World.of(garden);
  const shell = await world.shell();
  await shell.exec(
    "INSERT INTO bed VALUES ('b', 'bed', 1); INSERT INTO plant VALUES ('p', 'b', 'herb', NULL, 0, 0, '[]')",
  );
});
afterEach(() => world.end());

test('a device killed while it counts and syncs: the server counts what the device counted', async () => {
  const file = world.path('killed.db');
  const first = await world.replica({ file });
  await first.sync();
  await first.close();
  let acknowledged = 0;
  for (let round = 0; round < runs(5).numRuns; round++) {
    const child = start('test/support/syncing-child.ts', file, world.server.url);
    const ending = ended(child);
    const stopAt = acknowledged + 1 + ((round * 4) % 20);
    await new Promise<void>((done) => {
      createInterface({ input: child.stdout as NonNullable<typeof child.stdout> }).on('line', (line) => {
        acknowledged = Math.max(acknowledged, Number(line));
        if (acknowledged >= stopAt) setTimeout(() => done(child.kill('SIGKILL') as never), (round * 3) % 17);
      });
    });
    await ending;
  }
  const survivor = await world.replica({ file });
  const counted = (await survivor.get('plant', 'p'))?.watered as number;
  expect(counted).toBeGreaterThanOrEqual(acknowledged);
  await survivor.sync();
  expect(await survivor.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
  expect(await rowsOf(await world.shell())).toMatchObject({ 'plant p': { watered: counted } });
  expect((await survivor.sync()).received).toBe(0);
});

test('a server killed in the middle of pushes comes back consistent, and takes up what is sent again once', async () => {
  const port = await freePort();
  const database = world.path('crashing.db');
  const url = `http://127.0.0.1:${port}`;
  const serve = async () => {
    const child = start(
      'packages/cli/src/koinon.ts',
      'serve',
      'test/support/world.ts',
      database,
      '--port',
      String(port),
    );
    await new Promise<void>((done) => child.stdout?.on('data', (text) => /Serving/.test(String(text)) && done()));
    return child;
  };
  const replica = await openReplica({ schema: garden, server: url });
  let server = await serve();
  await replica.insert('bed', { id: 'b', name: 'bed' });
  await replica.insert('plant', { id: 'p', bed: 'b', kind: 'herb' });
  await replica.sync();
  let failures = 0;
  const rounds = runs(4).numRuns;
  for (let round = 0; round < rounds; round++) {
    for (let n = 0; n < 60; n++)
      await replica.transaction(async (transaction) => {
        await transaction.add('plant', 'p', 'watered');
        await transaction.insert('plant', { id: `p-${round}-${n}`, bed: 'b', kind: 'tree' });
      });
    const syncing = replica.sync().catch(() => failures++);
    await new Promise((done) => setTimeout(done, 4 + ((round * 9) % 60)));
    const ending = ended(server);
    server.kill('SIGKILL');
    await Promise.all([ending, syncing]);
    server = await serve();
    // Between the counter and the rows of one transaction no other program ever sees a difference.
    const shell = await openNodeDriver({ file: database });
    const { watered, rows } = shell
      .prepare("SELECT (SELECT watered FROM plant WHERE id = 'p') AS watered, (SELECT count(*) - 1 FROM plant) AS rows")
      .get() as { watered: number; rows: number };
    expect(watered).toBe(rows);
    shell.close();
  }
  expect(failures).toBeGreaterThan(0);
  await replica.sync();
  expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
  expect(await replica.get('plant', 'p')).toMatchObject({ watered: 60 * rounds });
  const shell = await openNodeDriver({ file: database });
  const plants = shell.prepare('SELECT id FROM plant ORDER BY id').all();
  expect((await replica.rows({ from: 'plant', columns: ['id'] as never })).map(({ id }) => ({ id }))).toEqual(plants);
  shell.close();
  const ending = ended(server);
  server.kill('SIGTERM');
  expect(await ending).toBe(0);
  await replica.close();
});

test('several processes write one replica file at once: every write is there, in whole transactions, and syncs once', async () => {
  const file = world.path('shared.db');
  const here = await world.replica({ file });
  await here.sync();
  const seen: number[] = [];
  here.live({ from: 'bed' }).subscribe(({ rows }) => seen.push(rows.length));
  const writers = ['red', 'blue', 'green'].map((name) =>
    ended(start('test/support/writing-child.ts', file, name, '40')),
  );
  for (let n = 0; n < 40; n++) await here.insert('bed', { id: `own-${n}`, name: `own ${n}` });
  expect(await Promise.all(writers)).toEqual([0, 0, 0]);
  expect(await here.count({ from: 'bed' })).toBe(161);
  expect(await here.get('plant', 'p')).toMatchObject({ watered: 30 });
  const queued = await here.outbox();
  expect(queued).toHaveLength(160);
  expect(new Set(queued.map(({ id }) => id)).size).toBe(160);
  expect(queued.filter(({ changes }) => changes.length === 2)).toHaveLength(30);
  await expect.poll(() => seen.at(-1)).toBe(161);
  expect((await here.sync()).up).toMatchObject({ applied: 160, rejected: 0 });
  expect(await rowsOf(here)).toEqual(await rowsOf(await world.shell()));
});

test('a device that takes photos and its server are killed wherever they are: every photo of a row arrives, once', async () => {
  const url = `http://127.0.0.1:${await freePort()}`;
  const [file, database, folder] = [world.path('phone.db'), world.path('office.db'), world.path('office-files')];
  const serve = async () => {
    const words = ['serve', 'test/support/photos.ts', database, '--files', folder, '--port', new URL(url).port];
    const child = start('packages/cli/src/koinon.ts', ...words);
    await new Promise<void>((done) => child.stdout?.on('data', (text) => /Serving/.test(String(text)) && done()));
    return child;
  };
  const kill = async (child: ChildProcess) => {
    const ending = ended(child);
    child.kill('SIGKILL');
    await ending;
  };
  let server = await serve();
  const acknowledged = new Set<string>();
  for (let round = 0; round < runs(4).numRuns; round++) {
    const count = 3 + round * 2;
    const enough = acknowledged.size + count;
    // Some more, since it is killed while it takes them.
    const phone = start('test/support/photo-child.ts', file, url, String(count + 8));
    await new Promise<void>((done) => {
      createInterface({ input: phone.stdout as NonNullable<typeof phone.stdout> }).on('line', (id) => {
        acknowledged.add(id);
        if (acknowledged.size >= enough) setTimeout(done, (round * 37) % 120);
      });
    });
    if (round % 2 === 1) {
      await kill(server);
      server = await serve();
      await new Promise((done) => setTimeout(done, (round * 53) % 200));
    }
    await kill(phone);
  }
  const open = async (path: string) => {
    const replica = await openReplica({
      schema: photos,
      file: path,
      server: url,
      sync: { minDelay: 50, maxDelay: 200 },
    });
    return { replica, files: await openFiles(replica, { server: url, contents: folderContents(`${path}.files`) }) };
  };
  const [survivor, other] = [await open(file), await open(world.path('tablet.db'))];
  // A photo that was saved and whose row was not written waits for one.
  const unsent = async () => (await survivor.files.waiting()).filter(({ state }) => state !== 'row');
  await vi.waitFor(async () => expect(await unsent()).toEqual([]), { timeout: 60_000, interval: 100 });
  await survivor.replica.sync();
  await other.replica.sync();
  const visits = await other.replica.rows({ from: 'visit' });
  const ids = new Set(visits.map(({ id }) => id));
  expect([...acknowledged].filter((id) => !ids.has(id))).toEqual([]);
  // Opening one verifies it.
  for (const { photo } of visits) expect((await other.files.openFile(photo as FileValue)).size).toBe(400_000);
  const stored = await readdir(join(folder, 'stored'), { recursive: true });
  expect(stored.filter((name) => /[0-9a-f]{40}$/.test(name))).toHaveLength(visits.length);
  for (const { replica, files } of [survivor, other]) {
    await files.close();
    await replica.close();
  }
  await kill(server);
});

async function freePort(): Promise<number> {
  const probe = createServer();
  await new Promise<void>((done) => probe.listen(0, '127.0.0.1', done));
  const { port } = probe.address() as { port: number };
  await new Promise((done) => probe.close(done));
  return port;
}
