import { execFile } from 'node:child_process';
import { mkdtemp, readFile, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, test } from 'vitest';

// The examples in the public docs of a replica are run as they stand, each on a replica of its own: one row is in conflict, one was
// refused, and one has an edit that is not sent.

const root = join(import.meta.dirname, '../..');

test('every example of a replica’s functions runs as it stands', async () => {
  const examples: [string, string][] = [];
  for (const file of ['data-api.ts', 'replica.ts', 'draft.ts']) {
    const source = await readFile(join(root, 'packages/client/src/replica', file), 'utf8');
    for (const [, block, name] of source.matchAll(
      /@example\n((?: +\*.*\n)+?) +\*\/\n *(?:abstract |export class )?(\w+)/g,
    ))
      examples.push([`${file} ${name}`, (block as string).replace(/^ +\* ?\/?/gm, '')]);
  }
  expect(examples.length).toBeGreaterThan(50);
  const folder = await mkdtemp(join(tmpdir(), 'koinon-examples-'));
  await symlink(join(root, 'node_modules'), join(folder, 'node_modules'));
  await writeFile(join(folder, 'package.json'), '{ "type": "module" }');
  const program = `
    import { openReplica } from '@koinon/client';
    import { counter, integer, oneOf, reference, schema, setOfText, sql, table, text } from '@koinon/core';
    import { serveInProcess, sqliteStore } from '@koinon/server';
    const cooperative = schema({
      site: table({ name: text() }),
      hive: table({
        site: reference('site'), mark: text({ merge: 'ask' }), strength: integer({ default: 5 }), frames: counter(),
        queen: oneOf(['marked', 'missing'], { default: 'marked' }), tags: setOfText(),
      }),
    }, { settings: { units: oneOf(['kg', 'lb'], { default: 'kg' }) } });
    const show = (..._: unknown[]) => undefined;
    let places = 0;
    export async function on(work: (replica: any, file: string, sql: unknown, show: unknown) => Promise<void>) {
      const place = \`${folder}/\${++places}\`;
      const store = await sqliteStore(cooperative, \`\${place}.db\`);
      const validate = ({ after }: any) => (after?.mark === 'none' ? [{ column: 'mark', message: 'is no mark' }] : undefined);
      const server = serveInProcess({ store, rules: { hive: { validate } } } as any);
      const [replica, other] = await Promise.all([1, 2].map(() => openReplica({ schema: cooperative, server: server.connect() })));
      await replica.insert('site', { id: 's', name: 'Marrowfen' });
      await replica.insertAll('hive', ['h', 'c', 'r'].map((id) => ({ id, site: 's', mark: id, tags: ['swarmed'] })));
      await replica.sync();
      await other.sync();
      await other.update('hive', 'c', { mark: 'C east' });
      await other.sync();
      await replica.update('hive', 'c', { mark: 'C west' });
      await replica.update('hive', 'r', { mark: 'none' });
      await replica.sync();
      await replica.update('hive', 'h', { strength: 3 });
      await work(replica, \`\${place}-copy.db\`, sql, show);
      await replica.close();
      await other.close();
      await server.close();
      await store.close();
    }`;
  await writeFile(join(folder, 'on.ts'), program);
  const bodies = examples.map(
    ([name, code]) => `[${JSON.stringify(name)}, async (replica, file, sql, show) => {\n${code}\n}]`,
  );
  await writeFile(
    join(folder, 'run.ts'),
    `import { on } from './on.ts';
    const failed: string[] = [];
    for (const [name, work] of [${bodies.join(',\n')}] as [string, any][])
      await on(work).catch((error) => failed.push(name + ': ' + error.message));
    console.log(JSON.stringify(failed));`,
  );
  const output = await new Promise<string>((done, fail) =>
    execFile(
      process.execPath,
      ['--import', 'tsx', '--conditions=koinon-source', join(folder, 'run.ts')],
      { cwd: root },
      (error, stdout, stderr) => (error ? fail(new Error(stderr)) : done(stdout)),
    ),
  );
  expect(JSON.parse(output)).toEqual([]);
  await rm(folder, { recursive: true, force: true });
});
