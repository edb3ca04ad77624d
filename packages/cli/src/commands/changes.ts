import { KoinonError } from '@koinon/core';
import { feedPage } from '@koinon/server';
import { Command, InvalidArgumentError } from 'commander';
import { databaseWords, openStore } from './database.ts';
import { printJson, printTable, short } from './output.ts';

/** `koinon changes`: the feed of a server's database. */
export function changesCommand(): Command {
  return new Command('changes')
    .description('List what changed in a server’s database after a position: each changed row once, in feed order.')
    .argument('<schema>', 'the module that exports the schema')
    .argument('<database>', databaseWords)
    .option('--after <position>', 'the position to begin behind', '0')
    .option('--limit <rows>', 'rows at most', whole, 100)
    .option('--json', 'print JSON')
    .action(async (schema: string, database: string, options: { after: string; limit: number; json?: boolean }) => {
      const store = await openStore(schema, database, 'read');
      try {
        const { after } = options;
        const position = /^\d+$/.test(after) ? store.positionAt(Number(after)) : after;
        const page = await store.read(async (reader) => {
          const reach = await reader.reach(position);
          if (reach === 'lost')
            throw new KoinonError('unknown-cursor', `This feed has no position ${after}.`, { value: after });
          if (reach === 'forgotten' && after !== '0')
            throw new KoinonError('forgotten-cursor', `Deletions behind position ${after} are no longer kept.`);
          return feedPage(store, reader, position, Math.max(1, options.limit));
        });
        if (options.json) return printJson(page);
        const rows = page.entries.map((entry) => [
          entry.position,
          entry.kind,
          `${entry.table} ${entry.id}`,
          entry.kind === 'delete' || entry.kind === 'leave' ? '' : short(entry.columns),
        ]);
        printTable(['position', 'what', 'row', 'columns'], rows, `Nothing changed after position ${options.after}.`);
        if (page.more) console.log(`There is more; go on with --after '${page.to}'`);
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
