import { type Schema, type TableName, tableOf } from '@koinon/core';
import { argumentInvalid, callback, options, text, word } from '../engine/arguments.ts';
import type { Replica } from '../replica/replica.ts';

/** The formats of import and export. */
export type TransferFormat = 'jsonl' | 'csv';

/** How far an import or export has come. */
export interface TransferProgress {
  readonly rows: number;
  /** Rows in all; null where that is not known beforehand. */
  readonly of: number | null;
}

/** The options that import and export have in common. */
export interface TransferOptions<S extends Schema> {
  readonly table?: TableName<S>;
  readonly format?: TransferFormat;
  readonly signal?: AbortSignal;
  readonly onProgress?: (progress: TransferProgress) => void;
}

/** Looks at what an import or export is given. @param more names of options of its own. @throws KoinonError `argument-invalid`, `unknown-table`. */
export function checkTransfer<S extends Schema>(
  replica: unknown,
  schema: S,
  given: TransferOptions<S>,
  more: readonly string[] = [],
): TransferOptions<S> & { readonly format: TransferFormat } {
  // Not by its class: an app may have two copies of the package.
  if (typeof (replica as Partial<Replica<S>> | null)?.transaction !== 'function')
    throw argumentInvalid('replica', replica, 'an open replica');
  if (typeof schema !== 'object' || typeof schema?.tables !== 'object')
    throw argumentInvalid('schema', schema, 'what the function schema has made');
  const named = options('options', given, ['table', 'format', 'signal', 'onProgress', ...more]);
  if (named.table !== undefined) tableOf(schema, text('table', named.table));
  const format = word('format', named.format ?? 'jsonl', ['jsonl', 'csv']);
  if (named.signal !== undefined && !(named.signal instanceof AbortSignal))
    throw argumentInvalid('signal', named.signal, 'an AbortSignal');
  if (named.onProgress !== undefined) callback('onProgress', named.onProgress);
  return { ...given, format };
}
