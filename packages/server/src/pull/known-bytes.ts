import { createHash } from 'node:crypto';
import type { PulledRow, Schema } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
import type { StoreReader } from '../store/store.ts';

/** Length, as JSON carries them, from which bytes are worth being left out. */
const worthwhile = 16_384;

/** The columns of a row that hold large bytes. */
export function largeBytes({ tables }: Schema, row: PulledRow): readonly string[] {
  const table = tables[row.table];
  if (table === undefined || !table.hasBytes || (row.kind !== 'insert' && row.kind !== 'update')) return [];
  return table.entries.flatMap(([name, { type }]) => {
    const value = row.columns[name];
    return type === 'bytes' && typeof value === 'string' && value.length >= worthwhile ? [name] : [];
  });
}

/**
 * Rows without the large bytes that their reader has sent itself: a photo need not travel twice. What they must be is told
 * by their digest, so that nobody takes anything else for them.
 */
export async function withoutKnownBytes(
  schema: Schema,
  reader: Pick<StoreReader, 'sentBy'>,
  replica: string,
  rows: readonly PulledRow[],
): Promise<readonly PulledRow[]> {
  const large = rows.filter((row) => largeBytes(schema, row).length > 0);
  if (large.length === 0) return rows;
  const sent = await reader.sentBy(replica, large);
  return rows.map((row) => {
    const isSent = sent.get(rowKey(row));
    const names = isSent === undefined ? [] : largeBytes(schema, row).filter(isSent);
    if (names.length === 0 || (row.kind !== 'insert' && row.kind !== 'update')) return row;
    const columns = Object.fromEntries(Object.entries(row.columns).filter(([name]) => !names.includes(name)));
    return { ...row, columns, digests: Object.fromEntries(names.map((name) => [name, digestOf(row.columns[name])])) };
  });
}

const digestOf = (base64: unknown) =>
  createHash('sha256')
    .update(Buffer.from(base64 as string, 'base64'))
    .digest('hex');
