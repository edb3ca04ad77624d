import { alterPostgres, alterSqlite } from '@koinon/server';
import { Command } from 'commander';
import { loadModule } from '../schema-module/load.ts';
import { databaseWords, isPostgres, refuseMissing, shownDatabase } from './database.ts';
import { printJson } from './output.ts';

/** `koinon alter`: SQL that changes tables of a database that is served. */
export function alterCommand(): Command {
  return new Command('alter')
    .description(
      'Run SQL that changes the tables of a database that is served, in one transaction with what Koinon keeps on them. SQLite lets no column go that a trigger names: this takes the triggers off and puts them back, and no change of a row is missed. Restart the server afterwards with the same schema.',
    )
    .argument('<schema>', 'the module that exports the schema as it is afterwards')
    .argument('<database>', databaseWords)
    .argument('<sql>', 'the statements')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  koinon alter schema.ts cooperative.db "ALTER TABLE hive DROP COLUMN paint"')
    .action(
      async (schemaPath: string, database: string, sql: string, { json = false }: { readonly json?: boolean }) => {
        refuseMissing(database);
        const { schema, mapping } = await loadModule(schemaPath);
        await (isPostgres(database)
          ? alterPostgres(schema, database, sql, mapping)
          : alterSqlite(schema, database, sql, mapping));
        if (json) return printJson({ database: shownDatabase(database) });
        console.log(
          `The tables of ${shownDatabase(database)} are changed. Devices get what changes in them from now on as before.`,
        );
      },
    );
}
