import { readdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { brotliCompressSync } from 'node:zlib';
import type { BrowserContext, Page } from 'playwright-core';
import { launch } from '../test/support/chromium.ts';
import { buildApp, serveApp } from '../test/support/serve.ts';
import type { BenchRow, Reach } from './measure.ts';
import { folderOf } from './served.ts';

/** A page of a Vite app in a browser of its own. */
async function open(
  root: string,
): Promise<{ context: BrowserContext; page: Page; url: string; close(): Promise<void> }> {
  const profile = folderOf();
  const site = await serveApp(root);
  const context = await launch(profile);
  const page = await context.newPage();
  await page.goto(site.url);
  return {
    context,
    page,
    url: site.url,
    async close() {
      await context.close();
      await site.close();
      rmSync(profile, { recursive: true, force: true });
    },
  };
}

const benchPage = join(import.meta.dirname, 'browser');
const examples = join(import.meta.dirname, '../examples');
const rows = 100_000;
const imported = 100_000;
const photo = 5_000_000;

/** Work inside the worker, bare and by Koinon, on private files. */
function inWorker(row: string, work: 'bulk' | 'scan', filled: number, reach: Reach): BenchRow {
  return {
    row,
    unit: 'rows/s',
    reach,
    rounds: 5,
    async prepare() {
      const { page, close } = await open(benchPage);
      await page.evaluate((size) => window.bench.side('prepare', size), filled);
      const side = (which: 'Floor' | 'Koinon') => async () =>
        (rows / (await page.evaluate(([name, n]) => window.bench.side(name, n), [`${work}${which}`, rows] as const))) *
        1000;
      return { floor: side('Floor'), koinon: side('Koinon'), close };
    },
  };
}

const read: BenchRow = {
  row: 'browser-read',
  unit: 'reads/s',
  reach: { least: 5_000, of: 'figure' },
  rounds: 5,
  async prepare() {
    const { page, close } = await open(benchPage);
    await page.evaluate(() => window.bench.side('prepare', 1_000));
    await page.evaluate(() => window.bench.connect());
    return {
      floor: () => page.evaluate(() => window.bench.bareReads(5_000)),
      koinon: () => page.evaluate(() => window.bench.reads(5_000)),
      close,
    };
  },
};

/** The time that a save takes the thread that draws, while it imports. */
function save(row: string, times: number, bytes: number): BenchRow {
  return {
    row,
    unit: 'ms of the main thread, p99',
    reach: { most: 1, of: 'figure' },
    rounds: 3,
    async prepare() {
      const { page, close } = await open(benchPage);
      await page.evaluate(() => window.bench.connect());
      return {
        floor: () => page.evaluate(([n, size]) => window.bench.bareSaves(n, size), [times, bytes] as const),
        koinon: () => page.evaluate(([size, rows]) => window.bench.saves(size, rows), [bytes, imported] as const),
        close,
      };
    },
  };
}

const shown: BenchRow = {
  row: 'browser-shown',
  unit: 'ms until on the page, p95',
  // The floor is the time from frame to frame.
  reach: { most: 1 },
  rounds: 3,
  async prepare() {
    const { page, close } = await open(benchPage);
    await page.evaluate(() => window.bench.connect());
    return {
      floor: () => page.evaluate(() => window.bench.frames(100)),
      koinon: () => page.evaluate(() => window.bench.shown(200)),
      close,
    };
  },
};

const coldLoad: BenchRow = {
  row: 'browser-cold',
  unit: 'ms to the first list, 10,000 visits stored',
  reach: { most: 1_000, of: 'figure' },
  rounds: 5,
  async prepare() {
    const { context, page, url, close } = await open(join(examples, 'field-app'));
    const list = (on: Page) => on.getByRole('link', { name: /Carrick Mire/ }).waitFor();
    await list(page);
    await page.close();
    const full = await context.newPage();
    await full.goto(`${url}?name=bench&visits=10000`);
    await list(full);
    await full.close();
    const load = async (address: string) => {
      const cold = await context.newPage();
      await cold.goto('about:blank');
      // Measured by the page's own clock, which begins with the navigation.
      await cold.addInitScript(() => {
        new MutationObserver((_, observer) => {
          if (document.querySelector('li') === null) return;
          observer.disconnect();
          requestAnimationFrame(() => performance.mark('first list'));
        }).observe(document, { subtree: true, childList: true });
      });
      await cold.goto(address, { waitUntil: 'commit' });
      await list(cold);
      const time = await cold.evaluate(() => performance.getEntriesByName('first list')[0]?.startTime as number);
      await cold.close();
      return time;
    };
    // The floor is the same app over its usual 2,000 visits.
    return { floor: () => load(url), koinon: () => load(`${url}?name=bench`), close };
  },
};

const size: BenchRow = {
  row: 'browser-size',
  unit: 'kB of the starter, compressed',
  reach: { most: 40, of: 'figure' },
  rounds: 1,
  async prepare() {
    const folder = await buildApp(join(examples, 'starter'));
    const read = (name: string) => readFileSync(join(folder, 'assets', name));
    // The page and the worker, with what they import at once; what is loaded only when it is used does not count.
    const begun = readdirSync(join(folder, 'assets')).filter((name) => /^(index|worker)-.*\.js$/.test(name));
    const imported = begun.flatMap((name) =>
      [
        ...read(name)
          .toString()
          .matchAll(/from"\.\/([\w-]+\.js)"/g),
      ].map((match) => match[1] as string),
    );
    const files = [...new Set([...begun, ...imported])];
    const total = (sizeOf: (name: string) => number) => files.reduce((sum, name) => sum + sizeOf(name), 0) / 1000;
    return {
      // The floor is the same, not compressed.
      floor: () => total((name) => read(name).length),
      koinon: () => total((name) => brotliCompressSync(read(name)).length),
      close: async () => rmSync(folder, { recursive: true, force: true }),
    };
  },
};

/** The rows of the browser part. */
export const browserRows: readonly BenchRow[] = [
  inWorker('browser-bulk', 'bulk', 0, { least: 0.6 }),
  inWorker('browser-scan', 'scan', rows, { least: 0.7 }),
  read,
  save('browser-save', 1_000, 0),
  save('browser-save-5MB', 100, photo),
  shown,
  coldLoad,
  size,
];
