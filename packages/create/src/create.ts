#!/usr/bin/env node
// Makes a folder with an app, its server and a page, as the guide's first page builds them.
import { cp, mkdir, readdir, readFile, rename, writeFile } from 'node:fs/promises';
import { basename, join, relative, resolve } from 'node:path';
import { parseArgs } from 'node:util';

const usage = 'npm create @koinon <folder>    makes an app with a page, a local database and a server in that folder';

/** The folder that the person named; undefined where the words are others. */
function folderGiven(): string | undefined {
  try {
    const { positionals } = parseArgs({ allowPositionals: true, options: {} });
    return positionals.length === 1 ? positionals[0] : undefined;
  } catch {
    return undefined;
  }
}

/** Copies the template into a folder that is empty or not there. @throws Error where there is something already. */
async function create(folder: string): Promise<void> {
  const there = await readdir(folder).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return [];
    throw error;
  });
  if (there.length > 0)
    throw new Error(`The folder ${folder} is not empty (${there[0]} is in it). Name another one; nothing was changed.`);
  await mkdir(folder, { recursive: true });
  await cp(join(import.meta.dirname, '../template'), folder, { recursive: true });
  // npm leaves a file of this name out of a package.
  await rename(join(folder, 'gitignore'), join(folder, '.gitignore'));
  const { version } = JSON.parse(await readFile(join(import.meta.dirname, '../package.json'), 'utf8'));
  const name = basename(folder)
    .toLowerCase()
    .replace(/[^a-z0-9._-]+/g, '-')
    .replace(/^[._-]+|-+$/g, '');
  const described = await readFile(join(folder, 'package.json'), 'utf8');
  await writeFile(
    join(folder, 'package.json'),
    described.replace('"apiary"', JSON.stringify(name || 'app')).replaceAll('"0.0.0"', JSON.stringify(version)),
  );
}

const given = folderGiven();
if (given === undefined) {
  console.error(usage);
  process.exitCode = 2;
} else {
  const folder = resolve(given);
  try {
    await create(folder);
    console.log(`The app is in ${given}. Start it:

  cd ${relative('.', folder) || '.'}
  npm install
  npm run server    in one terminal
  npm run page      in another; open the address that it prints`);
  } catch (error) {
    console.error((error as Error).message);
    process.exitCode = 1;
  }
}
