import { readFileSync, rmSync } from 'node:fs';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { launch } from '../support/chromium.ts';
import { scratch, serveApp } from '../support/serve.ts';

// Every page of the examples by the rules of WCAG 2.2, levels A and AA, as far as a program can look at them: light on a
// desktop, and dark on a phone.

const examples = join(import.meta.dirname, '../../examples');
const axe = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');
const profile = scratch();
let context: BrowserContext;
const sites = new Map<string, { readonly url: string; close(): Promise<void> }>();
beforeAll(async () => {
  for (const name of ['field-app', 'starter', 'board', 'workbench'])
    sites.set(name, await serveApp(join(examples, name)));
  context = await launch(profile);
});
afterAll(async () => {
  await context.close();
  for (const site of sites.values()) await site.close();
  rmSync(profile, { recursive: true, force: true });
});

/** Everything that breaks a rule on a page, one line each. */
async function violationsOn(page: Page): Promise<readonly string[]> {
  await page.evaluate(axe);
  return page.evaluate(async () => {
    const { axe } = window as never as { axe: { run(options: object): Promise<{ violations: Violation[] }> } };
    const tags = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'];
    const { violations } = await axe.run({ runOnly: { type: 'tag', values: tags } });
    return violations.flatMap(({ id, nodes }) =>
      nodes.map(
        ({ target, failureSummary }) => `${id}: ${target.join(' ')} ${failureSummary.split('\n').at(-1)?.trim()}`,
      ),
    );
  });
}

interface Violation {
  readonly id: string;
  readonly nodes: readonly { readonly target: readonly string[]; readonly failureSummary: string }[];
}

const pages = [
  ['field-app', ['', '#/site/site-01', '#/hive/hive-001', '#/hive/hive-001/visit/new', '#/site/new', '#/tools']],
  ['field-app', ['#/waiting', '#/device', '#/trash', '#/hive/not-there']],
  ['starter', ['']],
  ['board', ['']],
  ['workbench', ['']],
] as const;
const looks = [
  ['light', 1280, 800],
  ['dark', 390, 844],
] as const;

test.each(pages)('%s %j can be used by everybody', async (name, paths) => {
  const page = await context.newPage();
  const found: string[] = [];
  for (const path of paths)
    for (const [colorScheme, width, height] of looks) {
      await page.emulateMedia({ colorScheme, reducedMotion: 'reduce' });
      await page.setViewportSize({ width, height });
      await page.goto('about:blank');
      await page.goto(`${sites.get(name)?.url}${path}`);
      // Without a server the board waits for its first rows: that is looked at as well.
      await page
        .waitForFunction(() => document.body.textContent.length > 40, undefined, { timeout: 3_000 })
        .catch(() => undefined);
      await page.waitForTimeout(500);
      for (const each of await violationsOn(page)) found.push(`${path} ${colorScheme} ${width}: ${each}`);
    }
  expect(found).toEqual([]);
  await page.close();
});
