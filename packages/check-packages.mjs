// Packs each package as npm would publish it, and looks at what an app gets: files, entry points, and types for Node's ESM and
// for bundlers.
import { execFile } from 'node:child_process';
import { mkdtemp, readFile, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { checkPackage, createPackageFromTarballData } from '@arethetypeswrong/core';
import { publint } from 'publint';
import { formatMessage } from 'publint/utils';

const run = promisify(execFile);
const folder = await mkdtemp(join(tmpdir(), 'koinon-packages-'));
const mistakes = [];
for (const name of ['core', 'client', 'server', 'cli', 'react', 'create']) {
  const { stdout } = await run('npm', [
    'pack',
    '--json',
    '--silent',
    '--pack-destination',
    folder,
    `./packages/${name}`,
  ]);
  const [{ filename, files }] = JSON.parse(stdout);
  const tarball = await readFile(join(folder, filename));
  for (const { path } of files) if (/\.test(-d)?\.|tsbuildinfo/.test(path)) mistakes.push(`${name}: ${path} is packed`);
  if (!files.some(({ path }) => path === 'LICENSE')) mistakes.push(`${name}: there is no LICENSE`);
  const data = tarball.buffer.slice(tarball.byteOffset, tarball.byteOffset + tarball.byteLength);
  const { messages, pkg } = await publint({ pack: { tarball: data }, level: 'warning' });
  for (const message of messages) mistakes.push(`${name}: ${formatMessage(message, pkg)}`);
  const { problems = [] } = await checkPackage(createPackageFromTarballData(new Uint8Array(data)), {});
  // There is no CommonJS: Node takes ES modules by `require` as well from 20.19 on.
  for (const problem of problems)
    if (
      problem.resolutionKind !== 'node10' &&
      problem.resolutionKind !== 'node16-cjs' &&
      problem.kind !== 'CJSResolvesToESM'
    )
      mistakes.push(`${name}: ${JSON.stringify(problem)}`);
}
await rm(folder, { recursive: true });
for (const mistake of mistakes) console.error(mistake);
console.log(mistakes.length === 0 ? 'The packages are as an app needs them.' : `${mistakes.length} mistakes.`);
process.exitCode = mistakes.length === 0 ? 0 : 1;
