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
    /** `action` for one: its name, the id of its call and its input stand for table, id and columns. */
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

/** The call of an action in a file, with its values as they travel. */
export interface StoredInvocation {
  readonly id: string;
  readonly name: string;
  readonly input: unknown;
  /** `applied`, or the state of its transaction. */
  readonly state: TransactionState | 'applied';
  readonly invokedAt: string;
  /** The result; null before it is there. */
  readonly result: unknown;
  readonly problems: readonly Problem[];
}

/** The calls of actions in a file: those that were applied in the last days, and those that were not. */
export function storedInvocations(database: Database): StoredInvocation[] {
  const open = storedTransactions(database).flatMap(({ state, editedAt, changes, problems }) =>
    changes
      .filter(({ kind }) => kind === 'action')
      .map(({ table: name, id, columns: input }) => ({
        ...{ id, name, input, state, invokedAt: editedAt, result: null as unknown, problems },
      })),
  );
  if (database.once("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_invocation'").length === 0) return open;
  const waiting = open.filter(({ state }) => state !== 'confirmed');
  const known = new Set(waiting.map(({ id }) => id));
  const applied = database.once('SELECT * FROM koinon_invocation ORDER BY place') as unknown as AppliedCall[];
  return [
    ...applied
      .filter(({ id }) => !known.has(id))
      .map(({ id, name, input, invoked_at, result }) => ({
        ...{ id, name, input: JSON.parse(input) as unknown, state: 'applied' as const },
        invokedAt: new Date(invoked_at).toISOString(),
        result: result === null ? null : (JSON.parse(result) as unknown),
        problems: [],
      })),
    ...waiting,
  ];
}

interface AppliedCall {
  readonly id: string;
  readonly name: string;
  readonly input: string;
  readonly invoked_at: number;
  readonly result: string | null;
}

/** How many transactions of a file are not confirmed. */
export function countUnsent(database: Database): number {
  const [found] = database.once(
    "SELECT count(*) AS count FROM koinon_outbox WHERE kind = 'transaction' AND (state IS NULL OR state NOT IN ('confirmed', 'settled'))",
  ) as [{ count: number }];
  return found.count;
}
