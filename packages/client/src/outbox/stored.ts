import type { Problem } from '@koinon/core';
import type { Database } from '../database/database.ts';
import { storedRow, storedTables } from '../database/stored-rows.ts';
import type { TransactionState } from './outbox.ts';

/** A transaction of the outbox, as the file has it. */
export interface StoredTransaction {
  readonly id: string;
  readonly state: TransactionState;
  readonly editedAt: string;
  readonly changes: readonly {
    readonly kind: string;
    readonly table: string;
    readonly id: string;
    /** The given columns; of a new row all that it holds. */
    readonly columns: unknown;
    /** The operations on counters and sets. */
    readonly operations: unknown;
  }[];
  readonly problems: readonly Problem[];
}

interface StoredRow {
  readonly place: number;
  readonly sequence: number | null;
  readonly kind: string;
  readonly id: string;
  readonly edited_at: number;
  readonly state: TransactionState | 'settled' | null;
  readonly problems: string | null;
  readonly table_name: string;
  readonly row_id: string;
  readonly columns: string | null;
  readonly operations: string | null;
}

/** The transactions of a file, whose schema only the file itself knows: values are as they travel. */
export function storedTransactions(database: Database): StoredTransaction[] {
  const tables = storedTables(database);
  const rows = database.once(
    `SELECT place, sequence, kind, coalesce(id, origin) AS id, edited_at, state, problems, table_name, row_id, columns, operations
     FROM koinon_outbox ORDER BY place`,
  ) as StoredRow[];
  const heads = rows.filter(({ kind, state }) => kind === 'transaction' && state !== 'settled');
  const changes = new Map<number, StoredRow[]>(heads.map(({ place }) => [place, []]));
  for (const row of rows) if (row.sequence !== null) changes.get(row.sequence)?.push(row);
  return heads.map(({ place, id, state, edited_at, problems }) => ({
    id,
    state: (state ?? 'pending') as TransactionState,
    editedAt: new Date(edited_at).toISOString(),
    changes: (changes.get(place) ?? []).map(({ kind, table_name: table, row_id: row, columns, operations }) => ({
      kind,
      table,
      id: row,
      // A new row that was not changed since is its own record.
      columns:
        columns !== null
          ? JSON.parse(columns)
          : kind === 'insert'
            ? (storedRow(database, tables, table, row) ?? null)
            : null,
      operations: operations === null ? null : JSON.parse(operations),
    })),
    problems: state === 'rejected' && problems !== null ? (JSON.parse(problems) as Problem[]) : [],
  }));
}

/** How many transactions of a file are not confirmed. */
export function countUnsent(database: Database): number {
  const [found] = database.once(
    "SELECT count(*) AS count FROM koinon_outbox WHERE kind = 'transaction' AND (state IS NULL OR state NOT IN ('confirmed', 'settled'))",
  ) as [{ count: number }];
  return found.count;
}
