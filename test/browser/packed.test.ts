import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { build, createServer, preview } from 'vite';
import { expect, test } from 'vitest';
import { launch } from '../support/chromium.ts';
import { scratch } from '../support/serve.ts';

// The packages as they are published, in an app that has nothing to do with this repository.

const root = join(import.meta.dirname, '../..');
test('an app installs what is published, and runs it while it is developed and once it is built', async () => {
  const folder = scratch();
  execFileSync('npm', ['run', '--silent', 'build'], { cwd: root });
  for (const name of ['core', 'client']) {
    const into = join(folder, 'node_modules/@koinon', name);
    mkdirSync(into, { recursive: true });
    execFileSync('npm', ['pack', '--silent', '--pack-destination', into], { cwd: join(root, 'packages', name) });
    const [packed] = readdirSync(into) as [string];
    execFileSync('tar', ['-xzf', packed, '--strip-components', '1'], { cwd: into });
    const { dependencies = {} } = JSON.parse(readFileSync(join(into, 'package.json'), 'utf8'));
    for (const needed of Object.keys(dependencies).filter((each) => !each.startsWith('@koinon/'))) {
      const place = join(folder, 'node_modules', needed);
      mkdirSync(dirname(place), { recursive: true });
      symlinkSync(join(root, 'node_modules', needed), place);
    }
  }
  const write = (name: string, text: string) => writeFileSync(join(folder, name), text);
  write('package.json', '{ "type": "module" }');
  write(
    'schema.ts',
    "import { boolean, schema, table } from '@koinon/core'; export const apiary = schema({ hive: table({ open: boolean() }) });",
  );
  write('index.html', '<!doctype html><script type="module" src="page.ts"></script>');
  write(
    'worker.ts',
    "import { hostTabs } from '@koinon/client/browser'; import { apiary } from './schema.ts'; hostTabs({ schema: apiary, name: 'apiary' });",
  );
  write(
    'page.ts',
    `import { connectTab } from '@koinon/client/browser'; import { apiary } from './schema.ts';
     const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' });
     const replica = await connectTab(worker, apiary);
     await replica.insert('hive', { open: true });
     document.title = \`\${await replica.count({ from: 'hive' })} in a \${(await replica.storage()).kind}\`;`,
  );
  const options = { root: folder, configFile: false, logLevel: 'error' } as const;
  const profile = scratch();
  const browser = await launch(profile);
  const titleAt = async (url: string | undefined) => {
    const tab = await browser.newPage();
    await tab.goto(url as string);
    await tab.waitForFunction(() => document.title !== '');
    return tab.title();
  };
  // The dependencies of the packages stand in this repository.
  const developing = await createServer({ ...options, server: { port: 0, host: '127.0.0.1', fs: { strict: false } } });
  await developing.listen();
  expect(await titleAt(developing.resolvedUrls?.local[0])).toBe('1 in a file');
  await developing.close();
  await build(options);
  const serving = await preview({ ...options, preview: { port: 0, host: '127.0.0.1' } });
  expect(await titleAt(serving.resolvedUrls?.local[0])).toBe('1 in a file');
  await serving.close();
  await browser.close();
  for (const each of [folder, profile]) rmSync(each, { recursive: true, force: true });
});
