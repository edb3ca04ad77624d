import { existsSync } from 'node:fs';
import { KoinonError, type Schema } from '@koinon/core';
import { type Store, sqliteStore } from '@koinon/server';
import { Command, InvalidArgumentError } from 'commander';
import { loadSchema } from '../schema-module/load.ts';
import { printJson, printTable, short } from './output.ts';

/** Opens a server's database that has to be there already. */
export async function openStore(schemaPath: string, database: string): Promise<Store> {
  if (!existsSync(database))
    throw new KoinonError('storage-refused', `There is no database ${database}.`, { value: database });
  return sqliteStore((await loadSchema(schemaPath)) as Schema, database);
}

/** `koinon changes`: the feed of a server's database. */
export function changesCommand(): Command {
  return new Command('changes')
    .description('List what changed in a server’s database after a position: each changed row once, in feed order.')
    .argument('<schema>', 'the module that exports the schema')
    .argument('<database>', 'the server’s SQLite file')
    .option('--after <position>', 'the position to begin behind', whole, 0)
    .option('--limit <rows>', 'rows at most', whole, 100)
    .option('--json', 'print JSON')
    .action(async (schema: string, database: string, options: { after: number; limit: number; json?: boolean }) => {
      const store = await openStore(schema, database);
      try {
        const page = await store.read(async (reader) => {
          if ((await reader.reach(String(options.after))) === 'forgotten')
            throw new KoinonError('forgotten-cursor', `Deletions behind position ${options.after} are no longer kept.`);
          return reader.changesSince(String(options.after), Math.max(1, options.limit));
        });
        if (options.json) return printJson(page);
        const rows = page.entries.map((entry) => [
          entry.position,
          entry.kind,
          `${entry.table} ${entry.id}`,
          entry.kind === 'delete' ? '' : short(entry.columns),
        ]);
        printTable(['position', 'what', 'row', 'columns'], rows, `Nothing changed after position ${options.after}.`);
        if (page.more) console.log(`There is more; go on with --after ${page.to}`);
      } finally {
        await store.close();
      }
    });
}

function whole(text: string): number {
  const number = Number(text);
  if (!Number.isSafeInteger(number) || number < 0) throw new InvalidArgumentError('A whole number is expected.');
  return number;
}
