import { KoinonError } from '@koinon/core';
import { Command } from 'commander';
import { databaseWords, openStore } from './database.ts';
import { printJson, printTable } from './output.ts';

/** `koinon replicas`: the replicas a server has met, and blocking one. */
export function replicasCommand(): Command {
  return new Command('replicas')
    .description(
      'List the replicas a server has met; block one, or unblock it. A running server takes note within seconds.',
    )
    .argument('<schema>', 'the module that exports the schema')
    .argument('<database>', databaseWords)
    .option('--block <id>', 'refuse this replica from now on')
    .option('--unblock <id>', 'take a replica again')
    .option('--json', 'print JSON')
    .action(async (schema: string, database: string, options: { block?: string; unblock?: string; json?: boolean }) => {
      const id = options.block ?? options.unblock;
      const store = await openStore(schema, database, id === undefined ? 'read' : 'serve');
      try {
        if (id !== undefined && !(await store.write((writer) => writer.blockReplica(id, options.block !== undefined))))
          throw new KoinonError('not-found', `No replica ${id} has asked this server yet.`, { value: id });
        const replicas = await store.read((reader) => reader.replicas());
        if (options.json) return printJson(replicas);
        const rows = replicas.map((replica) => [
          replica.id,
          replica.user ?? '-',
          replica.isBlocked ? 'blocked' : 'active',
          replica.lastSeen,
          replica.position ?? '-',
          replica.schemaVersion ?? '-',
          replica.rowsDown,
          replica.rowsUp,
        ]);
        printTable(
          ['replica', 'user', 'state', 'last seen', 'position', 'schema', 'rows down', 'rows up'],
          rows,
          'No replica has asked yet.',
        );
      } finally {
        await store.close();
      }
    });
}
