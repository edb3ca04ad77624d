import { existsSync } from 'node:fs';
import { writeFile } from 'node:fs/promises';
import { KoinonError } from '@koinon/core';
import { type AdoptedTable, type Adoption, adoptPostgres, adoptSqlite } from '@koinon/server';
import { Command } from 'commander';
import pc from 'picocolors';
import { loadModule } from '../schema-module/load.ts';
import { databaseWords, isPostgres, refuseMissing, shownDatabase } from './database.ts';
import { printJson, printTable } from './output.ts';

interface AdoptWords {
  readonly tables?: string;
  readonly check?: boolean;
  readonly json?: boolean;
}

/** `koinon adopt`: a schema module for a database that is there already. */
export function adoptCommand(): Command {
  return new Command('adopt')
    .description(
      'Write a schema module for a database that is there already, and say what devices get of it. Changes nothing in the database.',
    )
    .argument('<database>', databaseWords)
    .argument('[module]', 'the file to write, which must not be there; nothing is written without it')
    .option('--tables <names>', 'only these tables, with commas between them')
    .option('--check', 'compare a module that is there with the database instead; exit code 1 where they differ')
    .option('--json', 'print everything as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  koinon adopt postgres://office@localhost/cooperative schema.ts\n  koinon adopt office.db schema.ts --check',
    )
    .action(async (database: string, module: string | undefined, words: AdoptWords) => {
      refuseMissing(database);
      const tables = words.tables?.split(',').map((name) => name.trim());
      if (words.check) return check(await read(database, undefined), database, module, words);
      if (module !== undefined && existsSync(module))
        throw new KoinonError(
          'argument-invalid',
          `${module} is there already. Name another file, or compare that one with --check.`,
          { value: module },
        );
      const adoption = await read(database, tables);
      if (module !== undefined) await write(module, adoption.module);
      if (words.json) return printJson({ module: adoption.module, tables: adoption.tables });
      report(adoption.tables);
      const next = `\`koinon ddl ${module} ${shownDatabase(database)}\` prints what the database lacks to be served, \`koinon serve ${module} ${shownDatabase(database)}\` serves it.`;
      console.log(
        module === undefined
          ? 'Nothing was written. With the name of a file, the schema module is written there.'
          : `${pc.bold(module)} was written. ${next}`,
      );
    });
}

async function write(file: string, text: string): Promise<void> {
  // Another program may have made the file in the meantime: that one stays.
  await writeFile(file, text, { flag: 'wx' }).catch((error: Error) => {
    throw new KoinonError('storage-refused', `${file} cannot be written: ${error.message}.`, {
      value: file,
      cause: error,
    });
  });
}

function read(database: string, tables: readonly string[] | undefined): Promise<Adoption> {
  const options = tables === undefined ? {} : { tables };
  return isPostgres(database) ? adoptPostgres(database, options) : adoptSqlite(database, options);
}

async function check(
  adoption: Adoption,
  database: string,
  module: string | undefined,
  { json }: AdoptWords,
): Promise<void> {
  if (module === undefined)
    throw new KoinonError('argument-invalid', 'Name the schema module that is to be compared with the database.');
  const { schema, mapping } = await loadModule(module);
  const found = adoption.compare(schema, mapping);
  if (found.length > 0) process.exitCode = 1;
  if (json) return printJson(found);
  if (found.length === 0) console.log(`${module} fits ${shownDatabase(database)}.`);
  else
    printTable(
      ['table', 'column', 'difference'],
      found.map(({ table, column, message }) => [table, column ?? '', message]),
      '',
    );
}

const words = {
  exact: 'exact',
  loses: 'with losses',
  'read only': 'read only',
  'not taken': 'not taken',
  'marks deletion': 'marking deleted rows',
} as const;

/** Says of every table what is taken, and of every column that is not exact why. */
function report(tables: readonly AdoptedTable[]): void {
  if (tables.length === 0) console.log('The database has no tables.');
  for (const { relation, name, why, wayOut, notes, columns } of tables) {
    const counts = Object.entries(words).flatMap(([verdict, text]) => {
      const count = columns.filter((column) => column.verdict === verdict).length;
      return count === 0 ? [] : [`${count} ${text}`];
    });
    const renamed = name === null || name === relation ? '' : ` as ${name}`;
    console.log(
      `${pc.bold(relation)}${renamed}: ${name === null ? `${pc.yellow('not taken')}, since ${why}` : counts.join(', ')}.`,
    );
    if (wayOut !== null) console.log(`  A key of its own: ${wayOut};`);
    for (const note of notes) console.log(`  ${note}`);
    const told = name === null ? [] : columns.filter(({ why: reason }) => reason !== null);
    for (const column of told) {
      const verdict = column.verdict === 'exact' ? '' : `${pc.yellow(column.verdict)}: `;
      console.log(
        `  ${column.column} (${column.type}): ${verdict}${column.why}${column.wayOut ? `; ${column.wayOut}` : ''}`,
      );
    }
  }
  const taken = tables.filter(({ name }) => name !== null).length;
  console.log(`\n${taken} of ${tables.length} tables are taken.`);
}
