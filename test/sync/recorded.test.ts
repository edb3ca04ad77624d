import { readdirSync } from 'node:fs';
import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import { inspectReplica, openNodeDriver, openReplica } from '@koinon/client';
import { sqliteStore, startServer } from '@koinon/server';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { byHand, recorded, type Step } from '../recorded/schema.ts';
import { newDatabase, storeKinds } from '../support/stores.ts';
import { garden } from '../support/world.ts';

// What earlier versions wrote and said: their files are opened, their requests answered, and their answers read.

const versions = readdirSync(join(import.meta.dirname, '../recorded')).filter((name) => name.startsWith('version-'));
const stepsOf = async (version: string): Promise<Step[]> =>
  JSON.parse(await readFile(join(import.meta.dirname, '../recorded', version, 'exchange.json'), 'utf8'));
let folder: string;
const unpack = async (version: string, name: string) => {
  const packed = await readFile(join(import.meta.dirname, '../recorded', version, `${name}.gz`));
  await writeFile(join(folder, name), gunzipSync(packed));
  return join(folder, name);
};
const runSql = async (file: string, sql: string) => {
  const shell = await openNodeDriver({ file });
  shell.exec(sql);
  shell.close();
};

beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), 'koinon-recorded-'));
});

afterEach(async () => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
  await rm(folder, { recursive: true });
});

/** The lines of an answer, without the server's clock and what is sealed. */
const linesOf = (answer: string) =>
  answer
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line, (name, value) => (/^(time|cursor|editedAt)$/.test(name) ? undefined : value)));

/** A server of now on a file of then, a minute later: edits of long ago are another matter. */
const serverOf = async (version: string, name: string) => {
  const text = JSON.stringify(await stepsOf(version)).replaceAll('\\"', '"');
  vi.useFakeTimers({ toFake: ['Date'], now: Date.parse(/"time":"([^"]+)"/.exec(text)?.[1] as string) + 60_000 });
  const file = await unpack(version, name);
  const { url, close } = await startServer({ store: await sqliteStore(recorded, file), port: 0 });
  return { file, url, close };
};

test.each(versions)('%s: a server answers what was asked then as it did then', async (version) => {
  const { file, url, close } = await serverOf(version, 'server.db');
  // A server that was started anew gives other cursors.
  const cursors = new Map<string, string>();
  const cursorOf = (answer: string) => /"cursor":"([^"]+)"/.exec(answer)?.[1] ?? '';
  for (const step of await stepsOf(version)) {
    if ('sql' in step) {
      await runSql(file, step.sql);
      continue;
    }
    const body = step.body?.replace(/"(cursor|base)":"([^"]+)"/, (_, name, old) => `"${name}":"${cursors.get(old)}"`);
    const request = { method: 'POST', headers: { 'content-type': 'application/json' }, body: body ?? '' };
    const answered = await fetch(`${url}${step.path}`, step.body === null ? {} : request);
    const answer = await answered.text();
    cursors.set(cursorOf(step.answer), cursorOf(answer));
    expect(linesOf(answer), step.path).toEqual(linesOf(step.answer));
    expect(answered.status, step.path).toBe(step.status);
  }
  await close();
});

test.each(versions)('%s: the files of a replica and of its server go on where they were', async (version) => {
  const { url, close } = await serverOf(version, 'server-after.db');
  const held = await unpack(version, 'replica.db');
  const replica = await openReplica({ schema: recorded, file: held, server: url, sync: byHand });
  expect(await replica.status()).toMatchObject({ pending: 3, conflicted: 1, rejected: 0 });
  expect(await replica.sync()).toMatchObject({ up: { applied: 2 } });
  await replica.resolve('plant', 'p2', { label: 'local' });
  await replica.sync();
  expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
  const again = await openReplica({ schema: recorded, server: url, sync: byHand });
  await again.sync();
  const plants = await again.rows({ from: 'plant' });
  expect(plants).toEqual(await replica.rows({ from: 'plant' }));
  expect(plants.map((row) => [row.id, row.label, row.height, row.watered, row.tags, row.picture])).toEqual([
    ['p1', 'sage', 25, 2, ['new', 'old'], null],
    ['p2', 'plum, device', null, 0, [], new Uint8Array([1, 2, 3])],
    ['p4', 'thyme', 7, 0, [], null],
  ]);
  expect((await again.rows({ from: 'bed' })).map(({ name }) => name).sort()).toEqual(['north', 'south', 'west']);
  await Promise.all([again.close(), replica.close()]);
  await close();
});

test.each(versions)('%s: a replica reads what a server answered then', async (version) => {
  const answers = (await stepsOf(version)).flatMap((step) => ('sql' in step ? [] : [step]));
  const pulls = answers.filter(({ path }) => path === '/v1/pull');
  let asked = 0;
  vi.stubGlobal('fetch', async () => new Response(pulls[[0, 2, 3][Math.min(asked++, 2)] as number]?.answer));
  const replica = await openReplica({ schema: recorded, server: 'http://then.example', sync: byHand });
  await replica.sync();
  await replica.sync();
  expect((await replica.rows({ from: 'plant' })).map(({ id, height }) => [id, height])).toEqual([
    ['p1', 25],
    ['p2', null],
    ['p4', null],
  ]);
  await replica.close();
});

test.each(storeKinds)('%s: what a newer Koinon has written is not touched', async (kind) => {
  const replica = await openReplica({ schema: garden, file: join(folder, 'newer.db') });
  await replica.close();
  await runSql(join(folder, 'newer.db'), "UPDATE koinon_meta SET value = '2' WHERE name = 'layout version'");
  const refused = { code: 'layout-newer', message: expect.stringContaining('version 2') };
  await expect(openReplica({ schema: garden, file: join(folder, 'newer.db') })).rejects.toMatchObject(refused);
  await expect(inspectReplica(join(folder, 'newer.db'))).rejects.toMatchObject(refused);

  const database = await newDatabase(kind, folder);
  await (await database.open(garden)).close();
  const shell = await database.shell();
  const meta = kind === 'SQLite' ? 'koinon_meta' : 'koinon.meta';
  await shell.exec(`UPDATE ${meta} SET value = '2' WHERE name = 'layout version'`);
  await expect(database.open(garden)).rejects.toMatchObject(refused);
  await shell.close();
  await database.drop();
});
