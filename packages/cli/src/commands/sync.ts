import { existsSync } from 'node:fs';
import { type Direction, openReplica } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import { SingleBar } from 'cli-progress';
import { Command, Option } from 'commander';
import { loadSchema } from '../schema-module/load.ts';
import { printJson } from './output.ts';

/** `koinon sync`: one sync of a replica file with a server. */
export function syncCommand(): Command {
  return new Command('sync')
    .description('Sync a replica file with a server, once.')
    .argument('<schema>', 'the module that exports the app’s schema')
    .argument('<file>', 'the replica’s SQLite file; it has to be there')
    .requiredOption('--server <url>', 'where the server answers, such as http://127.0.0.1:4280')
    .addOption(new Option('--direction <way>', 'which way').choices(['both', 'push', 'pull']).default('both'))
    .option('--token <token>', 'who asks, where the server knows users')
    .option('--json', 'print the report as JSON')
    .action(
      async (
        schemaPath: string,
        file: string,
        options: { server: string; direction: Direction; token?: string; json?: boolean },
      ) => {
        if (!existsSync(file))
          throw new KoinonError('storage-refused', `There is no file ${file}; give the path of a replica.`, {
            value: file,
          });
        const { server, token } = options;
        const replica = await openReplica({
          schema: await loadSchema(schemaPath),
          file,
          server,
          ...(token && { token: () => token }),
        });
        const cancel = new AbortController();
        const interrupted = () => cancel.abort();
        process.once('SIGINT', interrupted);
        const bar = new SingleBar({
          format: '{bar} {received} rows received, {sent} transactions sent',
          stream: process.stderr,
          noTTYOutput: false,
          clearOnComplete: true,
        });
        let isShown = false;
        const stop = replica.syncState().subscribe(({ rows: [state] }) => {
          if (options.json || !state?.progress || !process.stderr.isTTY) return;
          const { down, up } = state.progress;
          const said = { received: `${down.done} of ${down.of ?? down.done}`, sent: `${up.done} of ${up.of}` };
          const total = (down.of ?? down.done) + up.of;
          if (total === 0) return;
          if (!isShown) bar.start(total, 0, said);
          isShown = true;
          bar.setTotal(total);
          bar.update(down.done + up.done, said);
        });
        try {
          const report = await replica.sync({ direction: options.direction, signal: cancel.signal });
          bar.stop();
          if (options.json) return printJson(report);
          const { insert, update, delete: deleted, leave } = report.down;
          const { applied, rejected, stale, waiting } = report.up;
          console.log(
            `Received: ${insert} added, ${update} changed, ${deleted} deleted${leave > 0 ? `, ${leave} left: they are no longer this user’s` : ''}.`,
          );
          console.log(
            `Sent: ${applied} ${applied === 1 ? 'transaction' : 'transactions'} applied${rejected > 0 ? `, ${rejected} refused` : ''}.`,
          );
          if (stale + waiting > 0)
            console.log('Others had changed the same rows; what could be merged was sent again.');
          const { pending, conflicted } = await replica.status();
          if (pending + conflicted > 0) console.log(`Remaining: ${pending} unsent, ${conflicted} rows in conflict.`);
        } finally {
          bar.stop();
          stop();
          process.off('SIGINT', interrupted);
          await replica.close();
        }
      },
    );
}
