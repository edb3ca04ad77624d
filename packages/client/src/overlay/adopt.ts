import type { PulledRow, Table } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import { renameReferences, renameRow } from '../outbox/rename-row.ts';
import { renew } from '../outbox/rewriting.ts';
import { type Applying, showAnew } from './show.ts';

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

/** Gives a row that only this device knows the id that it has on the server; what that alters goes up under new ids. */
function adopt(overlay: Applying, name: string, from: string, to: string): void {
  const altered = renameRowEverywhere(overlay, name, from, to);
  for (const sequence of altered) renew(overlay.outbox, sequence, overlay.host.newId());
}

/**
 * Rewrites an id everywhere: in its row, in what refers to it, and in what waits to be sent. Returns the places of the transactions that
 * this has altered.
 */
export function renameRowEverywhere(overlay: Applying, name: string, from: string, to: string): ReadonlySet<number> {
  const { schema, database, rows, bases, outbox, commit } = overlay;
  outbox.revision++;
  outbox.keepInserted(name, from);
  const row = rows.get(name, from);
  const present = rows.get(name, to);
  const base = bases.get(name, from);
  const altered = new Set(renameRow(outbox, name, from, to));
  bases.drop(name, from);
  if (row !== null) {
    rows.remove(name, from);
    commit.note(name, from, row, null);
  }
  database
    .statement('UPDATE OR REPLACE koinon_conflict SET row_id = ? WHERE table_name = ? AND row_id = ?')
    .run(to, name, from);
  database.statement('DELETE FROM koinon_resolved').run();
  for (const [other, { entries }] of Object.entries(schema.tables))
    for (const [column, { target }] of entries) {
      if (target !== name) continue;
      for (const sequence of renameReference(overlay, other, column, from, to)) altered.add(sequence);
    }
  outbox.places.forget();
  if (present === null) {
    if (base !== null) bases.set(name, to, base);
    if (row !== null) rows.put(name, to, row);
    commit.note(name, to, null, rows.get(name, to));
  } else {
    // The server has sent the row already: what was done here lies over it.
    if (bases.get(name, to) === null) bases.set(name, to, present);
    showAnew(overlay, { table: name, id: to });
  }
  return altered;
}

/** The same in one column of one table. */
function renameReference(
  { schema, database, rows, outbox, commit }: Applying,
  table: string,
  column: string,
  from: string,
  to: string,
): readonly number[] {
  const referring = database
    .statement(`SELECT id FROM ${quoteName(table)} WHERE ${quoteName(column)} = ?`)
    .all(from) as { id: string }[];
  for (const { id } of referring) {
    const before = rows.get(table, id);
    rows.patch(table, id, { [column]: to });
    commit.note(table, id, before, rows.get(table, id));
  }
  const path = `'$."${column}"'`;
  database
    .statement(
      `UPDATE koinon_base SET columns = json_set(columns, ${path}, ?) WHERE table_name = ? AND json_extract(columns, ${path}) = ?`,
    )
    .run(to, table, from);
  for (const side of ['base', 'local', 'remote'])
    database
      .statement(
        `UPDATE koinon_conflict SET ${side} = json_quote(?) WHERE table_name = ? AND column_name = ? AND ${side} = json_quote(?)`,
      )
      .run(to, table, column, from);
  if (schema.tables[table]?.home === 'device') return [];
  const ids = referring.map(({ id }) => id);
  return renameReferences(outbox, table, column, ids, from, to);
}
