import { postgresDdl, sqliteDdl } from '@koinon/server';
import { Command } from 'commander';
import { loadModule } from '../schema-module/load.ts';
import { databaseWords, isPostgres } from './database.ts';
import { printJson } from './output.ts';

/** `koinon ddl`: the SQL that a database still lacks. */
export function ddlCommand(): Command {
  return new Command('ddl')
    .description('Print the SQL that a database lacks to be served, for you to look at and run. Changes nothing.')
    .argument('<schema>', 'the module that exports the schema, and perhaps a mapping')
    .argument('<database>', databaseWords)
    .option('--json', 'print a JSON list of statements')
    .addHelpText(
      'after',
      '\nExample:\n  koinon ddl schema.ts postgres://office@localhost/cooperative | psql cooperative',
    )
    .action(async (schemaPath: string, database: string, options: { json?: boolean }) => {
      const { schema, mapping } = await loadModule(schemaPath);
      const statements = isPostgres(database)
        ? await postgresDdl(schema, database, mapping)
        : await sqliteDdl(schema, database, mapping);
      if (options.json) return printJson(statements);
      if (statements.length === 0) console.log('-- The database has all that Koinon needs.');
      else
        console.log(['BEGIN;', ...statements.map((sql) => `${sql.trim().replace(/;$/, '')};`), 'COMMIT;'].join('\n\n'));
    });
}
