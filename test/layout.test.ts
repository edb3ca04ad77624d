import { readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { expect, test } from 'vitest';

// The import arrows of the design: what a package may import of the others. There are no other arrows.
const arrows: Record<string, readonly string[]> = {
  core: [],
  client: ['@koinon/core'],
  server: ['@koinon/core'],
  react: ['@koinon/client', '@koinon/core'],
  cli: ['@koinon/client', '@koinon/core', '@koinon/server'],
};
const packages = join(import.meta.dirname, '../packages');

// The folders of a package, lowest first: each imports of the others only what stands before it, types included. The files
// beside the folders are what the package exports.
const layers: Record<string, readonly string[]> = {
  core: ['errors', 'table', 'values', 'schema', 'change', 'merge', 'query', 'sqlite', 'cursor', 'protocol', 'messages'],
  client: [
    ...[
      'host',
      'driver',
      'live',
      'database',
      'outbox',
      'rows',
      'overlay',
      'engine',
      'sync',
      'on-server',
      'link',
      'replica',
    ],
    ...['remote', 'tabs', 'transfer', 'files', 'sources', 'inspect', 'catalog'],
  ],
  server: [
    ...[
      'cursor',
      'store',
      'effects',
      'adopt',
      'auth',
      'scope',
      'rules',
      'feed',
      'pull',
      'push',
      'query',
      'realtime',
      'trash',
      'files',
      'http',
    ],
  ],
};

test.each(Object.entries(arrows))('packages/%s imports no other package of ours than %j', (name, allowed) => {
  const declared = JSON.parse(readFileSync(join(packages, name, 'package.json'), 'utf8')) as {
    dependencies?: Record<string, string>;
    peerDependencies?: Record<string, string>;
    imports?: Record<string, unknown>;
  };
  const outside = new Set(Object.keys({ ...declared.dependencies, ...declared.peerDependencies }));
  expect([...outside].filter((dependency) => dependency.startsWith('@koinon/')).sort()).toEqual(allowed);
  for (const { file, imported } of importsOf(join(packages, name, 'src'))) {
    if (imported.startsWith('.'))
      expect(join(file, '..', imported), `${file} imports ${imported}`).toContain(join(packages, name, 'src'));
    else if (name === 'core')
      expect([...outside, ...Object.keys(declared.imports ?? {})], `${file} imports ${imported}`).toContain(imported);
    else
      expect(
        imported.startsWith('node:') || imported.startsWith('#') || outside.has(packageOf(imported)),
        `${file} imports ${imported}`,
      ).toBe(true);
  }
});

test.each(Object.entries(layers))('the folders of packages/%s import only those before them', (name, order) => {
  const source = join(packages, name, 'src');
  const folders = readdirSync(source, { withFileTypes: true }).filter((entry) => entry.isDirectory());
  expect(folders.map((entry) => entry.name).sort()).toEqual([...order].sort());
  const folderOf = (path: string) => relative(source, path).split('/')[0] as string;
  const against = importsOf(source).flatMap(({ file, imported }) => {
    const [from, to] = [folderOf(file), folderOf(join(file, '..', imported))];
    const isInside = imported.startsWith('.') && order.includes(from);
    return isInside && order.indexOf(to) > order.indexOf(from) ? [`${relative(source, file)} imports ${imported}`] : [];
  });
  expect(against).toEqual([]);
});

test('F9: a schema without files pays nothing: only apps that open files load their code', () => {
  const source = join(packages, 'client/src');
  const loaded = importsOf(source).filter(({ imported }) => /\/files\/(?!\.)|tus-js-client/.test(imported));
  const outside = loaded.filter(({ file }) => !file.startsWith(join(source, 'files')));
  expect(outside.map(({ file }) => relative(source, file))).toEqual([]);
  expect(loaded.length).toBeGreaterThan(0);
});

test('what merging, decisions and syncing need is not loaded with a page that opens a replica', () => {
  const source = join(packages, 'client/src');
  const reached = new Set<string>();
  const follow = (file: string): void => {
    if (reached.has(file)) return;
    reached.add(file);
    // Types are no code: neither `import type`, nor braces in which each name is one.
    for (const [, names = '', imported] of readFileSync(file, 'utf8').matchAll(
      /^import ([^;']*?) from '(\.[^']+)';/gm,
    )) {
      const isCode = !names.startsWith('type ') && names.replace(/[{}\s]|type \w+,?/g, '') !== '';
      if (isCode) follow(join(file, '..', imported as string));
    }
  };
  follow(join(source, 'replica/open-local.ts'));
  const files = [...reached].map((file) => relative(source, file));
  expect(files).toContain('rows/rows.ts');
  const later = ['outbox/rewriting', 'outbox/sending', 'overlay/leave', 'overlay/show', 'sync/holdings', 'sync/step'];
  const sources = readdirSync(source, { recursive: true }).map(String);
  for (const file of later.map((name) => `${name}.ts`)) {
    expect(sources).toContain(file);
    expect(files).not.toContain(file);
  }
});

test('the files that the architecture page names are there', () => {
  const page = readFileSync(join(import.meta.dirname, '../docs/architecture.md'), 'utf8');
  const named = [...page.matchAll(/`(client|server|core)\/([\w/.-]+\.ts)`/g)];
  expect(named.length).toBeGreaterThan(40);
  for (const [path, name, file] of named)
    expect(readdirSync(join(packages, name as string, 'src'), { recursive: true }).map(String), path).toContain(file);
});

test('what promises nothing is imported by the replica and the server alone', () => {
  const found = ['react', 'cli'].flatMap((name) => importsOf(join(packages, name, 'src')));
  const internal = found.filter(({ imported }) => imported === '@koinon/core/internal').map(({ file }) => file);
  expect(internal).toEqual([]);
});

test('the folders are parts of the job, and every file is named after its idea', () => {
  const names = readdirSync(packages, { recursive: true })
    .map(String)
    .filter((path) => !/node_modules|dist/.test(path));
  expect(names.filter((path) => /(^|\/)(utils?|types|helpers?|managers?|common|misc)(\/|\.ts$|$)/.test(path))).toEqual(
    [],
  );
});

function importsOf(folder: string): { file: string; imported: string }[] {
  const files = readdirSync(folder, { recursive: true }).map((path) => join(folder, String(path)));
  return files
    .filter((file) => file.endsWith('.ts') && !/\.test(-d)?\.ts$/.test(file))
    .flatMap((file) =>
      [
        ...readFileSync(file, 'utf8')
          .replace(/\/\*[\s\S]*?\*\//g, '')
          .matchAll(/(?:^|\s)(?:from|import)\s*\(?\s*'([\w@./:#-]+)'/gm),
      ].map((match) => ({
        file,
        imported: match[1] as string,
      })),
    );
}

const packageOf = (imported: string) =>
  imported
    .split('/')
    .slice(0, imported.startsWith('@') ? 2 : 1)
    .join('/');
