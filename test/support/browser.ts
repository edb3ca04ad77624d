import { execFileSync } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Port } from '@koinon/client';
import { type BrowserContext, chromium, type Page } from 'playwright-core';
import { build, preview } from 'vite';
import { afterAll } from 'vitest';

const places = [
  '/usr/bin/chromium',
  '/usr/bin/chromium-browser',
  '/usr/bin/google-chrome',
  '/usr/bin/google-chrome-stable',
];

/** The system's Chromium; on Debian as root it is installed when there is none. */
function findChromium(): string {
  const given = process.env.KOINON_TEST_CHROMIUM;
  const find = () => [given, ...places].find((path) => path !== undefined && existsSync(path));
  const found = find();
  if (found !== undefined) return found;
  if (process.getuid?.() === 0 && existsSync('/usr/bin/apt-get')) {
    console.log('No Chromium found: installing Debian’s package `chromium` for the browser tests …');
    const environment = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
    execFileSync('apt-get', ['update', '-qq'], { env: environment, stdio: 'ignore' });
    execFileSync('apt-get', ['install', '-y', '-qq', 'chromium'], { env: environment, stdio: 'ignore' });
  }
  const installed = find();
  if (installed !== undefined) return installed;
  throw new Error(
    'The browser tests need Chromium. Install it (Debian: apt-get install chromium), or name one in KOINON_TEST_CHROMIUM.',
  );
}

/** Starts a Chromium with a profile of its own. */
export async function launch(profile: string): Promise<BrowserContext> {
  return chromium.launchPersistentContext(profile, {
    executablePath: findChromium(),
    headless: true,
    viewport: { width: 1280, height: 800 },
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
}

/** A folder that is gone after the tests. */
export function scratch(): string {
  return mkdtempSync(join(tmpdir(), 'koinon-browser-'));
}

/** Builds an app with Vite and serves what came out. */
export async function serveApp(root: string): Promise<{ readonly url: string; close(): Promise<void> }> {
  const outDir = scratch();
  const shared = { root, logLevel: 'error', build: { outDir, emptyOutDir: true } } as const;
  await build(shared);
  const server = await preview({ ...shared, preview: { port: 0, host: '127.0.0.1' } });
  return {
    url: server.resolvedUrls?.local[0] as string,
    async close() {
      await server.close();
      rmSync(outDir, { recursive: true, force: true });
    },
  };
}

/** A browser with the test page open. */
interface OpenBrowser {
  readonly context: BrowserContext;
  readonly page: Page;
  readonly url: string;
}

let open: Promise<OpenBrowser & { close(): Promise<void> }> | undefined;

/** The browser of this test file, started when first asked for, and closed after the last test. */
export function openBrowser(): Promise<OpenBrowser> {
  open ??= (async () => {
    const profile = scratch();
    const site = await serveApp(join(import.meta.dirname, '../browser/page'));
    const context = await launch(profile);
    const page = context.pages()[0] ?? (await context.newPage());
    await page.goto(site.url);
    const close = async () => {
      await context.close();
      await site.close();
      rmSync(profile, { recursive: true, force: true });
    };
    return { context, page, url: site.url, close };
  })();
  return open;
}

afterAll(async () => {
  await (await open)?.close();
  open = undefined;
});

/** Starts a worker of the contract tests in a page, and gives the port to it on this side. */
export async function bridge(page: Page, name: string): Promise<Port> {
  const listeners: ((message: unknown) => void)[] = [];
  await page.exposeFunction(`answer ${name}`, (message: unknown) => {
    for (const listener of listeners) listener(message);
  });
  await page.evaluate((given) => window.startWorker(given), name);
  let last: Promise<unknown> = Promise.resolve();
  return {
    postMessage(message) {
      // As a real port does, what cannot be cloned is refused at once.
      const sent = structuredClone(message);
      last = last.then(() =>
        page.evaluate(([to, what]) => window.workers[to]?.postMessage(what), [name, sent] as const),
      );
    },
    on: (event, listener) => (event === 'message' ? listeners.push(listener) : undefined),
  };
}
