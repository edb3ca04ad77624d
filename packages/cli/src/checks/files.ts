import { existsSync } from 'node:fs';
import type { FileValue } from '@koinon/core';
import { folderStorage, type Store } from '@koinon/server';
import { counted, type Finding, findingsOf } from './finding.ts';

const { ok, warning, failure } = findingsOf('database');

/** Rows that are read at once. */
const room = { rows: 1_000, bytes: 8_000_000 };

/** Places that a message names. */
const mostNamed = 3;

/** Compares the files that rows hold with the contents in a server's folder. Changes nothing. */
export async function checkFiles(store: Store, folder: string): Promise<Finding[]> {
  if (!existsSync(folder))
    return [
      failure('no-contents', `There is no folder ${folder}.`, 'Give the folder that the server is started with.'),
    ];
  const storage = folderStorage(folder);
  const lacking: string[] = [];
  let [files, bytes] = [0, 0];
  for (const [table, { entries }] of Object.entries(store.schema.tables)) {
    const columns = entries.flatMap(([column, { type }]) => (type === 'file' ? [column] : []));
    let after: string | null = columns.length === 0 ? null : '';
    while (after !== null) {
      const page = await store.read((reader) => reader.rowsAfter(table, after || null, room));
      for (const { id, columns: values } of page.rows)
        for (const column of columns) {
          const value = values[column] as FileValue | null | undefined;
          if (!value) continue;
          files++;
          const found = await storage.find(value.id);
          if (found.some(({ sha256 }) => sha256 === value.sha256)) bytes += value.bytes;
          else lacking.push(`${table} ${id} (${column})`);
        }
      after = page.more ? (page.rows.at(-1)?.id ?? null) : null;
    }
  }
  if (lacking.length === 0)
    return [ok('contents', `The contents of all ${counted(files, 'file')} are there, ${bytes} bytes.`)];
  const more = lacking.length > mostNamed ? `, and ${lacking.length - mostNamed} more` : '';
  return [
    warning(
      'contents-awaited',
      `${counted(lacking.length, 'file')} of ${files} ${lacking.length === 1 ? 'has' : 'have'} no content here: ${lacking.slice(0, mostNamed).join(', ')}${more}.`,
      'Their devices have yet to send them. After a folder was put back to an older state, devices that have them send them again within an hour.',
    ),
  ];
}
