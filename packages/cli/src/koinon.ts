#!/usr/bin/env node
import { KoinonError } from '@koinon/core';
import { Command, CommanderError } from 'commander';
import pc from 'picocolors';
import { alterCommand } from './commands/alter.ts';
import { changesCommand } from './commands/changes.ts';
import { ddlCommand } from './commands/ddl.ts';
import { demoCommand } from './commands/demo.ts';
import { lookCommand } from './commands/look.ts';
import { renewKeyCommand } from './commands/renew-key.ts';
import { replicasCommand } from './commands/replicas.ts';
import { rescueCommand } from './commands/rescue.ts';
import { resendAllCommand } from './commands/resend-all.ts';
import { serveCommand } from './commands/serve.ts';
import { syncCommand } from './commands/sync.ts';
import { tokenCommand } from './commands/token.ts';
import { uninstallCommand } from './commands/uninstall.ts';

const program = new Command('koinon')
  .description('Koinon: app data in a local database, synchronized with an ordinary SQL backend.')
  .version('0.1.0')
  .addCommand(serveCommand())
  .addCommand(demoCommand())
  .addCommand(syncCommand())
  .addCommand(lookCommand())
  .addCommand(rescueCommand())
  .addCommand(changesCommand())
  .addCommand(replicasCommand())
  .addCommand(ddlCommand())
  .addCommand(resendAllCommand())
  .addCommand(alterCommand())
  .addCommand(uninstallCommand())
  .addCommand(renewKeyCommand())
  .addCommand(tokenCommand())
  .exitOverride();
for (const command of program.commands) command.exitOverride();

// Whoever reads may have had enough, as `head` has: what else there is to say is for nobody.
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
