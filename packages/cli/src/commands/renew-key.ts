import { renewKeyPostgres, renewKeySqlite } from '@koinon/server';
import { Command } from 'commander';
import { databaseWords, isPostgres, refuseMissing, shownDatabase } from './database.ts';
import { printJson } from './output.ts';

/** `koinon renew-key`: another key for cursors. */
export function renewKeyCommand(): Command {
  return new Command('renew-key')
    .description(
      'Make another key for cursors, because somebody may have read the database who should not have. Servers use it a minute later. Devices keep working: their cursors of the key before can be read as long as the server keeps deletions.',
    )
    .argument('<database>', databaseWords)
    .option('--json', 'print JSON')
    .action(async (database: string, { json = false }: { readonly json?: boolean }) => {
      refuseMissing(database);
      const key = await (isPostgres(database) ? renewKeyPostgres(database) : renewKeySqlite(database));
      if (json) return printJson({ database: shownDatabase(database), key });
      console.log(`${shownDatabase(database)} has key ${key} for cursors now.`);
    });
}
