import { type BrowserContext, chromium } from 'playwright-core';
import { findChromium } from './installed.ts';

/** Starts a Chromium with a profile of its own; a page on a busy machine has two minutes for each thing asked of it. */
export async function launch(profile: string): Promise<BrowserContext> {
  const context = await chromium.launchPersistentContext(profile, {
    timeout: 120_000,
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
  context.setDefaultTimeout(120_000);
  return context;
}
