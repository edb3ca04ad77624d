import { Command } from 'commander';
import { databaseWords, openStore } from './database.ts';
import { printJson, printTable, short } from './output.ts';

/** Effects that are listed. */
const mostListed = 1_000;

/** `koinon effects`: what actions have asked a server to do after their transactions, and is not done. */
export function effectsCommand(): Command {
  return new Command('effects')
    .description('List what actions have asked for outside of the database, and what is not done yet. Changes nothing.')
    .argument('<schema>', 'the module that exports the schema')
    .argument('<database>', databaseWords)
    .option('--json', 'print JSON')
    .action(async (schema: string, database: string, options: { json?: boolean }) => {
      const store = await openStore(schema, database, 'read');
      try {
        const effects = await store.read((reader) => reader.openEffects(mostListed));
        if (options.json) return printJson(effects);
        printTable(
          ['effect', 'asked for', 'tries', 'next', 'payload', 'why it failed'],
          effects.map(({ name, addedAt, attempt, dueAt, payload, error }) => [
            ...[name, addedAt, attempt, dueAt],
            ...[short(JSON.parse(payload)), error ?? ''],
          ]),
          'Everything that actions have asked for is done.',
        );
      } finally {
        await store.close();
      }
    });
}
