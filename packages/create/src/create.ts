#!/usr/bin/env node
// Makes a folder with an app, its server and a page, as the guide's first page builds them.
import { cp, mkdir, readdir, readFile, rename, writeFile } from 'node:fs/promises';
import { basename, join, relative, resolve } from 'node:path';
import { parseArgs } from 'node:util';

const usage = 'npm create @koinon <folder>    makes an app with a page, a local database and a server in that folder';

/** What the person wrote: a folder, or a question for help; undefined where the words are others. */
function wordsGiven(): { readonly folder: string } | 'help' | undefined {
  try {
    const { values, positionals } = parseArgs({
      allowPositionals: true,
      options: { help: { type: 'boolean', short: 'h' } },
    });
    const [folder] = positionals;
    if (values.help) return 'help';
    return folder !== undefined && positionals.length === 1 ? { folder } : undefined;
  } catch {
    return undefined;
  }
}

/** Copies the template into a folder that is empty or not there. @throws Error where there is something already. */
async function create(folder: string): Promise<void> {
  const there = await readdir(folder).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return [];
    if (error.code === 'ENOTDIR') throw new Error(`${folder} is a file. Name a folder; nothing was changed.`);
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

const given = wordsGiven();
if (given === 'help') console.log(usage);
else if (given === undefined) {
  console.error(usage);
  process.exitCode = 2;
} else {
  try {
    const folder = resolve(given.folder);
    await create(folder);
    const way = relative('.', folder) || '.';
    console.log(`The app is in ${given.folder}. Start it:

  cd ${/^[\w./-]+$/.test(way) ? way : JSON.stringify(way)}
  npm install
  npm run server    in one terminal
  npm run page      in another; open the address that it prints`);
  } catch (error) {
    console.error((error as Error).message);
    process.exitCode = 1;
  }
}
