import { type Column, type PulledPage, type PulledRow, tableOf } from '@koinon/core';
import { toWire } from '@koinon/core/internal';
import type { Local } from './attempt.ts';

// Large bytes that this replica has sent are not sent back to it: the server tells their digest, and they are taken from here.

/** Tells whether digests can be compared at all: pages that are not secure have nothing to do it with. */
export const canCompare = (): boolean => globalThis.crypto?.subtle !== undefined;

/** A page with what was left out of it; undefined where that is not here any more. */
export async function withKnownBytes(
  change: <T>(work: (local: Local) => T) => Promise<T>,
  page: PulledPage,
): Promise<PulledPage | undefined> {
  if (!page.rows.some((row) => 'digests' in row)) return page;
  const rows: PulledRow[] = [];
  for (const row of page.rows) {
    const whole = 'digests' in row ? await withOwn(change, row) : row;
    if (whole === undefined) return undefined;
    rows.push(whole);
  }
  return { ...page, rows };
}

async function withOwn(
  change: <T>(work: (local: Local) => T) => Promise<T>,
  { digests = {}, ...row }: Extract<PulledRow, { kind: 'insert' | 'update' }>,
): Promise<PulledRow | undefined> {
  const columns = { ...row.columns };
  for (const [name, digest] of Object.entries(digests)) {
    let found: Uint8Array | undefined;
    for (const held of await change((local) => bytesOf(local, row, name)))
      if ((await digestOf(held)) === digest) found = held;
    if (found === undefined) return undefined;
    const bytes = found;
    columns[name] = await change(({ schema }) => toWire(tableOf(schema, row.table).columns[name] as Column, bytes));
  }
  return { ...row, columns };
}

/** The bytes that a column of a row holds here, and those that were put into it and are not settled yet. */
function bytesOf({ outbox }: Local, { table, id }: PulledRow, name: string): Uint8Array<ArrayBuffer>[] {
  const held: readonly (Readonly<Record<string, unknown>> | null | undefined)[] = [
    outbox.rows.get(table, id),
    ...outbox.changesOf(table, id).map(({ change }) => (change.kind === 'delete' ? undefined : change.columns)),
  ];
  return held.flatMap((columns) => {
    const value = columns?.[name];
    return value instanceof Uint8Array ? [value as Uint8Array<ArrayBuffer>] : [];
  });
}

async function digestOf(bytes: Uint8Array<ArrayBuffer>): Promise<string> {
  const digest = new Uint8Array(await crypto.subtle.digest('SHA-256', bytes));
  return Array.from(digest, (byte) => byte.toString(16).padStart(2, '0')).join('');
}
