import { folderStorage, type InvalidStoredValue, startServer } from '@koinon/server';
import { Command, InvalidArgumentError } from 'commander';
import { pino } from 'pino';
import { loadModule } from '../schema-module/load.ts';
import { databaseWords, openDatabase, shownDatabase } from './database.ts';
import { printJson } from './output.ts';
import { authenticateBySecret, secretName } from './token.ts';
import { untilStopped } from './until-stopped.ts';

interface ServeOptions {
  readonly host: string;
  readonly port: number;
  readonly files?: string;
  readonly log: string;
  readonly json?: boolean;
  readonly prepare: boolean;
  readonly readFrom?: string;
  readonly origin?: readonly string[];
  readonly proxy?: readonly string[];
}

/** `koinon serve`: a server on a schema module and a database file, until Ctrl-C. */
export function serveCommand(): Command {
  return new Command('serve')
    .description(
      `Start a server on a schema and a database. With a secret in ${secretName} it takes tokens (koinon token); without, it answers this machine only.`,
    )
    .argument(
      '<schema>',
      'a module that exports the schema, and perhaps a mapping, rules, scopes, actions and effects (.ts, .js or .mjs)',
    )
    .argument('<database>', `${databaseWords}; a file is made if it is not there`)
    .option('--host <address>', 'the address to bind to; without tokens a loopback address', '127.0.0.1')
    .option('--port <number>', 'the port; 0 takes a free one', portNumber, 4280)
    .option(
      '--origin <origins...>',
      'pages that may use it besides those of its own host: https://app.example',
      (text, before: readonly string[] = []) => [...before, originOf(text)],
    )
    .option('--proxy <addresses...>', 'proxies in front, whose X-Forwarded-For tells who asks: 127.0.0.1, 10.0.0.0/8')
    .option('--files <folder>', 'keep the contents of files in this folder; without it they stay on the devices')
    .option(
      '--read-from <url>',
      'read pulls from this streaming standby of a PostgreSQL database where it has come far enough',
    )
    .option('--no-prepare', 'make nothing in the database, and end where it lacks something; see koinon ddl')
    .option('--json', 'print where it answers as JSON')
    .option('--log <level>', 'what to log to standard error: silent, error, warn, info, debug', 'warn')
    .addHelpText(
      'after',
      '\nExamples:\n  koinon serve schema.ts cooperative.db --port 4280\n  koinon serve schema.ts postgres://office@localhost/cooperative',
    )
    .action(async (schemaPath: string, database: string, options: ServeOptions) => {
      const logger = pino({ level: options.log }, pino.destination(2));
      const module = await loadModule(schemaPath);
      const authenticate = authenticateBySecret();
      const invalidValue = (found: InvalidStoredValue) =>
        logger.error(found, 'is not of its column’s type: replicas get none for it');
      const { readFrom } = options;
      const store = await openDatabase(module, database, {
        mode: options.prepare ? 'prepare' : 'serve',
        invalidValue,
        ...(readFrom !== undefined && { readFrom }),
      });
      const server = await startServer({
        store,
        rules: module.rules,
        actions: module.actions,
        effects: module.effects,
        ...(module.scopes && { scopes: module.scopes }),
        ...(authenticate && { authenticate }),
        ...(options.files !== undefined && { files: folderStorage(options.files) }),
        host: options.host,
        port: options.port,
        origins: options.origin ?? [],
        proxies: options.proxy ?? [],
        logger,
      }).catch(async (error) => {
        await store.close();
        throw error;
      });
      if (options.json) printJson({ database: shownDatabase(database), url: server.url });
      else console.log(`Serving ${shownDatabase(database)} at ${server.url}  (Ctrl-C stops)`);
      await untilStopped();
      await server.close();
      if (!options.json) console.log('Stopped.');
    });
}

/** An origin as browsers send it. */
function originOf(text: string): string {
  const [origin] = /^[a-z][a-z\d+.-]*:\/\/[^/\s]+/i.exec(text) ?? [];
  if (origin === undefined || text.slice(origin.length).replace('/', '') !== '')
    throw new InvalidArgumentError(`${text} is not the origin of a page, such as https://app.example.`);
  return origin.toLowerCase();
}

/** Reads a port from the command line. */
export function portNumber(text: string): number {
  const port = Number(text);
  if (!Number.isInteger(port) || port < 0 || port > 65_535)
    throw new InvalidArgumentError('A port is a whole number from 0 to 65535.');
  return port;
}
