import { resendAllPostgres, resendAllSqlite } from '@koinon/server';
import { Command } from 'commander';
import { loadModule } from '../schema-module/load.ts';
import { databaseWords, isPostgres, refuseMissing, shownDatabase } from './database.ts';
import { printJson } from './output.ts';

/** `koinon resend-all`: everything is sent anew. */
export function resendAllCommand(): Command {
  return new Command('resend-all')
    .description(
      'Have every row sent to the devices anew, after something wrote the tables that no trigger saw: rows loaded with triggers switched off, say.',
    )
    .argument('<schema>', 'the module that exports the schema, and perhaps a mapping')
    .argument('<database>', databaseWords)
    .option('--json', 'print JSON')
    .action(async (schemaPath: string, database: string, { json = false }: { readonly json?: boolean }) => {
      refuseMissing(database);
      const { schema, mapping } = await loadModule(schemaPath);
      await (isPostgres(database)
        ? resendAllPostgres(schema, database, mapping)
        : resendAllSqlite(schema, database, mapping));
      if (json) return printJson({ database: shownDatabase(database) });
      console.log(`Every row of ${shownDatabase(database)} is stamped anew; devices get them all at their next sync.`);
    });
}
