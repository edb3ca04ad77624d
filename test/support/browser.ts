import { rmSync } from 'node:fs';
import { join } from 'node:path';
import type { Port } from '@koinon/client';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll } from 'vitest';
import { launch } from './chromium.ts';
import { scratch, serveApp } from './serve.ts';

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
