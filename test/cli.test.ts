import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtemp, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { afterAll, beforeAll, expect, test } from 'vitest';

const root = join(import.meta.dirname, '..');
let folder: string;
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'koinon-cli-'));
});
afterAll(() => rm(folder, { recursive: true, force: true }));

function koinon(...words: string[]): ChildProcess & { readonly output: () => string } {
  const entry = join(root, 'packages/cli/src/koinon.ts');
  const child = spawn(process.execPath, ['--import', 'tsx', '--conditions=koinon-source', entry, ...words], {
    cwd: root,
    env: { ...process.env, NO_COLOR: '1' },
  });
  let output = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (data) => (output += data));
  return Object.assign(child, { output: () => output });
}

const ended = (child: ChildProcess) => new Promise<number | null>((done) => child.on('close', done));

async function said(child: ReturnType<typeof koinon>, pattern: RegExp): Promise<RegExpExecArray> {
  for (;;) {
    const found = pattern.exec(child.output());
    if (found) return found;
    if (child.exitCode !== null) throw new Error(`it ended without saying ${pattern}:\n${child.output()}`);
    await new Promise((done) => setTimeout(done, 20));
  }
}

test('serve starts on a schema module, answers, and stops cleanly when asked to', async () => {
  const schemaFile = join(folder, 'schema.ts');
  await symlink(join(root, 'node_modules'), join(folder, 'node_modules'));
  await writeFile(
    schemaFile,
    "import { schema, table, text } from '@koinon/core';\nexport default schema({ note: table({ words: text() }) });\n",
  );
  const database = join(folder, 'notes.db');
  const child = koinon('serve', schemaFile, database, '--port', '0');
  const ending = ended(child);
  const [, url] = await said(child, /at (http:\S+)/);
  expect(await (await fetch(`${url}/v1/about`)).json()).toMatchObject({ tables: ['note'] });
  child.kill('SIGINT');
  expect(await ending).toBe(0);
  const driver = await openNodeDriver({ file: database });
  expect(
    driver.prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'koinon%'").all(),
  ).toEqual([{ name: 'note' }]);
  driver.close();
});

test.each([
  [['serve', 'nowhere.ts', 'x.db'], 1, /no schema module nowhere\.ts.*schema-invalid/],
  [
    ['serve', 'packages/cli/src/demo/scenario.ts', '/nowhere/x.db', '--port', '0'],
    1,
    /\/nowhere\/x\.db cannot be opened.*storage-refused/,
  ],
  [
    ['serve', 'packages/cli/src/demo/scenario.ts', ':memory:', '--host', '0.0.0.0'],
    1,
    /answers this machine only.*not-loopback/,
  ],
  [['serve', 'packages/cli/src/demo/scenario.ts', 'x.db', '--port', 'high'], 2, /whole number from 0 to 65535/],
  [['sreve'], 2, /unknown command 'sreve'/],
  [['--version'], 0, /^\d+\.\d+\.\d+/],
])('koinon %j ends with %i and says why', async (words, code, says) => {
  const child = koinon(...words);
  expect(await ended(child)).toBe(code);
  expect(child.output()).toMatch(says);
});

test('the demo tells its story on real files and ends well only because all three hold the same rows', async () => {
  const child = koinon('demo', '--exit', '--folder', join(folder, 'demo'));
  expect(await ended(child)).toBe(0);
  const story = child.output();
  expect(story).toMatch(/8 members, 20 sites, 200 hives, 2000 visits, 120 harvests/);
  expect(story).toMatch(/! Runa tries to sync: The server at \S+ cannot be reached/);
  expect(story).toMatch(/Teodor: sent 2 transactions; received 1 insert, 1 update\./);
  expect(story).toMatch(/All three hold the same 2347 rows, compared row by row\.\s*$/);
});
