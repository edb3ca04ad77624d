import type { Outbox } from './outbox.ts';

interface UnsentChange {
  readonly row_id: string;
  readonly kind: string;
  readonly columns: string | null;
  readonly operations: string | null;
  readonly state: string | null;
}

/** The columns that unsent updates of each row change; `other` where there is anything else than such updates. */
export function unsentColumns({ database }: Outbox, places: readonly number[]): Map<string, Set<string> | 'other'> {
  const columns = new Map<string, Set<string> | 'other'>();
  if (places.length === 0) return columns;
  const rows = database
    .statement(
      `SELECT c.row_id, c.kind, c.columns, c.operations, t.state FROM koinon_outbox c
       JOIN koinon_outbox t ON t.place = c.sequence WHERE c.place IN (SELECT value FROM json_each(?))`,
    )
    .all(JSON.stringify(places)) as UnsentChange[];
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
