#!/usr/bin/env node
import { KoinonError } from '@koinon/core';
import { Command, CommanderError } from 'commander';
import pc from 'picocolors';

/** The commands in the order in which help names them. Each is loaded when it is called: a server is not needed to look into a file. */
const commands: Readonly<Record<string, () => Promise<Command>>> = {
  serve: async () => (await import('./commands/serve.ts')).serveCommand(),
  sync: async () => (await import('./commands/sync.ts')).syncCommand(),
  look: async () => (await import('./commands/look.ts')).lookCommand(),
  rescue: async () => (await import('./commands/rescue.ts')).rescueCommand(),
  changes: async () => (await import('./commands/changes.ts')).changesCommand(),
  replicas: async () => (await import('./commands/replicas.ts')).replicasCommand(),
  effects: async () => (await import('./commands/effects.ts')).effectsCommand(),
  adopt: async () => (await import('./commands/adopt.ts')).adoptCommand(),
  check: async () => (await import('./commands/check.ts')).checkCommand(),
  ddl: async () => (await import('./commands/ddl.ts')).ddlCommand(),
  'resend-all': async () => (await import('./commands/resend-all.ts')).resendAllCommand(),
  alter: async () => (await import('./commands/alter.ts')).alterCommand(),
  uninstall: async () => (await import('./commands/uninstall.ts')).uninstallCommand(),
  'renew-key': async () => (await import('./commands/renew-key.ts')).renewKeyCommand(),
  token: async () => (await import('./commands/token.ts')).tokenCommand(),
};

const program = new Command('koinon')
  .description('Koinon: app data in a local database, synchronized with an ordinary SQL backend.')
  .version('0.1.0')
  .exitOverride();
const [first = ''] = process.argv.slice(2);
const isVersion = first === '--version' || first === '-V';
// Help, and a word that is no command, need all of them.
const isNamed = Object.hasOwn(commands, first);
for (const [name, load] of Object.entries(commands))
  if (isNamed ? name === first : !isVersion) program.addCommand((await load()).exitOverride());

// A reader may have had enough, as `head` has: what else there is to say is for nobody.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error;
  process.exit();
});

try {
  await program.parseAsync();
} catch (error) {
  // commander has printed what is wrong with the words of the call; 2 is the usual status for that.
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? 0 : 2;
  else {
    const code = error instanceof KoinonError ? ` (${error.code})` : '';
    console.error(
      `${pc.red('error:')} ${error instanceof KoinonError ? error.message : ((error as Error).stack ?? error)}${code}`,
    );
    process.exitCode = 1;
  }
}
