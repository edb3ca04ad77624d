import type { AnyRow, PulledRow, Table } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import { renameReferences, renameRow } from '../outbox/rename-row.ts';
import { renew } from '../outbox/rewriting.ts';
import type { Applying } from './show.ts';

/**
 * Rows that were made here and exist on the server as well, under another id, are one row each: it is told by the natural
 * key of its table. The local row takes the server's id, everywhere in the file, and is merged with it by the rules like
 * any row that was made on both sides. Runs inside a transaction, before the page with these rows is applied.
 */
export function adoptIds(overlay: Applying, pulled: readonly PulledRow[]): void {
  for (const row of pulled) {
    if (row.kind !== 'insert') continue;
    const table = overlay.schema.tables[row.table];
    if (table === undefined || table.naturalKey.length === 0 || overlay.rows.has(row.table, row.id)) continue;
    const local = twinOf(overlay, row.table, table, row.columns);
    if (local !== undefined) adopt(overlay, row.table, local, row.id);
  }
}

/** A row that only this device knows, with these values in its natural key. */
function twinOf(
  { database, outbox, bases }: Applying,
  name: string,
  { naturalKey }: Table,
  columns: Readonly<Record<string, unknown>>,
): string | undefined {
  const values = naturalKey.map((column) => columns[column] ?? null);
  if (values.includes(null)) return undefined;
  const same = naturalKey.map((column) => `${quoteName(column)} = ?`).join(' AND ');
  const found = database
    .statement(`SELECT id FROM ${quoteName(name)} WHERE ${same}`)
    .all(...(values.map((value) => (typeof value === 'boolean' ? Number(value) : value)) as string[])) as {
    id: string;
  }[];
  return found.find(({ id }) => {
    const changes = outbox.changesOf(name, id);
    const isUnsent = changes.every(({ state }) => state === 'pending' || state === 'rejected');
    return changes[0]?.change.kind === 'insert' && isUnsent && bases.get(name, id) === null;
  })?.id;
}

/** Rewrites an id everywhere: in its row, in what refers to it, and in what waits to be sent. */
function adopt(overlay: Applying, name: string, from: string, to: string): void {
  const { schema, database, rows, outbox, commit, host } = overlay;
  outbox.keepInserted(name, from);
  const altered = new Set(renameRow(outbox, name, from, to));
  const row = rows.get(name, from) as AnyRow;
  rows.remove(name, from);
  commit.note(name, from, row, null);
  rows.put(name, to, row);
  commit.note(name, to, null, rows.get(name, to));
  database.statement('UPDATE koinon_conflict SET row_id = ? WHERE table_name = ? AND row_id = ?').run(to, name, from);
  database.statement('DELETE FROM koinon_resolved').run();
  for (const [other, { entries }] of Object.entries(schema.tables))
    for (const [column, { target }] of entries) {
      if (target !== name) continue;
      const referring = database
        .statement(`SELECT id FROM ${quoteName(other)} WHERE ${quoteName(column)} = ?`)
        .all(from) as { id: string }[];
      for (const { id } of referring) {
        const before = rows.get(other, id);
        rows.patch(other, id, { [column]: to });
        commit.note(other, id, before, rows.get(other, id));
      }
      const ids = referring.map(({ id }) => id);
      for (const sequence of renameReferences(outbox, other, column, ids, from, to)) altered.add(sequence);
      database
        .statement(
          'UPDATE koinon_conflict SET local = json_quote(?) WHERE table_name = ? AND column_name = ? AND local = json_quote(?)',
        )
        .run(to, other, column, from);
    }
  outbox.places.forget();
  for (const sequence of altered) renew(outbox, sequence, host.newId());
}
