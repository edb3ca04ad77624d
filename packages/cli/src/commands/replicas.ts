import { KoinonError } from '@koinon/core';
import { Command } from 'commander';
import { databaseWords, openStore } from './database.ts';
import { printJson, printTable } from './output.ts';

/** `koinon replicas`: the replicas a server has met, and shutting one out. */
export function replicasCommand(): Command {
  return new Command('replicas')
    .description(
      'List the replicas a server has met; shut one out, or let it in again. A running server takes note within seconds.',
    )
    .argument('<schema>', 'the module that exports the schema')
    .argument('<database>', databaseWords)
    .option('--drop <id>', 'refuse this replica from now on')
    .option('--admit <id>', 'let a replica in again')
    .option('--json', 'print JSON')
    .action(async (schema: string, database: string, options: { drop?: string; admit?: string; json?: boolean }) => {
      const id = options.drop ?? options.admit;
      const store = await openStore(schema, database, id === undefined ? 'read' : 'serve');
      try {
        if (id !== undefined && !(await store.write((writer) => writer.dropReplica(id, options.drop !== undefined))))
          throw new KoinonError('not-found', `No replica ${id} has asked this server yet.`, { value: id });
        const replicas = await store.read((reader) => reader.replicas());
        if (options.json) return printJson(replicas);
        const rows = replicas.map((replica) => [
          replica.id,
          replica.user ?? '-',
          replica.isDropped ? 'shut out' : 'welcome',
          replica.lastSeen,
          replica.position ?? '-',
          replica.schemaVersion ?? '-',
          replica.rowsDown,
          replica.rowsUp,
        ]);
        printTable(
          ['replica', 'user', 'is', 'last seen', 'position', 'schema', 'rows down', 'rows up'],
          rows,
          'No replica has asked yet.',
        );
      } finally {
        await store.close();
      }
    });
}
