import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { startServer } from '@koinon/server';
import { launch, type Page } from 'puppeteer-core';
import { expect, test } from 'vitest';
import { findFirefox } from '../support/installed.ts';
import { scratch, serveApp } from '../support/serve.ts';
import { World } from '../support/world.ts';
import { orchard } from './page/orchard.ts';

// Firefox lets only one worker have a private file open, and asks the user before it promises to keep anything.

test('in Firefox tabs share one database, which outlives its tab and the browser, and syncs', async () => {
  const [profile, site] = [scratch(), await serveApp(join(import.meta.dirname, 'page'))];
  const world = await World.of(orchard);
  const server = await startServer({ store: await world.database.open(orchard), port: 0 });
  const start = () =>
    launch({ browser: 'firefox', executablePath: findFirefox(), headless: true, userDataDir: profile });
  const opened = async (page: Page) => {
    await page.goto(site.url);
    await page.evaluate((name) => window.openReplica(name), `shared linked to ${server.url}`);
    return page;
  };
  const seen = (page: Page) => expect.poll(() => page.evaluate(() => window.seen));
  const pick = (page: Page) =>
    page.evaluate(async () => (await window.replica.add('tree', 'plum', 'picked', 1)).picked);

  let browser = await start();
  const [one, two] = [await opened(await browser.newPage()), await opened(await browser.newPage())];
  await one.evaluate(() => window.replica.insert('tree', { id: 'plum', kind: 'plum' }));
  await pick(two);
  for (const page of [one, two]) await seen(page).toEqual(['plum 1']);
  expect(await one.evaluate(() => window.replica.storage())).toMatchObject({
    kind: 'file',
    problem: null,
    isPersistent: false,
  });
  const owner = (await one.evaluate(() => window.isOwner)) ? one : two;
  await owner.close();
  const other = owner === one ? two : one;
  expect(await pick(other)).toBe(2);
  await other.evaluate(() => window.replica.sync());
  const office = await world.shell();
  expect(await office.all('SELECT id, kind, picked FROM tree')).toEqual([{ id: 'plum', kind: 'plum', picked: 2 }]);
  browser.process()?.kill('SIGKILL');
  await browser.close().catch(() => undefined);

  browser = await start();
  const again = await opened(await browser.newPage());
  await seen(again).toEqual(['plum 2']);
  for (const format of ['csv', 'jsonl'] as const)
    expect(await again.evaluate((given) => window.takeTreesOutAndIn(given), format)).toEqual({ rows: 1, isSame: true });
  await browser.close();
  await server.close();
  await world.end();
  await site.close();
  rmSync(profile, { recursive: true, force: true });
});
