import type { Page } from 'playwright-core';
import { expect, test } from 'vitest';
import { openBrowser } from '../support/browser.ts';
import { runs } from '../support/runs.ts';

// Several tabs over one database, in a real browser: closed, killed, hidden, frozen, left.

let databases = 0;

/** A database of its own, and the function that opens it in one more tab. */
async function database() {
  const { context, url } = await openBrowser();
  const name = `orchard ${++databases}`;
  const pages: Page[] = [];
  const tab = async (version = ''): Promise<Page> => {
    const page = await context.newPage();
    pages.push(page);
    await page.goto(url);
    await page.evaluate((given) => window.openReplica(given), name + version);
    return page;
  };
  const end = async () => {
    for (const page of pages) if (!page.isClosed()) await page.close();
  };
  return { name, tab, url, end };
}

const insert = (page: Page, id: string) =>
  page.evaluate((given) => window.replica.insert('tree', { id: given, kind: given }), id);
const pick = (page: Page, id: string, amount = 1) =>
  page.evaluate(([tree, n]) => window.replica.add('tree', tree, 'picked', n), [id, amount] as const);
const picked = (page: Page, id: string) =>
  page.evaluate(async (given) => (await window.replica.get('tree', given))?.picked, id);
/** The tab that runs the database, and the others. */
async function ownerOf(...pages: Page[]): Promise<[owner: Page, ...others: Page[]]> {
  for (;;) {
    const owning = await Promise.all(pages.map((page) => page.evaluate(() => window.isOwner)));
    const owner = pages[owning.indexOf(true)];
    if (owner && owning.filter(Boolean).length === 1) return [owner, ...pages.filter((page) => page !== owner)];
  }
}
const crash = (page: Page) => page.goto('chrome://crash').catch(() => undefined);

test('every tab has the same live rows, events and writes; what was written is there after a reload', async () => {
  const { tab, name, end } = await database();
  const [one, two] = [await tab(), await tab()];
  // On a busy machine one tab may be overtaking the other as it opens: what is written in that moment nobody may hear of.
  await ownerOf(one, two);
  await insert(one, 'plum');
  await pick(two, 'plum', 3);
  for (const page of [one, two]) {
    await expect.poll(() => page.evaluate(() => window.seen)).toEqual(['plum 3']);
    expect(await page.evaluate(() => window.heard)).toEqual(['insert plum 0 device', 'update plum 3 device']);
  }
  await expect(two.evaluate(() => window.replica.insert('tree', { id: 'plum', kind: 'x' }))).rejects.toThrow('plum');
  await one.reload();
  await one.evaluate((given) => window.openReplica(given), name);
  expect(await picked(one, 'plum')).toBe(3);
  const storage = await one.evaluate(() => window.replica.storage());
  expect(storage).toMatchObject({ kind: 'file', problem: null, isPersistent: expect.any(Boolean) });
  expect([storage.quota, storage.usage].every((bytes) => (bytes ?? 0) > 0)).toBe(true);
  await end();
});

test.each(['closed', 'crashed'])(
  'when the tab that runs the database is %s another takes over, and its queries stay live',
  async (how) => {
    const { tab, end } = await database();
    const [one, two, three] = [await tab(), await tab(), await tab()];
    await insert(one, 'plum');
    await (how === 'closed' ? one.close() : crash(one));
    await pick(two, 'plum', 2);
    await pick(three, 'plum', 2);
    for (const page of [two, three]) await expect.poll(() => page.evaluate(() => window.seen)).toEqual(['plum 4']);
    await end();
  },
);

test('history 18: the owner dies right after committing an increment whose caller waits in another tab: counted once', async () => {
  const { tab, end } = await database();
  const [one, two] = (await ownerOf(await tab(), await tab())) as [Page, Page];
  await insert(one, 'plum');
  await expect.poll(() => two.evaluate(() => window.seen)).toEqual(['plum 0']);
  await one.evaluate(() => window.worker.postMessage({ dieAfterCommit: true }));
  const answered = await two.evaluate(async () => {
    const row = await window.replica.add('tree', 'plum', 'picked', 5);
    return row.picked;
  });
  expect([answered, await picked(two, 'plum')]).toEqual([5, 5]);
  await end();
});

test('a transaction whose owner died after its commit is known to be done; one that had not ended may be run again', async () => {
  const { tab, end } = await database();
  const [one, two] = (await ownerOf(await tab(), await tab())) as [Page, Page];
  await insert(one, 'plum');
  const run = (page: Page) =>
    page.evaluate(() =>
      window.replica
        .transaction(async (transaction) => {
          await transaction.add('tree', 'plum', 'picked', 1);
          await transaction.insert('row', { id: crypto.randomUUID(), name: crypto.randomUUID() });
          await window.reached();
        })
        .then(
          () => 'done',
          (error) => `${error.code}: ${error.message}`,
        ),
    );
  let befalls: () => Promise<unknown> = () =>
    one.evaluate(() => void window.worker.postMessage({ dieAfterCommit: true }));
  await two.exposeFunction('reached', () => befalls());
  expect(await run(two)).toBe('done');
  expect(await picked(two, 'plum')).toBe(1);
  let [done, said, last] = [0, 'done', two];
  // A busy machine may let the transaction through: one tab overtook the other, or a closed tab's worker lived a moment longer.
  for (; said === 'done'; done++) {
    const next = await tab();
    await next.exposeFunction('reached', () => befalls());
    const [owner, other] = (await ownerOf(last, next)) as [Page, Page];
    befalls = () => owner.close();
    said = await run(other);
    last = other;
  }
  expect(said).toMatch(/^replica-moved: .*safe to run it again/);
  expect([await picked(last, 'plum'), await last.evaluate(() => window.replica.count({ from: 'row' }))]).toEqual([
    done,
    done,
  ]);
  await end();
});

test('a tab that goes in the middle of a transaction rolls it back and frees the queue', async () => {
  const { tab, end } = await database();
  const [one, two] = [await tab(), await tab()];
  await insert(one, 'plum');
  await two.evaluate(
    () =>
      new Promise<void>((inside) => {
        void window.replica.transaction(async (transaction) => {
          await transaction.add('tree', 'plum', 'picked', 1);
          inside();
          await new Promise(() => undefined);
        });
      }),
  );
  const waiting = pick(one, 'plum', 10);
  await crash(two);
  expect((await waiting).picked).toBe(10);
  await end();
});

test('a hidden tab hands the database over to one that is seen', async () => {
  const { tab, end } = await database();
  const [one, two] = [await tab(), await tab()];
  await insert(one, 'plum');
  await one.evaluate(() => window.hide(true));
  await pick(two, 'plum');
  // The hidden tab's worker and page may stand still now; nobody waits for them.
  const hung = one.evaluate(() => window.hang(2_500));
  const before = Date.now();
  await pick(two, 'plum');
  expect(Date.now() - before, 'two owns the database by now').toBeLessThan(2_000);
  await hung;
  await pick(one, 'plum');
  expect(await picked(two, 'plum')).toBe(3);
  // What the tabs follow goes on with the other owner.
  for (const page of [one, two]) await expect.poll(() => page.evaluate(() => window.seen)).toEqual(['plum 3']);
  await end();
});

test('an owner that stands still is overtaken, and when it wakes it writes nothing and goes on through the other', async () => {
  const { tab, end } = await database();
  const [one, two] = [await tab(), await tab()];
  await insert(one, 'plum');
  await pick(two, 'plum');
  const hung = one.evaluate(() => {
    window.hang(7_000);
    // Asked of its own worker before that can know what happened meanwhile.
    return window.replica.add('tree', 'plum', 'picked', 100);
  });
  await pick(two, 'plum', 10);
  expect(await picked(two, 'plum')).toBe(11);
  expect((await hung).picked).toBe(111);
  for (const page of [one, two]) await expect.poll(() => page.evaluate(() => window.seen)).toEqual(['plum 111']);
  await end();
});

test('a tab with the app’s next version takes the database over and brings it up; the old tab goes on through it', async () => {
  const { tab, end } = await database();
  const old = await tab();
  await insert(old, 'plum');
  const newer = await tab(', version 2');
  expect(await newer.evaluate(() => window.replica.count({ from: 'basket' as never }))).toBe(0);
  await pick(old, 'plum', 2);
  await expect.poll(() => newer.evaluate(() => window.seen)).toEqual(['plum 2']);
  // Without the newer one the old app may not open what was brought up, and says so; the data is untouched.
  await newer.close();
  const refused = await old.evaluate(() => window.replica.count({ from: 'tree' }).catch((error) => error.code));
  expect(refused).toBe('schema-newer');
  expect(await picked(await tab(', version 2'), 'plum')).toBe(2);
  await end();
});

test('a tab that closes its replica hands the database over; its own calls are refused, the others go on', async () => {
  const { tab, end } = await database();
  const [one, two] = [await tab(), await tab()];
  await insert(one, 'plum');
  // A call that was made before is done before it is closed.
  const asked = pick(one, 'plum', 3);
  await one.evaluate(() => window.replica.close());
  expect((await asked).picked).toBe(3);
  expect((await pick(two, 'plum', 4)).picked).toBe(7);
  const refused = await one.evaluate(() => window.replica.count({ from: 'tree' }).catch((error) => error.code));
  expect(refused).toBe('replica-closed');
  await one.evaluate(() => window.replica.close());
  await expect.poll(() => two.evaluate(() => window.seen)).toEqual(['plum 7']);
  await end();
});

test('a worker that cannot be started is a clear error, and not a page that waits for ever', async () => {
  const { tab, end } = await database();
  const page = await tab();
  const failed = await page.evaluate(() => window.connectTo('/there-is-no-such-worker.js'));
  expect(failed).toMatch(/^replica-closed: The replica's worker cannot run/);
  await end();
});

test('what is saved while the page is left is there at the next opening, once', async () => {
  const { tab, name, url, end } = await database();
  const page = await tab();
  await insert(page, 'plum');
  await page.evaluate(async (next) => {
    const draft = window.replica.draft();
    await draft.insert('tree', { id: 'fig', kind: 'fig' });
    for (let n = 0; n < 30; n++) void window.replica.add('tree', 'plum', 'picked', 1);
    addEventListener('pagehide', () => {
      void draft.commit();
      void window.replica.insert('tree', { id: 'last', kind: 'last' });
    });
    // Too busy to take any of it in before the page is gone.
    window.worker.postMessage({ hang: 5_000 });
    location.assign(`${next}?again`);
  }, url);
  await page.waitForURL(/again/);
  await page.evaluate((given) => window.openReplica(given), name);
  await expect.poll(() => page.evaluate(() => window.seen)).toEqual(['fig 0', 'last 0', 'plum 30']);
  expect(await page.evaluate(() => Object.keys(localStorage))).toEqual([]);
  await end();
});

test('whatever befalls the tabs, each increment that was acknowledged is counted, and none twice', async () => {
  const { numRuns } = runs(2);
  for (let run = 0; run < numRuns; run++) {
    const { tab, end } = await database();
    const pages = [await tab(), await tab(), await tab()];
    await insert(pages[0] as Page, 'plum');
    let acknowledged = 0;
    let unknown = 0;
    const clicks: Promise<unknown>[] = [];
    for (let step = 0; step < 40; step++) {
      const n = (run * 7 + step * 5) % pages.length;
      const page = pages[n] as Page;
      const fate = (run * 13 + step * 11) % 17;
      if (fate === 0) await page.close();
      else if (fate === 1) await crash(page);
      else if (fate === 2) await page.evaluate(() => window.hide(true));
      else if (fate === 3) await page.evaluate(() => window.hide(false));
      else
        clicks.push(
          pick(page, 'plum').then(
            () => acknowledged++,
            () => unknown++,
          ),
        );
      if (fate < 2) pages[n] = await tab();
    }
    await Promise.all(clicks);
    const count = (await picked(await tab(), 'plum')) as number;
    expect(acknowledged).toBeGreaterThan(20);
    expect(count).toBeGreaterThanOrEqual(acknowledged);
    expect(count).toBeLessThanOrEqual(acknowledged + unknown);
    await end();
  }
});

test('a call on the replica inside of its own transaction: the transaction is rolled back, and the stray call is never carried out', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('stray'));
  await page.evaluate(() => window.replica.insert('tree', { id: 'plum', kind: 'plum' }));
  const codes = await page.evaluate(async () => {
    let stray: Promise<unknown> = Promise.resolve();
    const whole = window.replica.transaction(async (transaction) => {
      await transaction.update('tree', 'plum', { kind: 'torn' });
      stray = window.replica.insert('tree', { id: 'stray', kind: 'stray' });
      await stray;
    });
    const code = (error: { readonly code?: string }) => error.code;
    return [await whole.then(() => 'done', code), await stray.then(() => 'done', code)];
  });
  expect(codes).toEqual(['transaction-stalled', 'transaction-stalled']);
  expect(await page.evaluate(() => window.seen)).toEqual(['plum 0']);
  await page.evaluate(() => window.replica.update('tree', 'plum', { kind: 'damson' }));
  await expect.poll(() => page.evaluate(() => window.seen)).toEqual(['damson 0']);
  await page.close();
});
