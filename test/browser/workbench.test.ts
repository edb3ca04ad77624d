import { spawn } from 'node:child_process';
import { rmSync } from 'node:fs';
import { cp, mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { launch } from '../support/chromium.ts';
import { buildApp, scratch } from '../support/serve.ts';

// Two devices and the server's tables side by side, and the office's board: what the demo leaves up, in a real browser.

const folder = scratch();
const examples = join(import.meta.dirname, '../../examples');
const main = join(examples, 'demo/src/demo.ts');
let context: BrowserContext;
let url: string;
let stop: () => Promise<void>;
beforeAll(async () => {
  for (const name of ['workbench', 'field-app', 'board']) {
    const built = await buildApp(join(examples, name));
    await mkdir(join(folder, 'pages', name), { recursive: true });
    await cp(built, join(folder, 'pages', name, 'dist'), { recursive: true });
    rmSync(built, { recursive: true, force: true });
  }
  const demo = spawn(
    process.execPath,
    [
      '--import',
      'tsx',
      '--conditions=koinon-source',
      main,
      '--folder',
      join(folder, 'demo'),
      '--pages',
      join(folder, 'pages'),
      '--page-port',
      '0',
    ],
    { stdio: ['ignore', 'pipe', 'inherit'] },
  );
  url = await new Promise((told) => {
    let said = '';
    demo.stdout.on('data', (text) => {
      said += text;
      const [, address] = /Open (http:\S+) for two devices/.exec(said) ?? [];
      if (address) told(address);
    });
  });
  stop = () =>
    new Promise((done) => {
      demo.once('exit', () => done());
      demo.kill('SIGINT');
    });
  context = await launch(join(folder, 'profile'));
});
afterAll(async () => {
  await context.close();
  await stop();
  rmSync(folder, { recursive: true, force: true });
});

const device = (page: Page, name: 'runa' | 'teodor') => page.frameLocator(`#frame-${name}`);
const state = (page: Page, name: string) => page.getByTestId(`state-${name}`).textContent();
const isLive = (page: Page, name: string) => expect.poll(() => state(page, name)).toMatch(/^live$/);
const shows = (page: Page, name: 'runa' | 'teodor', text: string | RegExp) =>
  device(page, name).getByText(text).first().waitFor({ timeout: 20_000 });
const log = (page: Page) => page.getByRole('log');

test('both online, one apart, both apart, refused, and direct SQL: every screen has it, and the log tells what travelled', async () => {
  const page = await context.newPage();
  page.on('pageerror', (error) => expect.unreachable(error.message));
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.goto(url);
  await isLive(page, 'runa');
  await isLive(page, 'teodor');
  await page.getByRole('button', { name: '1 Both see it' }).click();
  await shows(page, 'teodor', /queen laying well/);
  await page
    .locator('[data-row="hive-001"]')
    .getByText(/queen laying/)
    .waitFor();
  await log(page)
    .getByText(/shows hive hive-001 \d+ ms after the edit/)
    .first()
    .waitFor();
  await log(page)
    .getByText(/UPDATE "hive" SET "notes" = 'queen laying/)
    .waitFor();

  await page.getByRole('button', { name: '2 One apart' }).click();
  await expect.poll(() => state(page, 'teodor')).not.toMatch(/^live$/);
  await isLive(page, 'teodor');
  for (const name of ['runa', 'teodor'] as const) await shows(page, name, /syrup given/);
  for (const name of ['runa', 'teodor'] as const) await shows(page, name, /strength 3 of 10/);

  // Without a signal the server does not even hear what is said.
  const heard = await page.evaluate(async () => {
    const post = (path: string, body: object) =>
      fetch(path, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });
    const changes = [
      { kind: 'insert', table: 'member', id: 'unheard', columns: { name: 'Nobody', village: 'Nowhere' } },
    ];
    const transaction = { id: crypto.randomUUID(), editedAt: new Date().toISOString(), own: [], changes };
    const push = { replica: crypto.randomUUID(), base: null, transactions: [transaction] };
    const isAnswered = () =>
      post('/signal/teodor/v1/push', push).then(
        () => true,
        () => false,
      );
    await post('/workbench/signal', { device: 'teodor', isOn: false });
    const apart = await isAnswered();
    const found = await post('/workbench/sql', { sql: "SELECT count(*) AS n FROM member WHERE id = 'unheard'" });
    await post('/workbench/signal', { device: 'teodor', isOn: true });
    return { apart, rows: ((await found.json()) as { rows: unknown[] }).rows };
  });
  expect(heard).toEqual({ apart: false, rows: [{ n: 0 }] });

  await page.getByRole('button', { name: '3 Both apart' }).click();
  const asked = page.getByRole('img', { name: '1 to decide' }).or(page.locator('[aria-label="1 to decide"]'));
  await asked.first().waitFor({ timeout: 30_000 });
  await log(page).getByText('is asked to decide').first().waitFor();

  await page.getByRole('button', { name: '4 Refused' }).click();
  await page.locator('[aria-label="1 refused"]').waitFor({ timeout: 30_000 });
  await device(page, 'runa').getByText('Refused', { exact: true }).waitFor();

  await page.getByLabel('SQL on the server’s database').fill("UPDATE hive SET notes = 'by hand' WHERE id = 'hive-001'");
  await page.getByRole('button', { name: 'Run SQL' }).click();
  await expect.poll(() => page.getByTestId('sql-answer').textContent()).toBe('1 rows written');
  await shows(page, 'teodor', 'by hand');
  await page.getByLabel('SQL on the server’s database').fill('UPDATE nothing');
  await page.getByRole('button', { name: 'Run SQL' }).click();
  await expect.poll(() => page.getByTestId('sql-answer').textContent()).toMatch(/syntax|incomplete/);

  const board = await context.newPage();
  await board.goto(`${url}/board/`);
  await board.getByText('Live', { exact: true }).waitFor({ timeout: 30_000 });
  const today = async () => Number(await board.getByTestId('Visits today').textContent());
  await expect
    .poll(async () => Number(await board.getByTestId('Visits in 30 days').textContent()))
    .toBeGreaterThan(200);
  const before = await today();
  const now = new Date().toISOString();
  await board.evaluate(
    async ([sql]) => {
      await fetch('/workbench/sql', {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ sql }),
      });
    },
    [
      `INSERT INTO visit (id, hive, member, at, queenSeen, brood, mites) VALUES ('today', 'hive-003', 'member-01', '${now}', 1, 'even', 21)`,
    ],
  );
  await expect.poll(today).toBe(before + 1);
  await board.locator('[data-visit="today"]').waitFor();
  const refused = await context.request.post(`${url}/workbench/sql`, {
    data: { sql: 'SELECT 1' },
    headers: { origin: 'http://elsewhere.example' },
  });
  expect(refused.status()).toBe(403);
});

/** How many books of a browser have a content of this name; with `write` each of them gets one. */
const contents = (page: Page, write: boolean) =>
  page.evaluate(async (write) => {
    const all = await (await navigator.storage.getDirectory()).getDirectoryHandle('koinon-files');
    let found = 0;
    for await (const [, entry] of all.entries()) {
      const folder = entry as FileSystemDirectoryHandle;
      if (write) await folder.getFileHandle('photo.bin', { create: true });
      for await (const name of folder.keys()) if (name === 'photo.bin') found++;
    }
    return found;
  }, write);

test('a book begun without an account goes along when its member signs in, gets his part, and is turned off and on with its choices', async () => {
  const page = await context.newPage();
  page.on('pageerror', (error) => expect.unreachable(error.message));
  const book = `${url}/field/?members=/member/runa&name=begun&blank`;
  const button = (name: string) => page.getByRole('button', { name, exact: true });
  const chosen = async (label: string, name: string) => {
    await page.getByRole('combobox', { name: label }).click();
    await page.getByRole('option', { name }).click();
  };
  const onServer = async (sql: string) => {
    const body = JSON.stringify({ sql });
    const headers = { 'content-type': 'application/json' };
    const answer = await fetch(`${url}/workbench/sql`, { method: 'POST', headers, body });
    return ((await answer.json()) as { rows: Record<string, unknown>[] }).rows;
  };
  await page.goto(`${book}#/site/new`);
  await page.getByLabel('Name').fill('Test Rise');
  await chosen('Keeper', 'Ilse Karrow');
  await page.getByLabel('Latitude').fill('54.1');
  await page.getByLabel('Longitude').fill('-2.2');
  await button('Save').click();
  await page.getByRole('link', { name: /Test Rise/ }).waitFor();
  expect(await onServer("SELECT id FROM site WHERE name = 'Test Rise'")).toEqual([]);

  await page.goto(`${book}#/device`);
  await chosen('Sign in as', 'Ilse Karrow');
  await page.getByText('All sent').first().waitFor();
  await expect
    .poll(() => onServer("SELECT keeper FROM site WHERE name = 'Test Rise'"))
    .toEqual([{ keeper: 'member-03' }]);
  await page
    .getByText(/27 hives/)
    .first()
    .waitFor();
  await page.goto(`${book}&member=member-03#/tools`);
  await page.getByLabel('How many of smoker').waitFor();

  await page.goto(`${book}&member=member-03#/device`);
  await button('Turn sync off…').click();
  const before = await contents(page, true);
  await page.getByLabel('is erased from it').check();
  await page.getByRole('dialog').getByRole('button', { name: 'Turn sync off' }).click();
  await page.getByText(/rows left this device/).waitFor();
  // The contents of photos go with the rows, of this book alone.
  await expect.poll(() => contents(page, false)).toBe(before - 1);
  await page.getByRole('link', { name: 'Field book' }).or(page.getByLabel('Field book: to the sites')).first().click();
  await page.getByText('No sites yet.').waitFor();
  await page.goto(`${book}&member=member-03#/device`);
  await button('Turn sync on again').click();
  await page.getByLabel('Field book: to the sites').click();
  await page.getByRole('link', { name: /Test Rise/ }).waitFor();
  // Another member, on the same device: another book, and other hives.
  await page.goto(`${url}/field/?members=/member/runa&name=begun&member=member-02#/hive/hive-001`);
  const [hive] = await onServer("SELECT keeper FROM hive JOIN site ON site.id = hive.site WHERE hive.id = 'hive-001'");
  await page
    .getByText(hive?.keeper === 'member-02' ? /strength/ : 'Not here any more')
    .first()
    .waitFor();
});
