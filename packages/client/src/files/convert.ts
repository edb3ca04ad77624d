import { type AnyRow, KoinonError, type Schema, sameValue, tableOf, type WritableTableName } from '@koinon/core';
import type { Replica } from '../replica/replica.ts';
import type { CopyOptions } from './copies.ts';
import { cancelled } from './faults.ts';
import type { Files } from './files.ts';

/** The columns of a table whose bytes become files. */
export interface BytesToFiles {
  /** The column that holds bytes. */
  readonly from: string;
  /** The column that is to hold files. */
  readonly to: string;
  /** The media type of the content, or a function that tells it. */
  readonly type: string | ((content: Uint8Array) => string);
}

/**
 * Moves the bytes of a column into files, row by row: for an app whose photos were columns of bytes. The column of bytes is emptied where it is
 * optional. Stopped at any point, it goes on where it was when it is called again. Run it on one device, or on each for the rows of its own: two devices
 * that move the same row make two files, of which the later one stays.
 *
 * @returns how many rows were changed.
 * @throws KoinonError `unknown-column` or `argument-invalid` for columns of other types; what `saveFile` and an update throw.
 * @example
 * await bytesToFiles(replica, files, 'visit', { from: 'sketch', to: 'drawing', type: 'image/svg+xml' })
 */
export async function bytesToFiles<S extends Schema, T extends WritableTableName<S>>(
  replica: Replica<S>,
  files: Files<S>,
  table: T,
  { from, to, type }: BytesToFiles,
  { signal, onProgress }: CopyOptions = {},
): Promise<number> {
  const { columns } = tableOf(replica.schema, table);
  for (const [column, wanted] of [
    [from, 'bytes'],
    [to, 'file'],
  ] as const)
    if (!Object.hasOwn(columns, column) || columns[column]?.type !== wanted)
      throw new KoinonError('argument-invalid', `${table} has no column ${column} of the type ${wanted}.`, {
        value: column,
      });
  // Columns are named at run time here.
  const rows = replica as unknown as Replica<Schema>;
  const found = (await rows.rows({
    from: table,
    columns: ['id', to],
    where: { [to]: null },
  })) as unknown as readonly AnyRow[];
  let changed = 0;
  for (const [n, { id }] of found.entries()) {
    if (signal?.aborted) throw cancelled(signal.reason);
    const content = (await rows.get(table, id))?.[from];
    if (content instanceof Uint8Array) {
      const file = await files.saveFile(content, { type: typeof type === 'string' ? type : type(content) });
      const patch = { [to]: file, ...(columns[from]?.optional && { [from]: null }) };
      const isMoved = await rows.transaction(async (transaction) => {
        // Somebody may have drawn it anew, or a sync may have brought another one.
        const now = await transaction.get(table, id);
        if (now === undefined || now[to] !== null || !sameValue(now[from], content)) return false;
        await transaction.update(table, id, patch);
        return true;
      });
      if (isMoved) changed++;
    }
    onProgress?.(n + 1, found.length);
  }
  return changed;
}
