import { once } from 'node:events';
import { createWriteStream, existsSync } from 'node:fs';
import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { rescueReplica } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import { Command } from 'commander';
import { printJson } from './output.ts';

/** `koinon rescue`: what can be read of a damaged replica file. */
export function rescueCommand(): Command {
  return new Command('rescue')
    .description(
      'Read what can be read of a damaged replica file, row by row: the changes that were not sent, and all rows. The file is not changed.',
    )
    .argument('<file>', 'the replica’s SQLite file')
    .argument('<folder>', 'where unsent.jsonl and rows.jsonl are written; it is made if it is not there')
    .option('--json', 'print JSON')
    .addHelpText(
      'after',
      '\nrows.jsonl is what importRows takes; unsent.jsonl has a change on each line, with its transaction.\n\nExample:\n  koinon rescue phone.db rescued',
    )
    .action(async (file: string, folder: string, { json }: { json?: boolean }) => {
      for (const name of ['unsent.jsonl', 'rows.jsonl'])
        if (existsSync(join(folder, name)))
          throw new KoinonError(
            'storage-refused',
            `${join(folder, name)} is there already, and stays as it is. Name another folder.`,
          );
      const rescue = await rescueReplica(file);
      try {
        await mkdir(folder, { recursive: true });
        const unsent = await written(join(folder, 'unsent.jsonl'), rescue.unsent());
        const rows = await written(join(folder, 'rows.jsonl'), rescue.rows());
        const { skipped } = rescue;
        if (json) return printJson({ unsent, rows, skipped });
        console.log(
          `${unsent} unsent changes are in ${join(folder, 'unsent.jsonl')}, ${rows} rows in ${join(folder, 'rows.jsonl')}.`,
        );
        if (skipped.length === 0) console.log('Everything could be read.');
        else for (const each of skipped) console.log(each);
      } finally {
        rescue.close();
      }
    });
}

/** Writes one line for each; returns how many. An existing file is not written over. */
async function written(path: string, lines: Iterable<unknown>): Promise<number> {
  const stream = createWriteStream(path, { flags: 'wx' });
  let count = 0;
  try {
    await once(stream, 'open');
    for (const line of lines) {
      count++;
      if (!stream.write(`${JSON.stringify(line)}\n`)) await once(stream, 'drain');
    }
  } finally {
    stream.end();
  }
  await once(stream, 'close');
  return count;
}
