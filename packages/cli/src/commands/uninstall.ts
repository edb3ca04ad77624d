import { uninstallPostgres, uninstallSqlite } from '@koinon/server';
import { Command } from 'commander';
import { databaseWords, isPostgres, refuseMissing, shownDatabase } from './database.ts';
import { printJson } from './output.ts';

/** `koinon uninstall`: a database as it was before Koinon, with the app's rows. */
export function uninstallCommand(): Command {
  return new Command('uninstall')
    .description(
      'Take every trace of Koinon out of a server’s database: its own tables, functions and triggers. The app’s tables stay. Devices start over when it is served again.',
    )
    .argument('<database>', databaseWords)
    .requiredOption('--yes', 'do it; stop the server first')
    .option('--json', 'print JSON')
    .action(async (database: string, { json = false }: { readonly json?: boolean }) => {
      refuseMissing(database);
      await (isPostgres(database) ? uninstallPostgres(database) : uninstallSqlite(database));
      if (json) return printJson({ database: shownDatabase(database) });
      console.log(`${shownDatabase(database)} is an ordinary database again; nothing of Koinon is left in it.`);
    });
}
