import { type ChildProcess, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { openNodeDriver, openReplica, type Replica } from '@koinon/client';
import { counter, errorStatus, schema, table, text } from '@koinon/core';
import { serveInProcess, sqliteStore } from '@koinon/server';
import type { BrowserContext } from 'playwright-core';
import { createServer, defaultClientConditions } from 'vite';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { launch } from '../support/chromium.ts';
import { scratch } from '../support/serve.ts';
import { newDatabase } from '../support/stores.ts';

// The code of the guide is put into the files that it names, and run as a reader would.

const root = join(import.meta.dirname, '../..');
const folder = scratch();
const running: ChildProcess[] = [];
let context: BrowserContext;
beforeAll(async () => {
  context = await launch(join(folder, 'profile'));
});
afterAll(async () => {
  await context.close();
  for (const child of running) child.kill();
  rmSync(folder, { recursive: true, force: true });
});

/** The functions of the guide's sign-in. */
interface Account {
  open(user: string): Promise<Replica<typeof keepers>>;
  signIn(name: string, password: string): Promise<void>;
  signOut(replica: Replica<typeof keepers>, rows: 'keep' | 'erase'): Promise<void>;
}

const apiary = schema({
  hive: table({ mark: text({ minimumLength: 1, maximumLength: 12, unique: true }), frames: counter({ minimum: 0 }) }),
});
const keepers = schema({ hive: table({ keeper: text(), mark: text(), frames: counter() }) });

/** Puts the blocks of pages into the files that their first lines name; a later page's take the place of an earlier one's. */
function files(name: string, ...pages: string[]): string {
  const app = join(folder, name);
  mkdirSync(join(app, 'src'), { recursive: true });
  symlinkSync(join(root, 'node_modules'), join(app, 'node_modules'));
  writeFileSync(join(app, 'package.json'), '{ "type": "module" }');
  for (const page of pages) {
    const guide = readFileSync(join(root, 'docs/guide', page), 'utf8');
    for (const [, block] of guide.matchAll(/^ *```(?:tsx?|html)\n([\s\S]*?)^ *```/gm)) {
      const [first, ...lines] = (block as string).split('\n') as [string, ...string[]];
      const path = /^ *(?:\/\/|<!--) ([\w./-]+\.\w+)(?:: .*)?(?: -->)?$/.exec(first)?.[1];
      if (path === undefined) continue;
      mkdirSync(dirname(join(app, path)), { recursive: true });
      writeFileSync(join(app, path), lines.join('\n'));
    }
  }
  return app;
}

/** Runs a file with Node, as `tsx` does. */
function start(app: string, words: readonly string[], environment: Readonly<Record<string, string>> = {}) {
  const child = spawn(process.execPath, ['--import', 'tsx', '--conditions=koinon-source', ...words], {
    cwd: app,
    env: { ...process.env, NODE_OPTIONS: '', ...environment },
  });
  let output = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (data) => (output += data));
  const ended = new Promise<number | null>((done) => child.on('close', done));
  running.push(child);
  return { child, output: () => output, ended };
}

/** The guide's server and its page. */
async function serve(app: string, environment: Readonly<Record<string, string>> = {}) {
  const port = String(20_000 + Math.floor(Math.random() * 20_000));
  process.env.PORT = port;
  const server = start(app, ['server.ts'], { PORT: port, APIARY_FILE: join(app, 'apiary.db'), ...environment });
  await expect.poll(server.output).toMatch(/The server answers/);
  const { page, end } = await pageOf(app);
  const office = await openNodeDriver({ file: join(app, 'apiary.db') });
  const close = async () => {
    await end();
    office.close();
  };
  return { server, page, office, close };
}

/** The page of an app, as `vite` serves it. */
async function pageOf(app: string) {
  const vite = await createServer({
    root: app,
    configFile: join(app, 'vite.config.ts'),
    logLevel: 'error',
    cacheDir: join(app, '.vite'),
    resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
    server: { port: 0, host: '127.0.0.1', fs: { strict: false } },
  });
  await vite.listen();
  const page = await context.newPage();
  page.on('pageerror', (error) => expect.unreachable(error.message));
  await page.goto(vite.resolvedUrls?.local[0] as string);
  const end = async () => {
    await page.close();
    await vite.close();
  };
  return { page, end };
}

test('the first app keeps rows on the device, and shares them with its server', async () => {
  const { server, page, office, close } = await serve(files('first', 'first-app.md'));
  await page.fill('input', 'A1');
  await page.click('text=Add a hive');
  await page.waitForSelector('li >> text=A1: 0 frames');
  await page.click('text=one more');
  await page.waitForSelector('li >> text=A1: 1 frames');
  const marks = () => office.prepare('SELECT mark, frames FROM hive ORDER BY mark').all();
  await expect.poll(marks).toMatchObject([{ mark: 'A1', frames: 1 }]);
  office.exec("INSERT INTO hive (id, mark, frames) VALUES ('office', 'B2', 7)");
  await page.waitForSelector('li >> text=B2: 7 frames');
  await page.fill('input', 'A1');
  await page.click('text=Add a hive');
  await expect.poll(() => page.textContent('[role=status]')).toMatch(/A1/);
  await close();
  server.child.kill('SIGTERM');
  expect(await server.ended).toBe(0);
});

test('the sign-in lets nobody in without a password, and each user have his own rows', async () => {
  const app = files('signed', 'first-app.md', 'signing-in.md');
  writeFileSync(
    join(app, 'src/app.ts'),
    "import * as account from './account.ts'; Object.assign(window, { account });",
  );
  const config = readFileSync(join(app, 'vite.config.ts'), 'utf8');
  writeFileSync(join(app, 'vite.config.ts'), config.replace("'/v1':", "'/session': { target }, '/v1':"));
  const { page, office, close } = await serve(app, { APIARY_SECRET: randomBytes(32).toString('base64url') });
  const seen = await page.evaluate(async () => {
    const { account } = window as never as { account: Account };
    const wrong = await account.signIn('runa', 'clover').catch((error: Error) => error.message);
    const replica = await account.open('runa');
    await replica.insert('hive', { keeper: 'runa', mark: 'A1' });
    const before = await replica.sync().catch((error: { code: string }) => error.code);
    await account.signIn('runa', 'heather');
    await replica.authChanged();
    await replica.insert('hive', { keeper: 'ilse', mark: 'B1' });
    const report = await replica.sync();
    const refused = (await replica.rejections()).flatMap(({ problems }) => problems.map(({ code }) => code));
    await account.signOut(replica, 'keep');
    return [wrong, before, report.up.applied <= 1, refused];
  });
  expect(seen).toEqual(['The name or the password is wrong.', 'not-authenticated', true, ['not-permitted']]);
  expect(office.prepare('SELECT keeper, mark FROM hive').all()).toMatchObject([{ keeper: 'runa', mark: 'A1' }]);
  await close();
});

test('the tests of the guide pass', async () => {
  const app = files('tested', 'first-app.md', 'testing.md');
  const { output, ended } = start(app, ['--test', 'local.test.ts', 'sync.test.ts', 'time.test.ts']);
  expect([await ended, output()]).toEqual([0, expect.stringMatching(/pass 3/)]);
});

test('the components of the page about browsers show rows, and edit one', async () => {
  const app = files('browser', 'browser.md');
  const written = {
    'schema.ts': `
      import { reference, schema, table, text } from '@koinon/core';
      export const apiary = schema({ site: table({ name: text() }), hive: table({ site: reference('site'), mark: text({ maximumLength: 4 }) }) });`,
    'main.tsx': `
      import { createRoot } from 'react-dom/client';
      import { EditHive, Hives } from './hives.tsx';
      import { replica } from './replica.ts';
      await replica.upsert('site', { id: 's', name: 'Tolver Down' });
      await replica.upsert('hive', { id: 'h', site: 's', mark: 'A1' });
      createRoot(document.body).render(<><Hives site="s" /><EditHive id="h" /></>);`,
    'tsconfig.json': '{ "compilerOptions": { "jsx": "react-jsx" } }',
    'index.html': '<!doctype html><body><script type="module" src="/main.tsx"></script></body>',
  };
  for (const [name, text] of Object.entries(written)) writeFileSync(join(app, name), text);
  const { page, end } = await pageOf(app);
  await page.waitForSelector('li >> text=A1');
  await page.fill('input', 'A1 by the gate');
  await page.waitForSelector('p >> text=at most 4 characters');
  await page.fill('input', 'A2');
  await page.click('button');
  await page.waitForSelector('li >> text=A2');
  await end();
});

test('live queries are what each framework takes, and end with it', async () => {
  const app = files('frameworks', 'first-app.md', 'frameworks.md');
  const check = `
    import assert from 'node:assert/strict';
    import { openReplica } from '@koinon/client';
    import { createRoot } from 'solid-js';
    import { effectScope } from 'vue';
    import { apiary } from './src/schema.ts';
    import { hiveForm } from './src/form.ts';
    import { draw } from './src/plain.ts';
    import { rows$ } from './src/rx.ts';
    import { fromLive } from './src/solid.ts';
    import { rowsOf } from './src/svelte.ts';
    import { useLive } from './src/vue.ts';
    const replica = await openReplica({ schema: apiary });
    const query = () => replica.live({ from: 'hive', order: 'mark' });
    const seen = { svelte: [], rx: [], plain: [] };
    const scope = effectScope();
    const vue = scope.run(() => useLive(query()));
    const [solid, endSolid] = createRoot((dispose) => [fromLive(query()), dispose]);
    const endSvelte = rowsOf(query()).subscribe((rows) => seen.svelte.push(rows.length));
    const rx = rows$(query()).subscribe((rows) => seen.rx.push(rows.length));
    const over = new AbortController();
    const plain = draw(query(), (rows) => seen.plain.push(rows.length), over.signal);
    const settled = () => new Promise((done) => setTimeout(done, 20));
    await settled();
    const { id } = await replica.insert('hive', { mark: 'A1' });
    await settled();
    assert.equal(vue.value[0].mark, 'A1');
    assert.equal(solid()[0].mark, 'A1');
    for (const counts of Object.values(seen)) assert.equal(counts.at(-1), 1);
    scope.stop(); endSolid(); endSvelte(); rx.unsubscribe(); over.abort();
    await replica.insert('hive', { mark: 'B2' });
    await settled();
    await plain;
    assert.equal(vue.value.length, 1);
    for (const counts of Object.values(seen)) assert.equal(counts.at(-1), 1);
    const form = hiveForm(replica, id);
    await form.set({ mark: 'B2' });
    assert.equal((await form.problems())[0].code, 'duplicate-value');
    await form.set({ mark: 'C3' });
    await form.save();
    assert.equal((await replica.get('hive', id)).mark, 'C3');
    await replica.close();`;
  writeFileSync(join(app, 'check.ts'), check);
  const { output, ended } = start(app, ['check.ts']);
  expect([await ended, output()]).toEqual([0, '']);
});

test('a server moves from SQLite to PostgreSQL; a device keeps its rows and sends what was unsent, once', async () => {
  const app = files('moved', 'first-app.md', 'moving-to-postgresql.md');
  const file = join(app, 'apiary.db');
  const store = await sqliteStore(apiary, file);
  const before = serveInProcess({ store });
  const device = { schema: apiary, file: join(app, 'device.db') };
  const phone = await openReplica({ ...device, server: before.connect() });
  const { id } = await phone.insert('hive', { mark: 'A1', frames: 2 });
  await phone.add('hive', id, 'frames', 3);
  await phone.sync();
  await phone.add('hive', id, 'frames', 10);
  for (const each of [phone, before, store]) await each.close();
  const database = await newDatabase('PostgreSQL', app);
  const copy = start(app, ['copy.ts'], { APIARY_FILE: file, DATABASE_URL: database.address });
  expect([await copy.ended, copy.output()]).toEqual([0, '1 rows of hive\n']);
  const moved = await database.open(apiary);
  const after = serveInProcess({ store: moved });
  const again = await openReplica({ ...device, server: after.connect() });
  expect((await again.get('hive', id))?.frames).toBe(15);
  await again.sync();
  expect(await again.status()).toMatchObject({ pending: 0, rejected: 0, conflicted: 0 });
  expect((await again.get('hive', id))?.frames).toBe(15);
  const shell = await database.shell();
  expect(await shell.all('SELECT mark, frames FROM hive')).toEqual([{ mark: 'A1', frames: 15 }]);
  for (const each of [shell, again, after, moved]) await each.close();
  await database.drop();
});

test('the reference names every error once, with its status', () => {
  const page = readFileSync(join(root, 'docs/reference/errors.md'), 'utf8');
  const named = [...page.matchAll(/^\| `([\w-]+)` +\| (\d+)/gm)].map(([, code, status]) => [code, Number(status)]);
  expect(Object.fromEntries(named)).toEqual(errorStatus);
  expect(named).toHaveLength(Object.keys(errorStatus).length);
});

test('the reference names every finding of the check', () => {
  const files = [
    'checks/database.ts',
    'checks/server.ts',
    'checks/replica.ts',
    'checks/compare.ts',
    'commands/check.ts',
  ];
  const sources = files.map((file) => readFileSync(join(root, 'packages/cli/src', file), 'utf8')).join();
  const made = [...sources.matchAll(/\b(?:warning|failure)\(\s*'([a-z-]+)'/g)].map(([, name]) => name as string);
  const page = readFileSync(join(root, 'docs/reference/findings.md'), 'utf8');
  const listed = [...page.matchAll(/^\| `([a-z-]+)`/gm)].map(([, name]) => name as string);
  expect([...new Set(made)].sort()).toEqual(listed.sort());
});

test('links between the documents lead somewhere, and to a heading that is there', () => {
  const files = readdirSync(join(root, 'docs'), { recursive: true }).map((name) => join('docs', String(name)));
  const pages = [
    'README.md',
    'CONTRIBUTING.md',
    ...files.filter((name) => name.endsWith('.md') && !/declarations/.test(name)),
  ];
  const anchorsOf = (text: string) =>
    [...text.matchAll(/^#+ (.+)$/gm)].map(([, title]) =>
      (title as string)
        .toLowerCase()
        .replace(/[^\w\s-]/g, '')
        .replaceAll(' ', '-'),
    );
  expect(pages.length).toBeGreaterThan(60);
  for (const page of pages)
    for (const [, target, anchor] of readFileSync(join(root, page), 'utf8').matchAll(
      /\]\((?!https?:)([^)#\s]*)(?:#([^)]+))?\)/g,
    )) {
      const file = target === '' ? page : join(dirname(page), target as string);
      expect(existsSync(join(root, file)), `${page}: ${target}`).toBe(true);
      if (anchor !== undefined)
        expect(anchorsOf(readFileSync(join(root, file), 'utf8')), `${page}: ${target}`).toContain(anchor);
    }
});
