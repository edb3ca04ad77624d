import { type AnyRow, KoinonError, type Schema, type Table, type TableName, tableOf } from '@koinon/core';
import { columnsToWire } from '@koinon/core/internal';
import { stringify } from '#csv-stringify';
import type { Replica } from '../replica/replica.ts';
import { tablesInOrder } from '../rows/order.ts';
import { checkTransfer, type TransferFormat, type TransferProgress } from './options.ts';

/** Options of {@link exportRows}. */
export interface ExportOptions<S extends Schema> {
  /** One table; all tables without it. CSV holds one table. */
  readonly table?: TableName<S>;
  readonly format?: TransferFormat;
  readonly signal?: AbortSignal;
  /** Called after each batch with the rows that are done. */
  readonly onProgress?: (progress: TransferProgress) => void;
}

/** Rows read at a time: the replica is free for other work between two reads. */
const pageRows = 1_000;

/**
 * The rows of a replica as text, piece by piece. JSON Lines: `{"table":…,"row":{…}}`, values as the protocol writes them,
 * tables behind those they refer to. CSV (RFC 4180): a header, then the rows; null is an empty field, the empty text is
 * quoted. Work goes on meanwhile: a row written during the export is in it if it had not been passed.
 *
 * @throws KoinonError `cancelled`.
 * @example
 * for await (const piece of exportRows(replica, schema, { table: 'hive', format: 'csv' })) stream.write(piece)
 */
export async function* exportRows<S extends Schema>(
  replica: Replica<S>,
  schema: S,
  options: ExportOptions<S> = {},
): AsyncGenerator<string> {
  const { table, format, signal, onProgress } = checkTransfer(replica, schema, options);
  if (format === 'csv' && table === undefined)
    throw new KoinonError('query-invalid', 'CSV holds one table; name it, or export JSON Lines.');
  const tables = (table === undefined ? tablesInOrder(schema) : [table]) as TableName<S>[];
  let of = 0;
  for (const name of tables) of += await replica.count({ from: name });
  let rows = 0;
  for (const name of tables) {
    const definition = tableOf(schema, name);
    if (format === 'csv') yield stringify([['id', ...Object.keys(definition.columns)]]);
    for (let after: AnyRow | undefined; ; ) {
      if (signal?.aborted) throw new KoinonError('cancelled', `The export was cancelled after ${rows} rows.`);
      const page = (await replica.rows({
        from: name,
        limit: pageRows,
        ...(after && { after }),
      } as never)) as unknown as AnyRow[];
      yield page
        .map((row) =>
          format === 'csv'
            ? csvLine(definition, row, columnsToWire(definition, row))
            : jsonLine(name, row, columnsToWire(definition, row)),
        )
        .join('');
      rows += page.length;
      onProgress?.({ rows, of });
      after = page.at(-1);
      if (page.length < pageRows) break;
    }
  }
}

function jsonLine(table: string, { id }: AnyRow, columns: object): string {
  return `${JSON.stringify({ table, row: { id, ...columns } })}\n`;
}

function csvLine(table: Table, { id }: AnyRow, columns: Readonly<Record<string, unknown>>): string {
  const fields = table.entries.map(([name, { type }]) => {
    const value = columns[name];
    return value !== null && (type === 'json' || type === 'file' || type === 'set') ? JSON.stringify(value) : value;
  });
  // A pattern, since the package's own option for empty texts quotes null as well.
  return stringify([[id, ...fields]], { quoted_match: /^$/, cast: { boolean: String } });
}
