// Runs the tests of storage and sync on a newer Node, whose SQLite is built in, so that both drivers are held. That Node comes from
// the package registry into a folder of its own: as a dependency it would take the place of `node` for every script.
import { execFileSync, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

const version = '24.22.3';
const name = `node-${process.platform === 'win32' ? 'win' : process.platform}-${process.arch}`;
const files = [
  'test/replica/local.test.ts',
  'test/replica/drafts.test.ts',
  'test/merge/histories.test.ts',
  'test/sync/network.test.ts',
  'test/sync/recorded.test.ts',
];

const root = join(import.meta.dirname, '..');
const folder = join(root, 'node_modules', '.newer-node');
const node = join(folder, 'node_modules', name, 'bin', process.platform === 'win32' ? 'node.exe' : 'node');
if (!existsSync(node)) {
  mkdirSync(folder, { recursive: true });
  writeFileSync(join(folder, 'package.json'), '{ "private": true }\n');
  const npm = process.platform === 'win32' ? 'npm.cmd' : 'npm';
  try {
    execFileSync(npm, ['install', '--silent', '--no-package-lock', `${name}@${version}`], {
      cwd: folder,
      stdio: 'inherit',
    });
  } catch {
    console.warn(
      `Not run: the tests on Node ${version}, since ${name}@${version} cannot be had from the package registry.`,
    );
    process.exit(0);
  }
}
const vitest = join(root, 'node_modules', 'vitest', 'vitest.mjs');
console.log(`The tests of storage and sync on Node ${version}:`);
const { status } = spawnSync(node, [vitest, 'run', '--typecheck.enabled=false', ...files], {
  cwd: root,
  stdio: 'inherit',
});
process.exitCode = status ?? 1;
