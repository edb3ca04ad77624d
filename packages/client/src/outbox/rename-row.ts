import { quoteText } from '@koinon/core/internal';
import type { Outbox } from './outbox.ts';

// Rows take other ids: what is unsent of them, and what refers to them, follows. All of one table at once, since each of these
// statements reads the whole outbox. Both return the places of the transactions whose content that alters. Inside a transaction.

/** The id that a row had, and the one that it has from now on. */
export interface Renamed {
  readonly from: string;
  readonly to: string;
}

/** The ids that rows had, of a JSON list of {@link Renamed} in the first parameter; SQLite makes an index of them. */
export const oldIds = "(SELECT value ->> 'from' FROM json_each(?1))";

/** The id that the row of an old one has now, as an expression. */
export const newIdOf = (old: string) => `(SELECT value ->> 'to' FROM json_each(?1) WHERE value ->> 'from' = ${old})`;

/** Gives rows other ids in all that was done to them. */
export function renameRows({ database }: Outbox, table: string, rows: readonly Renamed[]): readonly number[] {
  const found = database
    .statement(
      `UPDATE koinon_outbox SET row_id = ${newIdOf('row_id')} WHERE table_name = ?2 AND row_id IN ${oldIds} RETURNING sequence`,
    )
    .all(JSON.stringify(rows), table);
  return sequencesIn(found);
}

/**
 * Gives what refers to rows by a column their new ids.
 *
 * @param referring the rows of the table that refer to them: a new row is its own record in the outbox, and has changed with it.
 */
export function renameReferences(
  { database }: Outbox,
  table: string,
  column: string,
  referring: readonly string[],
  rows: readonly Renamed[],
): readonly number[] {
  const path = quoteText(`$."${column}"`);
  const value = `json_extract(columns, ${path})`;
  const altered = database
    .statement(
      `UPDATE koinon_outbox SET columns = json_set(columns, ${path}, ${newIdOf(value)})
       WHERE table_name = ?2 AND ${value} IN ${oldIds} RETURNING sequence`,
    )
    .all(JSON.stringify(rows), table);
  if (referring.length === 0) return sequencesIn(altered);
  const own = database
    .statement(
      "SELECT DISTINCT sequence FROM koinon_outbox WHERE table_name = ? AND columns IS NULL AND kind = 'insert' AND row_id IN (SELECT value FROM json_each(?))",
    )
    .all(table, JSON.stringify(referring));
  return [...sequencesIn(altered), ...sequencesIn(own)];
}

const sequencesIn = (found: readonly unknown[]) => (found as { sequence: number }[]).map(({ sequence }) => sequence);
