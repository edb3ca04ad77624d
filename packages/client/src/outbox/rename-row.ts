import type { Outbox } from './outbox.ts';

// A row takes another id: what is unsent of it, and what refers to it, follows. Both return the places of the transactions
// whose content that alters. Runs inside a transaction.

/** Gives a row another id in all that was done to it. */
export function renameRow({ database }: Outbox, table: string, from: string, to: string): readonly number[] {
  const altered = sequencesOf(database, 'table_name = ? AND row_id = ?', table, from);
  database.statement('UPDATE koinon_outbox SET row_id = ? WHERE table_name = ? AND row_id = ?').run(to, table, from);
  return altered;
}

/**
 * Gives what refers to a row by a column its new id.
 *
 * @param rows the rows of the table that refer to it: a new row is its own record in the outbox, and has changed with it.
 */
export function renameReferences(
  { database }: Outbox,
  table: string,
  column: string,
  rows: readonly string[],
  from: string,
  to: string,
): readonly number[] {
  const path = `'$."${column}"'`;
  const refers = `table_name = ? AND json_extract(columns, ${path}) = ?`;
  const isOwnRecord =
    "table_name = ? AND columns IS NULL AND kind = 'insert' AND row_id IN (SELECT value FROM json_each(?))";
  const altered = [
    ...sequencesOf(database, refers, table, from),
    ...sequencesOf(database, isOwnRecord, table, JSON.stringify(rows)),
  ];
  database
    .statement(`UPDATE koinon_outbox SET columns = json_set(columns, ${path}, ?) WHERE ${refers}`)
    .run(to, table, from);
  return altered;
}

function sequencesOf(database: Outbox['database'], where: string, ...values: string[]): number[] {
  const text = `SELECT DISTINCT sequence FROM koinon_outbox WHERE ${where}`;
  return (database.statement(text).all(...values) as { sequence: number }[]).map(({ sequence }) => sequence);
}
