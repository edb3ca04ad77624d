import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, expect, test } from 'vitest';
import { launch } from '../support/chromium.ts';
import { scratch } from '../support/serve.ts';

// From an empty folder to a row on a second device: with the packages as npm would publish them, and nothing of this repository.

const root = join(import.meta.dirname, '../..');
const folder = scratch();
afterAll(() => rmSync(folder, { recursive: true, force: true }));

test('the template’s files are those of the guide', () => {
  const guide = readFileSync(join(root, 'docs/guide/first-app.md'), 'utf8');
  const files = [...guide.matchAll(/^```(?:ts|html)\n(?:\/\/|<!--) ([\w./-]+)(?: -->)?\n([\s\S]*?)^```/gm)];
  expect(files.length).toBe(6);
  for (const [, path, content] of files)
    expect(content, path).toBe(readFileSync(join(root, 'packages/create/template', path as string), 'utf8'));
});

test('an app that is made from the packages keeps a row, and another device gets it', async () => {
  const started = performance.now();
  const npm = (words: string[], cwd: string) => execFileSync('npm', words, { cwd, encoding: 'utf8', stdio: 'pipe' });
  const names = ['core', 'client', 'server', 'create'];
  npm(['pack', '--silent', '--pack-destination', folder, ...names.flatMap((name) => ['-w', `packages/${name}`])], root);
  const packed = names.map((name) =>
    join(folder, readdirSync(folder).find((file) => file.startsWith(`koinon-${name}-`)) as string),
  );
  const quick = ['--silent', '--prefer-offline', '--no-audit', '--no-fund'];
  mkdirSync(join(folder, 'tool'));
  npm(['install', ...quick, '--prefix', '.', packed.at(-1) as string], join(folder, 'tool'));
  const create = (...words: string[]) =>
    execFileSync(process.execPath, [join(folder, 'tool/node_modules/@koinon/create/dist/create.js'), ...words], {
      cwd: folder,
      encoding: 'utf8',
      stdio: 'pipe',
    });
  expect(create('My bees')).toMatch(/cd "My bees"[\s\S]*npm run server/);
  expect(create('--help')).toContain('npm create @koinon <folder>');
  expect(() => create('My bees')).toThrow(/is not empty.*nothing was changed/);
  expect(() => create()).toThrow(/npm create @koinon <folder>/);
  expect(() => create('My bees/server.ts')).toThrow(/is a file.*nothing was changed/);
  const app = join(folder, 'My bees');
  expect(JSON.parse(readFileSync(join(app, 'package.json'), 'utf8'))).toMatchObject({ name: 'my-bees' });
  npm(['install', ...quick, ...packed.slice(0, 3)], app);
  npm(['run', '--silent', 'check'], app);

  const port = String(20_000 + Math.floor(Math.random() * 20_000));
  const run = (script: string, ...words: string[]) =>
    spawn('npm', ['run', '--silent', script, ...(words.length > 0 ? ['--', ...words] : [])], {
      cwd: app,
      env: { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1', PORT: port },
      detached: true,
    });
  const children = [run('server'), run('page', '--port', String(Number(port) + 1), '--host', '127.0.0.1')];
  try {
    const printed = children.map(() => '');
    for (const [i, { stdout, stderr }] of children.entries())
      for (const stream of [stdout, stderr]) stream?.on('data', (data) => (printed[i] += data));
    await expect.poll(() => printed.join()).toMatch(/The server answers[\s\S]*http/);
    const devices = await Promise.all(['one', 'two'].map((name) => launch(join(folder, name))));
    const [one, two] = await Promise.all(devices.map((device) => device.newPage()));
    for (const page of [one, two]) await page?.goto(`http://127.0.0.1:${Number(port) + 1}/`);
    await one?.fill('input', 'A1');
    await one?.click('text=Add a hive');
    await two?.waitForSelector('li >> text=A1: 0 frames');
    console.log(
      `From an empty folder to a row on a second device: ${Math.round((performance.now() - started) / 1000)} s`,
    );
    for (const device of devices) await device.close();
  } finally {
    for (const { pid } of children) if (pid !== undefined) process.kill(-pid);
  }
});
