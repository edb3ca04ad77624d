import type { PulledRow, Table } from '@koinon/core';
import { quoteName, quoteText, withKeyParts } from '@koinon/core/internal';
import { oldIds, type Renamed, renameReferences, renameRows } from '../outbox/rename-row.ts';
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
  const altered = renameRowsEverywhere(overlay, name, new Map([[from, to]]));
  for (const sequence of altered) renew(overlay.outbox, sequence, overlay.host.newId());
}

/**
 * Rewrites ids of one table everywhere: in their rows, in what refers to them, and in what waits to be sent. Returns the places of the
 * transactions that this has altered.
 */
export function renameRowsEverywhere(overlay: Applying, name: string, renamed: Renamed): ReadonlySet<number> {
  const { schema, database, rows, bases, outbox, commit } = overlay;
  if (renamed.size === 0) return new Set();
  outbox.revision++;
  const before = [...renamed].map(([from, to]) => {
    outbox.keepInserted(name, from);
    return { from, to, row: rows.get(name, from), present: rows.get(name, to), base: bases.get(name, from) };
  });
  const altered = new Set(renameRows(outbox, name, renamed));
  outbox.predictions.renameRows(name, renamed);
  for (const [action, { input }] of Object.entries(schema.actions))
    for (const [column, { target }] of input.entries) {
      if (target !== name) continue;
      for (const sequence of renameReferences(outbox, action, column, [], renamed)) altered.add(sequence);
      outbox.predictions.renameInputs(action, column, renamed);
    }
  outbox.places.forget();
  for (const { from, to, row, present, base } of before) {
    bases.drop(name, from);
    if (row !== null) {
      rows.remove(name, from);
      commit.note(name, from, row, null);
    }
    if (present !== null) continue;
    if (base !== null) bases.set(name, to, base);
    if (row !== null) rows.put(name, to, row);
    commit.note(name, to, null, rows.get(name, to));
  }
  const conflict = database.statement(
    'UPDATE OR REPLACE koinon_conflict SET row_id = ? WHERE table_name = ? AND row_id = ?',
  );
  for (const [from, to] of renamed) conflict.run(to, name, from);
  database.statement('DELETE FROM koinon_resolved').run();
  for (const [other, { entries }] of Object.entries(schema.tables))
    for (const [column, { target }] of entries) {
      if (target !== name) continue;
      const ids = idsOfKeys(overlay, other, column, renamed);
      for (const sequence of renameReference(overlay, other, column, renamed)) altered.add(sequence);
      for (const sequence of renameRowsEverywhere(overlay, other, ids)) altered.add(sequence);
    }
  for (const { to, present } of before) {
    if (present === null) continue;
    // The server has sent the row already: what was done here lies over it.
    if (bases.get(name, to) === null) bases.set(name, to, present);
    showAnew(overlay, { table: name, id: to });
  }
  return altered;
}

/** The ids that rows of a table take whose key has a reference in it to rows that take another id. */
function idsOfKeys({ schema, database }: Applying, name: string, column: string, renamed: Renamed): Renamed {
  const table = schema.tables[name] as Table;
  const ids = new Map<string, string>();
  if (!table.key.includes(column)) return ids;
  const list = JSON.stringify([...renamed.keys()]);
  const found = database
    .statement(
      `SELECT id FROM ${quoteName(name)} WHERE ${quoteName(column)} IN ${oldIds}
       UNION SELECT row_id FROM koinon_base WHERE table_name = ?2 UNION SELECT row_id FROM koinon_outbox WHERE table_name = ?2`,
    )
    .all(list, name) as { id: string }[];
  for (const { id } of found) {
    const now = withKeyParts(table, id, (part, value) => (part === column ? (renamed.get(value) ?? value) : value));
    if (now !== id) ids.set(id, now);
  }
  return ids;
}

/** The same in one column of one table. */
function renameReference(
  { schema, database, rows, outbox, commit }: Applying,
  table: string,
  column: string,
  renamed: Renamed,
): readonly number[] {
  const text = `SELECT id FROM ${quoteName(table)} WHERE ${quoteName(column)} = ?`;
  const referring: string[] = [];
  for (const [from, to] of renamed)
    for (const { id } of database.statement(text).all(from) as { id: string }[]) {
      const before = rows.get(table, id);
      rows.patch(table, id, { [column]: to });
      commit.note(table, id, before, rows.get(table, id));
      referring.push(id);
    }
  const path = quoteText(`$."${column}"`);
  const value = `json_extract(columns, ${path})`;
  const list = JSON.stringify([...renamed.keys()]);
  const bases = database
    .statement(`SELECT row_id AS id, ${value} AS old FROM koinon_base WHERE table_name = ?2 AND ${value} IN ${oldIds}`)
    .all(list, table) as { id: string; old: string }[];
  const write = database.statement(
    `UPDATE koinon_base SET columns = json_set(columns, ${path}, ?) WHERE table_name = ? AND row_id = ?`,
  );
  for (const { id, old } of bases) write.run(renamed.get(old) as string, table, id);
  for (const side of ['base', 'local', 'remote']) {
    const conflicts = database
      .statement(
        `SELECT row_id AS id, ${side} ->> '$' AS old FROM koinon_conflict
         WHERE table_name = ?2 AND column_name = ?3 AND ${side} ->> '$' IN ${oldIds}`,
      )
      .all(list, table, column) as { id: string; old: string }[];
    const decide = database.statement(
      `UPDATE koinon_conflict SET ${side} = json_quote(?) WHERE table_name = ? AND row_id = ? AND column_name = ?`,
    );
    for (const { id, old } of conflicts) decide.run(renamed.get(old) as string, table, id, column);
  }
  if (schema.tables[table]?.home === 'device') return [];
  outbox.predictions.renameReferences(table, column, renamed);
  return renameReferences(outbox, table, column, referring, renamed);
}
