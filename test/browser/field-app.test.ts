import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { cooperative, demoRows, officeActions, officeRules } from '@koinon/demo';
import { folderStorage, sqliteStore, startServer } from '@koinon/server';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { launch } from '../support/chromium.ts';
import { scratch, serveApp } from '../support/serve.ts';

// The field app and the starter as a person uses them, in a real browser.

const profile = scratch();
let context: BrowserContext;
let app: Awaited<ReturnType<typeof serveApp>>;
let starter: Awaited<ReturnType<typeof serveApp>>;
const examples = join(import.meta.dirname, '../../examples');

/** The target of the app's requests for a server; one is there only in the test that starts it. */
const serverUrl = 'http://127.0.0.1:4291';
beforeAll(async () => {
  process.env.KOINON_SERVER = serverUrl;
  app = await serveApp(join(examples, 'field-app'));
  starter = await serveApp(join(examples, 'starter'));
  context = await launch(profile);
});
afterAll(async () => {
  await context.close();
  await app.close();
  await starter.close();
  rmSync(profile, { recursive: true, force: true });
});

/** A page of the app, with a phone's screen; whatever it reports as an error fails the test. */
async function open(path = '/', url = app.url): Promise<Page> {
  const page = await context.newPage();
  await page.setViewportSize({ width: 390, height: 844 });
  page.on('pageerror', (error) => expect.unreachable(error.message));
  await page.goto(`${url}#${path}`);
  return page;
}

const button = (page: Page, name: string) => page.getByRole('button', { name, exact: true });
const shows = (page: Page, text: string) => page.getByText(text).first().waitFor();
const gone = (page: Page, text: string) => page.getByText(text).first().waitFor({ state: 'detached' });

test('a day in the field: find, add, edit, count, delete, undo, all kept over a reload', async () => {
  const page = await open();
  await page.getByLabel('Search sites').fill('marrow');
  await page.getByRole('link', { name: /Marrowfen/ }).click();
  await button(page, 'Add a hive').click();
  await page.getByLabel('Mark').fill('zz9');
  await button(page, 'Save').click();
  await shows(page, 'The hive is saved.');
  await page.getByRole('link', { name: /Hive ZZ9/ }).click();
  for (let n = 0; n < 5; n++) await button(page, 'One frame more').click();
  await button(page, 'One frame less').click();
  await expect.poll(() => page.getByTestId('frames').textContent()).toBe('4');

  await button(page, 'Add a visit').click();
  await page.getByLabel('Mites').fill('12');
  await button(page, 'Save').click();
  await shows(page, 'Please fill this in.');
  await page.getByRole('combobox', { name: 'Who' }).click();
  await page.getByRole('option', { name: 'Runa Vesterholt' }).click();
  await button(page, 'Save').click();
  await shows(page, '12 mites');

  await button(page, 'Edit the hive').click();
  await page.getByRole('textbox', { name: 'Notes' }).fill('gentle');
  await button(page, 'Save').click();
  await shows(page, 'gentle');
  await button(page, 'Undo').click();
  await gone(page, 'gentle');

  await button(page, 'Delete the hive').click();
  await page.getByRole('link', { name: /Hive ZZ9/ }).waitFor({ state: 'detached' });
  await button(page, 'Undo').click();
  await shows(page, 'Hive ZZ9');
  await page.reload();
  await page.getByRole('link', { name: /Hive ZZ9/ }).click();
  await shows(page, '12 mites');
  await expect.poll(() => page.getByTestId('frames').textContent()).toBe('4');
  await page.close();
});

test('leaving a form with edits asks: stay, drop or save; what is refused stays in the form', async () => {
  const page = await open('/hive/hive-002');
  await button(page, 'Edit the hive').click();
  const notes = page.getByRole('textbox', { name: 'Notes' });
  await notes.fill('first');
  await button(page, 'Back').click();
  await button(page, 'Stay here').click();
  await expect.poll(() => notes.inputValue()).toBe('first');
  await page.goBack();
  await button(page, 'Drop the edits').click();
  await page.getByText('Frames today').waitFor();
  await gone(page, 'first');
  await button(page, 'Edit the hive').click();
  await notes.fill('second');
  await button(page, 'Back').click();
  await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
  await shows(page, 'Frames today');
  await shows(page, 'second');
  await page.getByRole('dialog').waitFor({ state: 'detached' });

  await page.goto(`${app.url}#/site/site-01/edit`);
  await page.getByLabel('Name').fill('Ellerbank');
  await button(page, 'Save').click();
  await shows(page, 'There is another one of that name.');
  await button(page, 'Back').click();
  await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
  await page.getByRole('dialog').waitFor({ state: 'detached' });
  await expect.poll(() => page.getByLabel('Name').inputValue()).toBe('Ellerbank');
  await button(page, 'Drop edits').click();
  await button(page, 'Back').click();
  await shows(page, 'Marrowfen');
  await page.close();
});

test('two tabs show the same; an edit sees what the other changed underneath; a referenced site is not deleted', async () => {
  const one = await open('/hive/hive-003/edit');
  const two = await open('/hive/hive-003/edit');
  await one.getByRole('textbox', { name: 'Notes' }).fill('from one');
  await two.getByRole('textbox', { name: 'Notes' }).fill('from two');
  await button(two, 'Save').click();
  await shows(one, 'notes is now from two');
  await button(one, 'Save').click();
  await shows(two, 'from one');
  await two.goto(`${app.url}#/site/site-02`);
  await button(two, 'Delete the site').click();
  await shows(two, 'Not done');
  await one.close();
  await two.close();
});

test('without a network the app opens, with its data, and can be used by keyboard alone', async () => {
  const first = await open();
  await first.evaluate(async () => void (await navigator.serviceWorker.ready));
  // The service worker has to have taken everything in before the network goes.
  await expect.poll(() => first.evaluate(async () => (await caches.keys()).length)).toBeGreaterThan(0);
  await first.close();
  await context.setOffline(true);
  const page = await open();
  await shows(page, 'Carrick Mire');
  await page.reload();
  await shows(page, 'Carrick Mire');
  await page.getByLabel('Search sites').focus();
  await page.keyboard.type('quill');
  await page.getByRole('link', { name: /Quill Moss/ }).focus();
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { name: 'Quill Moss' }).waitFor();
  await context.setOffline(false);
  await page.close();
});

/** A picture of 640 by 480 points, drawn in the page. */
const picture = async (page: Page) =>
  Buffer.from(
    await page.evaluate(async () => {
      const canvas = new OffscreenCanvas(640, 480);
      const context = canvas.getContext('2d') as OffscreenCanvasRenderingContext2D;
      const sky = context.createLinearGradient(0, 0, 640, 480);
      sky.addColorStop(0, '#f4c95d');
      sky.addColorStop(1, '#5b3a1a');
      context.fillStyle = sky;
      context.fillRect(0, 0, 640, 480);
      const bytes = new Uint8Array(await (await canvas.convertToBlob()).arrayBuffer());
      return btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(''));
    }),
    'base64',
  );

test('two devices and the office: typed without a signal, sent when there is one, seen by the other', async () => {
  const office = await sqliteStore(cooperative, join(profile, 'office.db'));
  const server = await startServer({
    ...{ store: office, rules: officeRules, actions: officeActions, port: Number(new URL(serverUrl).port) },
    files: folderStorage(join(profile, 'files')),
  });
  await office.write(async (writer) => {
    const { member, site, hive, plant } = demoRows();
    const rows = [
      ...member.map((row) => ['member', row] as const),
      ...site.map((row) => ['site', row] as const),
      ...hive.map((row) => ['hive', row] as const),
      ...plant.map((row) => ['plant', row] as const),
    ];
    await writer.attempts.withSavepoint(crypto.randomUUID(), Date.now(), async () => {
      await writer.apply(
        rows.map(([table, { id, ...columns }]) => ({ kind: 'insert' as const, table, id, columns })),
        'device',
      );
      return [];
    });
  });
  const device = (name: string, path: string) => open(path, `${app.url}?server&name=${name}`);
  let one = await device('one', '/hive/hive-001/edit');
  const two = await device('two', '/hive/hive-001');
  await shows(two, 'Ellerbank');
  await shows(one, 'All sent');
  await context.setOffline(true);
  await one.getByRole('textbox', { name: 'Notes' }).fill('typed in the valley');
  await button(one, 'Save').click();
  await one.getByRole('button', { name: 'No signal, 1 unsent' }).waitFor();
  await context.setOffline(false);
  await one.getByRole('button', { name: 'All sent' }).waitFor();
  await two.getByRole('button', { name: 'All sent' }).click();
  await button(two, 'Sync now').click();
  await two.getByText('1 hive', { exact: true }).waitFor();
  await two.getByRole('button', { name: 'Back' }).click();
  await two.goto(`${app.url}?server&name=two#/hive/hive-001`);
  await shows(two, 'typed in the valley');
  // Both change the same two columns while apart: the second one to sync is asked.
  await context.setOffline(true);
  for (const [page, notes] of [
    [one, 'calm'],
    [two, 'restless'],
  ] as const) {
    await page.goto(`${page.url().split('#')[0]}#/hive/hive-002/edit`);
    await page.getByRole('textbox', { name: 'Notes' }).fill(notes);
    await page.getByLabel('Mark').fill(notes.toUpperCase());
    await button(page, 'Save').click();
    await page.getByRole('button', { name: 'No signal, 1 unsent' }).waitFor();
  }
  await context.setOffline(false);
  // Which of the two was first is chance.
  const asked = await Promise.race(
    [one, two].map((page) =>
      page
        .getByRole('button', { name: '1 to decide' })
        .waitFor()
        .then(() => page),
    ),
  );
  await asked.getByRole('button', { name: '1 to decide' }).click();
  const card = asked.getByRole('region', { name: /Hive (hive-002|CALM|RESTLESS)/ });
  await card
    .getByRole('radiogroup', { name: 'notes' })
    .getByLabel(/Theirs/)
    .click();
  await card.getByRole('radiogroup', { name: 'mark' }).getByLabel('Other').click();
  await card.getByLabel('Another mark').fill('AGREED');
  await card.getByRole('button', { name: 'Use this' }).click();
  await shows(asked, 'Nothing waits for you.');
  await asked.getByRole('button', { name: 'All sent' }).waitFor();
  const shell = await openNodeDriver({ file: join(profile, 'office.db'), readOnly: true });
  const mine = asked === one ? 'calm' : 'restless';
  await expect
    .poll(() => shell.prepare("SELECT mark, notes FROM hive WHERE id = 'hive-002'").get())
    .toEqual({ mark: 'AGREED', notes: mine === 'calm' ? 'restless' : 'calm' });
  // The office refuses a weight; the reason stands at its field, and what is corrected goes through.
  await one.goto(`${app.url}?server&name=one#/hive/hive-004/visit`);
  await one.getByRole('combobox', { name: 'Who' }).click();
  await one.getByRole('option', { name: 'Runa Vesterholt' }).click();
  await one.getByLabel('Weight, kg').fill('315');
  await button(one, 'Save').click();
  await one.getByText('Refused', { exact: true }).waitFor();
  await one.getByRole('button', { name: '1 to decide' }).click();
  await shows(one, 'No hive weighs 315 kg; is there a digit too many?');
  await button(one, 'Edit it').click();
  await shows(one, 'No hive weighs 315 kg; is there a digit too many?');
  await one.getByLabel('Weight, kg').fill('31.5');
  await gone(one, 'No hive weighs 315 kg');
  await button(one, 'Save').click();
  await one.getByRole('button', { name: 'All sent' }).waitFor();
  // Deleted and sent; brought back from the trash.
  const hives = () => (shell.prepare("SELECT count(*) AS n FROM hive WHERE id = 'hive-005'").get() as { n: number }).n;
  await one.goto(`${app.url}?server&name=one#/hive/hive-005`);
  await button(one, 'Delete the hive').click();
  await expect.poll(hives).toBe(0);
  await one.goto(`${app.url}?server&name=one#/trash`);
  await one.getByRole('button', { name: /^Bring Hive .* back$/ }).click();
  await shows(one, 'Nothing was deleted.');
  await expect.poll(hives).toBe(1);
  // The office moves hives: it is asked without a signal, and refuses one of two.
  await context.setOffline(true);
  const choose = async (site: string) => {
    await one.getByRole('combobox', { name: 'To the site' }).fill(site.slice(0, 6));
    await one.getByRole('option', { name: site }).click();
    await button(one, 'Ask the office').click();
  };
  for (const [hive, site] of [
    ['hive-006', 'Thrapple Hill'],
    ['hive-007', 'Brackwater'],
  ] as const) {
    await one.goto(`${app.url}?server&name=one#/hive/${hive}`);
    await button(one, 'Move the hive').click();
    await choose(site);
    await shows(one, `The office is asked to move it to ${site}`);
  }
  await context.setOffline(false);
  await one.getByRole('button', { name: '1 to decide' }).click();
  await shows(one, 'Brackwater is closed; no hive is brought there.');
  await button(one, 'Choose another site').click();
  await choose('Carrick Mire');
  await one.getByRole('button', { name: 'All sent' }).waitFor();
  await one.goto(`${app.url}?server&name=one#/hive/hive-006`);
  await shows(one, 'Move 1: to Thrapple Hill');
  expect(
    shell.prepare("SELECT site, number FROM hive JOIN movement ON hive = hive.id WHERE hive = 'hive-007'").get(),
  ).toEqual({
    site: 'site-10',
    number: 2,
  });
  // A photo that is taken without a signal: the row and the small picture come first, the large one when somebody opens it.
  await one.goto(`${app.url}?server&name=one#/hive/hive-001`);
  await button(one, 'Add a visit').click();
  await one.getByRole('combobox', { name: 'Who' }).click();
  await one.getByRole('option', { name: 'Runa Vesterholt' }).click();
  await one.getByRole('textbox', { name: 'Notes' }).fill('a swarm in the birch');
  await context.setOffline(true);
  await one
    .locator('input[type=file]')
    .setInputFiles([{ name: 'swarm.png', mimeType: 'image/png', buffer: await picture(one) }]);
  await shows(one, 'Not sent yet');
  await button(one, 'Save').click();
  await one.getByRole('link', { name: /a swarm in the birch/ }).click();
  await one.getByRole('button', { name: 'Show the photo' }).waitFor();
  const visit = (await one.evaluate(() => location.hash)).replace('#/visit/', '');
  await one.goto(`${app.url}?server&name=one#/waiting`);
  await one.getByRole('region', { name: 'Photos to send' }).getByText('swarm.png').waitFor();
  await shows(one, 'waits for its visit');
  // The page is closed before it could send it.
  await one.close();
  await context.setOffline(false);
  // It goes up when the app is opened again, whatever page that shows.
  one = await device('one', '/');
  await two.getByRole('button', { name: 'All sent' }).click();
  await button(two, 'Sync now').click();
  await two.goto(`${app.url}?server&name=two#/visit/${visit}`);
  await two.getByRole('img', { includeHidden: true }).first().waitFor({ state: 'attached' });
  await shows(two, 'On the server');
  await one.goto(`${app.url}?server&name=one#/visit/${visit}`);
  await one.getByText('Sent', { exact: true }).waitFor();
  await two.getByRole('button', { name: 'Show the photo' }).click();
  const large = two.getByAltText('The photo as it was taken');
  await large.waitFor();
  await expect.poll(() => large.evaluate((image: HTMLImageElement) => image.naturalWidth)).toBe(640);
  // The tab that sends is closed in the middle: another one goes on (F12).
  const heir = await device('one', `/visit/${visit}`);
  await one.route('**/v1/uploads/*', (route) => (route.request().method() === 'PATCH' ? undefined : route.continue()));
  await one
    .locator('input[type=file]')
    .setInputFiles([{ name: 'queen.png', mimeType: 'image/png', buffer: await picture(one) }]);
  await shows(one, 'Sending');
  await one.close();
  await expect.poll(() => heir.getByText('Sent', { exact: true }).count(), { timeout: 90_000 }).toBe(2);
  one = heir;
  // A phone with little space takes one site along, whose size it is told before. What is only on the server is looked up there.
  const three = await open('/site/site-01', `${app.url}?server&sparing&name=three`);
  await three.getByText(/hives with their visits: \d+ rows, about \d+ kB/).waitFor();
  await three.getByRole('group', { name: 'The weather at this site' }).getByText('11 °C').waitFor();
  await shows(three, 'No hive is on this device.');
  await button(three, 'Take this site along').click();
  await three
    .getByRole('link', { name: /^Hive / })
    .first()
    .waitFor();
  await shows(three, 'is on your phone');
  await button(three, 'Let it go').click();
  await shows(three, 'This site is not on your phone');
  await three.goto(`${app.url}?server&sparing&name=three#/plants`);
  await three.getByRole('combobox', { name: 'In bloom' }).click();
  await three.getByRole('option', { name: 'All year' }).click();
  await three.getByLabel('Name').fill('WILLOW');
  await shows(three, 'Goat willow');
  await shows(three, '2 plants');
  const writing = await openNodeDriver({ file: join(profile, 'office.db') });
  writing.exec("UPDATE plant SET nectar = 1 WHERE name = 'Goat willow'");
  writing.close();
  await shows(three, 'Nectar 1 of 4');
  shell.close();
  await server.close();
  await three.reload();
  await shows(three, 'The catalogue is out of reach');
  await three.close();
  await one.goto(`${app.url}?server&name=one#/hive/hive-001`);
  await button(one, 'One frame more').click();
  await one.getByRole('button', { name: /Trying again .*, 1 unsent/ }).waitFor();
  await one.close();
  await two.close();
}, 400_000);

test('the starter adds, counts, refuses a mark that is taken, and keeps it all', async () => {
  const page = await open('', starter.url);
  const add = async (mark: string) => {
    await page.getByLabel('Mark of a new hive').fill(mark);
    await button(page, 'Add').click();
  };
  await add('B7');
  await shows(page, 'B7: 0 frames');
  await button(page, 'One more').click();
  await shows(page, 'B7: 1 frames');
  await add('B7');
  await expect.poll(() => page.getByRole('status').textContent()).toContain('B7');
  await page.reload();
  await shows(page, 'B7: 1 frames');
  await page.close();
});
