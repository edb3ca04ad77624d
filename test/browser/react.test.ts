import type { Page } from 'playwright-core';
import { expect, test } from 'vitest';
import { openBrowser } from '../support/browser.ts';

// The hooks under StrictMode and concurrent rendering, in a real browser, over a replica in a worker.

async function mounted(name: string): Promise<Page> {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate((given) => window.openReplica(given), name);
  await page.evaluate(async () => {
    await window.replica.insertAll('tree', [
      { id: 'plum', kind: 'plum' },
      { id: 'fig', kind: 'fig' },
    ]);
    window.mountTrees();
  });
  return page;
}
const shown = (page: Page) => page.evaluate(() => [window.mounted.shown, window.mounted.one, window.mounted.followed]);

test('components show one result per query, never torn, through changes and changed queries, and follow nothing in the end', async () => {
  const page = await mounted('react rows');
  // Two components share the list; the row and the form share the row.
  await expect.poll(() => shown(page)).toEqual([['fig', 'plum'], 'plum', 2]);
  await page.evaluate(async () => {
    for (let n = 0; n < 40; n++) {
      void window.replica.insert('tree', { kind: `k${n}` });
      if (n % 3 === 0) window.mounted.filter(n % 2 === 0 ? 'plum' : undefined);
      await new Promise((done) => setTimeout(done, 2));
    }
    window.mounted.filter('k7');
  });
  await expect.poll(() => shown(page)).toEqual([['k7'], 'plum', 2]);
  await page.evaluate(() => window.mounted.filter(null));
  await expect.poll(() => shown(page)).toEqual([[], 'plum', 1]);
  expect(await page.evaluate(() => window.mounted.torn)).toBe(0);
  await page.evaluate(() => window.mounted.unmount());
  await expect.poll(() => page.evaluate(() => window.mounted.followed)).toBe(0);
  await page.close();
});

test('a form edits in memory, says what is wrong and what changed underneath, and saves or drops', async () => {
  const page = await mounted('react form');
  const form = () =>
    page.evaluate(() => {
      const { row, changed, problems, overtaken, ready, exists } = window.mounted.form;
      return {
        kind: row.kind,
        age: row.age,
        changed,
        problems: problems.map((p) => [p.column, p.code]),
        overtaken,
        ready,
        exists,
      };
    });
  const set = (patch: object) => page.evaluate((given) => window.mounted.form.set(given), patch);
  await expect.poll(form).toMatchObject({ kind: 'plum', age: null, changed: [], ready: true, exists: true });
  await set({ kind: 'damson' });
  expect(await form(), 'at once').toMatchObject({ kind: 'damson', changed: ['kind'] });
  await set({ kind: 'plum' });
  expect(await form(), 'typed back').toMatchObject({ changed: [] });
  await set({ kind: 'damson', age: 1.5 });
  await expect.poll(form).toMatchObject({ problems: [['age', 'value-type']] });
  expect(await page.evaluate(() => window.mounted.form.save())).toBeUndefined();
  expect(await page.evaluate(() => window.replica.get('tree', 'plum'))).toMatchObject({ kind: 'plum' });
  await page.evaluate(() => window.replica.update('tree', 'plum', { kind: 'gage' }));
  await expect.poll(form).toMatchObject({ overtaken: [{ column: 'kind', was: 'plum', is: 'gage' }] });
  await set({ age: 2 });
  await expect.poll(form).toMatchObject({ problems: [] });
  expect(await page.evaluate(() => window.mounted.form.save())).toMatchObject({ kind: 'damson', age: 2 });
  await expect.poll(form).toMatchObject({ kind: 'damson', age: 2, changed: [], overtaken: [] });
  await set({ kind: 'quince' });
  await page.evaluate(() => window.mounted.form.drop());
  await expect.poll(form).toMatchObject({ kind: 'damson', changed: [] });
  await page.evaluate(() => window.replica.delete('tree', 'plum'));
  await expect.poll(form).toMatchObject({ exists: false });
  await page.close();
});

test('bytes are looked for and edited; a form for a new row shows what the schema fills in', async () => {
  const page = await mounted('react bytes');
  const forms = () =>
    page.evaluate(() => {
      const { newTree, newPhoto } = window.mounted;
      return [newTree.row.kind, newTree.row.picked, newTree.changed, [...(newPhoto.row.image ?? [])], newPhoto.changed];
    });
  await expect.poll(forms).toEqual(['seedling', 0, [], [1, 2, 3], []]);
  await page.evaluate(() => window.replica.insert('photo', { id: 'other', image: new Uint8Array([1, 2]) }));
  await page.evaluate(() => window.mounted.newPhoto.save());
  await expect.poll(() => page.evaluate(() => window.mounted.photos.length)).toBe(1);
  await page.evaluate(() => window.mounted.newPhoto.set({ image: new Uint8Array([9]) }));
  await expect
    .poll(forms)
    .toMatchObject([{}, {}, [], [9], ['image']].map((each, i) => (i < 2 ? expect.anything() : each)));
  await page.evaluate(() => window.mounted.newTree.save());
  expect(await page.evaluate(() => window.replica.count({ from: 'tree', where: { kind: 'seedling' } }))).toBe(1);
  await page.close();
});
