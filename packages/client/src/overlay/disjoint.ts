import type { Column, PulledRow, Table, WireColumns } from '@koinon/core';
import { columnsFromWire, quoteName, toSql, wholeRow } from '@koinon/core/internal';
import type { Applying, RowCounts } from './show.ts';

interface WaitingChange {
  readonly row_id: string;
  readonly kind: string;
  readonly columns: string | null;
  readonly operations: string | null;
  readonly state: string | null;
}

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
  const waiting = columnsWaiting(
    overlay,
    pulled.flatMap(({ kind, id }) => (kind === 'update' ? outbox.places.of(name, id) : [])),
  );
  const hasConflicts = waiting.size > 0 && conflicts.count() > 0;
  return pulled.filter((row) => {
    const changed = row.kind === 'update' ? waiting.get(row.id) : undefined;
    const isOwn = changed === undefined || changed === 'other';
    if (isOwn || Object.keys(row.kind === 'update' ? row.columns : {}).some((column) => changed.has(column)))
      return true;
    if (hasConflicts && conflicts.columnsOf(name, row.id).length > 0) return true;
    return !writeBoth(overlay, name, table, row as Update, counts);
  });
}

/** The columns that unsent updates of each row change; `other` where there is anything else than such updates. */
function columnsWaiting({ database }: Applying, places: readonly number[]): Map<string, Set<string> | 'other'> {
  const columns = new Map<string, Set<string> | 'other'>();
  if (places.length === 0) return columns;
  const rows = database
    .statement(
      `SELECT c.row_id, c.kind, c.columns, c.operations, t.state FROM koinon_outbox c
       JOIN koinon_outbox t ON t.place = c.sequence WHERE c.place IN (SELECT value FROM json_each(?))`,
    )
    .all(JSON.stringify(places)) as WaitingChange[];
  for (const { row_id, kind, columns: written, operations, state } of rows) {
    const known = columns.get(row_id) ?? new Set<string>();
    const isPlain = kind === 'update' && (state ?? 'pending') === 'pending' && known !== 'other';
    if (isPlain)
      for (const names of [written, operations])
        if (names !== null) for (const column of Object.keys(JSON.parse(names) as object)) known.add(column);
    columns.set(row_id, isPlain ? known : 'other');
  }
  return columns;
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
