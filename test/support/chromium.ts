import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { type BrowserContext, chromium } from 'playwright-core';

const places = [
  '/usr/bin/chromium',
  '/usr/bin/chromium-browser',
  '/usr/bin/google-chrome',
  '/usr/bin/google-chrome-stable',
];

/** The system's Chromium; on Debian as root it is installed when there is none. */
export function findChromium(): string {
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
