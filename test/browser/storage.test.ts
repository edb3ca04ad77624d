import { execFileSync } from 'node:child_process';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from 'vitest';
import { openBrowser } from '../support/browser.ts';
import { launch } from '../support/chromium.ts';
import { scratch, serveApp } from '../support/serve.ts';
import { World } from '../support/world.ts';
import { orchard } from './page/orchard.ts';

// The storage of a page's data, in a real browser: refused, full, much, and when the browser is killed.

test.each([
  ['refused', 'private files are switched off'],
  ['closed to pages', 'gives no private files to this page (closed to pages)'],
])('where the browser gives no private files (%s) the replica works in memory, and says so', async (name, problem) => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate((given) => window.openReplica(given), name);
  await page.evaluate(() => window.replica.insert('tree', { kind: 'plum' }));
  expect(await page.evaluate(() => window.replica.count({ from: 'tree' }))).toBe(1);
  expect(await page.evaluate(() => window.replica.storage())).toMatchObject({
    kind: 'memory',
    problem: expect.stringContaining(problem),
  });
  expect(await page.evaluate(() => window.replica.status())).toMatchObject({ storage: 'memory' });
  await page.close();
});

test('files that another worker is about to let go of are waited for, whatever the browser calls that', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('open elsewhere'));
  expect(await page.evaluate(() => window.replica.storage())).toMatchObject({ kind: 'file', problem: null });
  await page.close();
});

test('the replicas of an origin are listed by the names that people give them, and deleted', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  for (const name of ['book 7', 'book 8 & more']) {
    await page.evaluate((given) => window.openReplica(given), name);
    await page.evaluate(() => window.replica.insert('tree', { kind: 'plum' }));
    await page.evaluate(() => window.replica.close());
  }
  const books = () =>
    page.evaluate(async () =>
      (await window.replicas.listReplicas())
        .filter(({ database }) => database.startsWith('book'))
        .map(({ database, name, size }) => [database, name, size > 10_000]),
    );
  await page.evaluate(() => window.replicas.renameReplica('book 8 & more', 'A book of Runa’s'));
  expect(await books()).toEqual([
    ['book 8 & more', 'A book of Runa’s', true],
    ['book 7', null, true],
  ]);
  const refused = await page.evaluate(() =>
    window.replicas.renameReplica('book 9', 'none').catch(({ code, message }) => `${code}: ${message}`),
  );
  expect(refused).toBe('storage-refused: There is no replica "book 9" on this origin.');
  await page.evaluate(() => window.replicas.deleteReplica('book 8 & more'));
  await page.evaluate(() => window.replicas.deleteReplica('book 9'));
  expect(await books()).toEqual([['book 7', null, true]]);
  await page.close();
});

test('an app whose WebAssembly file does not come says so', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.route('**/*.wasm', (route) => route.abort());
  await page.goto(url);
  const said = await page.evaluate(() =>
    window.openReplica('without').catch((error) => `${error.code}: ${error.message}`),
  );
  expect(said).toMatch(/^storage-refused: SQLite’s WebAssembly file cannot be loaded/);
  await page.close();
});

test('a full quota is a clear error, loses nothing, and is over when there is room again', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('full'));
  const save = (kind: string, length: number) =>
    page.evaluate(
      ([given, size]) =>
        window.replica.insert('tree', { kind: given + 'x'.repeat(size) }).then(
          () => 'saved',
          (error) => `${error.code}: ${error.message}`,
        ),
      [kind, length] as const,
    );
  expect(await save('before', 0)).toBe('saved');
  const devtools = await context.newCDPSession(page);
  const { origin } = new URL(url);
  const { usage } = await devtools.send('Storage.getUsageAndQuota', { origin });
  await devtools.send('Storage.overrideQuotaForOrigin', { origin, quotaSize: usage + 500_000 });
  expect(await save('too much', 3_000_000)).toMatch(/^storage-full: .*nothing was written/);
  expect(await page.evaluate(() => window.seen)).toEqual(['before 0']);
  await devtools.send('Storage.overrideQuotaForOrigin', { origin });
  expect(await save('after', 3_000_000)).toBe('saved');
  await page.reload();
  await page.evaluate(() => window.openReplica('full'));
  const kinds = await page.evaluate(async () =>
    (await window.replica.rows({ from: 'tree' })).map(({ kind }) => kind.slice(0, 6)),
  );
  expect(kinds).toEqual(['before', 'afterx']);
  await page.close();
});

test('50,000 rows are imported while a person types: each key is shown before the import is over', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('much'));
  const { saved, total } = await page.evaluate(async () => {
    const lines = Array.from(
      { length: 50_000 },
      (_, n) => `${JSON.stringify({ table: 'tree', row: { kind: `k${n % 97}`, age: n % 200 } })}\n`,
    );
    const importing = window.importTrees(lines);
    let isOver = false;
    void importing.then(() => {
      isOver = true;
    });
    const typed = await window.replica.insert('tree', { id: 'typed', kind: '' });
    const duringImport: boolean[] = [];
    for (const letter of 'quince') {
      await window.replica.update('tree', typed.id, ({ kind }) => ({ kind: kind + letter }));
      duringImport.push(!isOver);
    }
    await importing;
    return { saved: duringImport, total: await window.replica.count({ from: 'tree' }) };
  });
  expect(saved).toEqual(Array(6).fill(true));
  expect(total).toBe(50_001);
  await page.reload();
  await page.evaluate(() => window.openReplica('much'));
  expect(await page.evaluate(() => window.replica.get('tree', 'typed'))).toMatchObject({ kind: 'quince' });
  expect(await page.evaluate(() => window.replica.count({ from: 'tree' }))).toBe(50_001);
  await page.close();
});

test('rows are exported and imported in a page as they are in Node, in both formats', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('out and in'));
  await page.evaluate(() =>
    window.replica.insertAll('tree', [
      { id: 'a', kind: 'Größe, "quoted"\nand 🌳', age: 7 },
      { id: 'b', kind: '' },
    ]),
  );
  for (const format of ['csv', 'jsonl'] as const)
    expect(await page.evaluate((given) => window.takeTreesOutAndIn(given), format)).toEqual({ rows: 2, isSame: true });
  await page.close();
});

test('a page can keep a copy of its database, and another starts from it, as itself', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('original'));
  await page.evaluate(() => window.replica.insert('tree', { id: 'plum', kind: 'plum' }));
  const { identity, address } = await page.evaluate(async () => {
    const copy = new Blob([(await window.replica.copy()) as Uint8Array<ArrayBuffer>]);
    return { identity: (await window.replica.status()).replicaId, address: URL.createObjectURL(copy) };
  });
  await page.evaluate((from) => window.openReplica(`copied from ${from}`), address);
  const copied = await page.evaluate(async () => ({
    identity: (await window.replica.status()).replicaId,
    rows: await window.replica.rows({ from: 'tree', columns: ['kind'] }),
  }));
  expect(copied.rows).toEqual([{ id: 'plum', kind: 'plum' }]);
  expect(copied.identity).not.toBe(identity);
  await page.close();
});

test('what was acknowledged survives the browser being killed', async () => {
  const profile = scratch();
  const site = await serveApp(join(import.meta.dirname, 'page'));
  const first = await launch(profile);
  const page = await first.newPage();
  await page.goto(site.url);
  await page.evaluate(() => window.openReplica('killed'));
  for (let n = 0; n < 20; n++) await page.evaluate((id) => window.replica.insert('tree', { id, kind: id }), `t${n}`);
  execFileSync('pkill', ['-9', '-f', profile]);
  await first.close().catch(() => undefined);
  const second = await launch(profile);
  const again = await second.newPage();
  await again.goto(site.url);
  await again.evaluate(() => window.openReplica('killed'));
  expect(await again.evaluate(() => window.replica.count({ from: 'tree' }))).toBe(20);
  await second.close();
  await site.close();
  rmSync(profile, { recursive: true, force: true });
});

test('a photo comes as a File and as bytes, which stay the caller’s; both are read back whole', async () => {
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate(() => window.openReplica('photos'));
  const results = await page.evaluate(async () => {
    const given = new Uint8Array(300_000).map((_, i) => i % 251);
    const { replica } = window;
    const inserted = await replica.insert('photo', { image: new File([given], 'hive.jpg') });
    const second = await replica.insert('photo', { image: given });
    const draft = replica.draft();
    await draft.update('photo', second.id, { image: new Blob([given.subarray(0, 9)]) });
    await draft.commit();
    const images = (await replica.rows({ from: 'photo', order: 'id' })).map(({ image }) => image);
    return [given, inserted.image, second.image, ...images].map((image) => [
      image.length,
      image.reduce((a, b) => a + b),
    ]);
  });
  const whole = [300_000, results[0]?.[1]];
  expect(results).toEqual([whole, whole, whole, whole, [9, 36]]);
  await page.close();
});

test('what is erased is in none of the private files any more, though nobody has closed the replica', async () => {
  const world = await World.inTest(orchard);
  const office = await world.replica();
  await office.insertAll('tree', [{ kind: 'medlar' }, { kind: 'medlar' }]);
  await office.sync();
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate((name) => window.openReplica(name), `linked to ${world.server.url}`);
  /** In how many of the page's private files a word stands. */
  const filesWith = (word: string) =>
    page.evaluate(async (looked) => {
      const count = async (folder: FileSystemDirectoryHandle): Promise<number> => {
        let found = 0;
        for await (const handle of folder.values())
          if (handle.kind === 'directory') found += await count(handle);
          else if ((await (await handle.getFile()).text()).includes(looked)) found++;
        return found;
      };
      return count(await navigator.storage.getDirectory());
    }, word);
  expect(await page.evaluate(() => window.replica.sync())).toMatchObject({ received: 2 });
  expect(await filesWith('medlar')).toBeGreaterThan(0);
  expect(await page.evaluate(() => window.replica.unlink({ rows: 'erase' }))).toMatchObject({ erased: 2 });
  expect(await filesWith('medlar')).toBe(0);
  expect(await filesWith('SQLite format 3')).toBeGreaterThan(0);
  await page.close();
});
