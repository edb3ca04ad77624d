import type { Column, PulledRow, Table, WireColumns } from '@koinon/core';
import { columnsFromWire, quoteName, toSql, wholeRow } from '@koinon/core/internal';
import { unsentColumns } from '../outbox/unsent-columns.ts';
import type { Applying, RowCounts } from './show.ts';

type Update = Extract<PulledRow, { readonly kind: 'update' }>;

/**
 * Applies what arrived for rows of which this device has changed other columns than the server: by far the most of what
 * is ever merged, and nothing has to be asked or decided. The columns are written into the row and into its base as they
 * are, without reading either. Returns the rows that are left to the merge.
 */
export function applyDisjoint(
  overlay: Applying,
  name: string,
  table: Table,
  pulled: readonly PulledRow[],
  counts: RowCounts,
): readonly PulledRow[] {
  const { outbox, conflicts } = overlay;
  const waiting = unsentColumns(
    outbox,
    pulled.flatMap(({ kind, id }) => (kind === 'update' ? outbox.places.of(name, id) : [])),
  );
  const hasConflicts = waiting.size > 0 && conflicts.count() > 0;
  return pulled.filter((row) => {
    const isPredicted = outbox.predictions.has(name, row.id);
    const changed = row.kind === 'update' && !isPredicted ? waiting.get(row.id) : undefined;
    const isOwn = changed === undefined || changed === 'other';
    if (isOwn || Object.keys(row.kind === 'update' ? row.columns : {}).some((column) => changed.has(column)))
      return true;
    if (hasConflicts && conflicts.columnsOf(name, row.id).length > 0) return true;
    return !writeBoth(overlay, name, table, row as Update, counts);
  });
}

/** Writes columns into a row and its base; false, with nothing done, where the base is not there. */
function writeBoth(
  { database, rows, commit }: Applying,
  name: string,
  table: Table,
  { id, columns }: Update,
  counts: RowCounts,
): boolean {
  const names = Object.keys(columns).filter((column) => table.columns[column]);
  if (names.length === 0) return true;
  const paths = names.map((column) => `'$."${column}"', json(?)`).join(', ');
  const moved = database
    .statement(`UPDATE koinon_base SET columns = json_set(columns, ${paths}) WHERE table_name = ? AND row_id = ?`)
    .run(...names.map((column) => JSON.stringify(columns[column])), name, id);
  if (moved.changes === 0) return false;
  const values = columnsFromWire(table, columns as WireColumns);
  const before = commit.isWatched(name) ? rows.get(name, id) : null;
  const given = names.map((column) => toSql(table.columns[column] as Column, values[column]));
  const set = names.map((column) => `${quoteName(column)} = ?`).join(', ');
  const differs = names.map((column) => `${quoteName(column)} IS NOT ?`).join(' OR ');
  const { changes } = database
    .statement(`UPDATE ${quoteName(name)} SET ${set} WHERE "id" = ? AND (${differs})`)
    .run(...given, id, ...given);
  if (changes > 0) counts.update++;
  if (before !== null) commit.note(name, id, before, wholeRow(table, id, { ...before, ...values }));
  return true;
}
