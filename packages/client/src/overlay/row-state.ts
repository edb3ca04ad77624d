import { type AnyRow, tableOf } from '@koinon/core';
import { changedColumns } from '@koinon/core/internal';
import type { Overlay } from './show.ts';

/** A row beside what the server last gave. */
export interface RowState {
  /** The row as the server last gave it; null if it has none. For a row without own changes, the row itself. */
  readonly base: AnyRow | null;
  /** The row as it is here; null if it is deleted here. */
  readonly present: AnyRow | null;
  /** The columns in which the two differ; all of them where one is missing. */
  readonly changed: readonly string[];
}

/** A row's base, its present value, and the columns that differ. */
export function rowState({ schema, rows, bases, outbox }: Overlay, tableName: string, id: string): RowState {
  const table = tableOf(schema, tableName);
  const present = rows.get(tableName, id);
  if (table.home === 'device' || !outbox.isOverlaid(tableName, id)) return { base: present, present, changed: [] };
  const base = bases.get(tableName, id);
  if (base === null && present === null) return { base, present, changed: [] };
  const changed = base === null || present === null ? Object.keys(table.columns) : changedColumns(table, base, present);
  return { base, present, changed };
}
