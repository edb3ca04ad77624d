import { quoteText } from '@koinon/core/internal';
import type { Outbox } from './outbox.ts';

// Rows take other ids: what is unsent of them, and what refers to them, follows. All of one table at once, since each search reads the
// whole outbox. Both return the places of the transactions whose content that alters. Inside a transaction.

/** The ids that rows have from now on, by those that they had. */
export type Renamed = ReadonlyMap<string, string>;

/** The ids that rows had, of a JSON list in the first parameter; SQLite makes an index of them. */
export const oldIds = '(SELECT value FROM json_each(?1))';

/** A change that is found by an id. */
interface Found {
  readonly place: number;
  readonly sequence: number;
  readonly old: string;
}

/** Gives rows other ids in all that was done to them. */
export function renameRows({ database }: Outbox, table: string, renamed: Renamed): readonly number[] {
  const found = database
    .statement(`SELECT place, sequence, row_id AS old FROM koinon_outbox WHERE table_name = ?2 AND row_id IN ${oldIds}`)
    .all(JSON.stringify([...renamed.keys()]), table) as unknown as readonly Found[];
  const write = database.statement('UPDATE koinon_outbox SET row_id = ? WHERE place = ?');
  for (const { place, old } of found) write.run(renamed.get(old) as string, place);
  return found.map(({ sequence }) => sequence);
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
  renamed: Renamed,
): readonly number[] {
  const path = quoteText(`$."${column}"`);
  const value = `json_extract(columns, ${path})`;
  const found = database
    .statement(
      `SELECT place, sequence, ${value} AS old FROM koinon_outbox WHERE table_name = ?2 AND ${value} IN ${oldIds}`,
    )
    .all(JSON.stringify([...renamed.keys()]), table) as unknown as readonly Found[];
  const write = database.statement(`UPDATE koinon_outbox SET columns = json_set(columns, ${path}, ?) WHERE place = ?`);
  for (const { place, old } of found) write.run(renamed.get(old) as string, place);
  if (referring.length === 0) return found.map(({ sequence }) => sequence);
  const own = database
    .statement(
      "SELECT DISTINCT sequence FROM koinon_outbox WHERE table_name = ? AND columns IS NULL AND kind = 'insert' AND row_id IN (SELECT value FROM json_each(?))",
    )
    .all(table, JSON.stringify(referring)) as unknown as readonly Pick<Found, 'sequence'>[];
  return [...found, ...own].map(({ sequence }) => sequence);
}
