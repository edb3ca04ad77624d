import type { JsonValue } from '@koinon/core';
import type { Database } from './database.ts';

/** The images of a row that an unsent change holds. */
interface StoredImages {
  readonly place: number;
  /** Tells whether it is confirmed, and what it had changed stands beside it: not what it was typed over. */
  readonly is_acknowledged: number;
  readonly kind: string;
  readonly columns: string | null;
  readonly operations: string | null;
  readonly before: string | null;
}

type Image = Record<string, JsonValue>;

/**
 * Rewrites the columns of a table's unsent changes, of those that are kept after they were confirmed, and of its bases. Bases
 * and inserts are whole rows, updates are not.
 */
export function rewriteImages(
  database: Database,
  table: string,
  rewrite: (image: Image, isWhole: boolean) => Image,
): void {
  const rewritten = (text: string | null, isWhole: boolean) =>
    text === null ? null : JSON.stringify(rewrite(JSON.parse(text) as Image, isWhole));
  const typedOver = (text: string | null) => {
    if (text === null) return null;
    const { columns, row } = JSON.parse(text) as { columns: Image; row?: Image | null };
    return JSON.stringify({
      columns: rewrite(columns, false),
      ...(row === undefined ? {} : { row: row && rewrite(row, true) }),
    });
  };
  for (const [list, isBack] of [
    ['koinon_outbox', 'is_acknowledged'],
    ['koinon_history', '1'],
  ]) {
    const changes = database
      .statement(
        `SELECT place, ${isBack} AS is_acknowledged, kind, columns, operations, before FROM ${list} WHERE table_name = ?`,
      )
      .all(table) as StoredImages[];
    const update = database.statement(`UPDATE ${list} SET columns = ?, operations = ?, before = ? WHERE place = ?`);
    for (const { place, is_acknowledged, kind, columns, operations, before } of changes)
      update.run(
        rewritten(columns, kind === 'insert'),
        rewritten(operations, false),
        is_acknowledged === 1 ? rewritten(before, kind === 'delete') : typedOver(before),
        place,
      );
  }
  if (database.once("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_prediction'").length > 0) {
    const text = 'SELECT place, kind, columns, operations FROM koinon_prediction WHERE table_name = ?';
    const write = database.statement('UPDATE koinon_prediction SET columns = ?, operations = ? WHERE place = ?');
    for (const { place, kind, columns, operations } of database.statement(text).all(table) as unknown as StoredImages[])
      write.run(rewritten(columns, kind === 'insert'), rewritten(operations, false), place);
  }
  const bases = database.statement('SELECT row_id, columns FROM koinon_base WHERE table_name = ?').all(table) as {
    row_id: string;
    columns: string;
  }[];
  for (const { row_id, columns } of bases)
    database
      .statement('UPDATE koinon_base SET columns = ? WHERE table_name = ? AND row_id = ?')
      .run(JSON.stringify(rewrite(JSON.parse(columns) as Image, true)), table, row_id);
  rewriteConflicts(database, table, rewrite);
}

/** The same for what is listed as in conflict: values of columns, and whole rows under the empty name. */
function rewriteConflicts(database: Database, table: string, rewrite: (image: Image, isWhole: boolean) => Image): void {
  const sides = ['base', 'local', 'remote'] as const;
  const listed = database
    .statement('SELECT row_id, column_name, base, local, remote FROM koinon_conflict WHERE table_name = ?')
    .all(table) as { row_id: string; column_name: string; base: string; local: string; remote: string }[];
  const remove = database.statement(
    'DELETE FROM koinon_conflict WHERE table_name = ? AND row_id = ? AND column_name = ?',
  );
  const update = database.statement(
    'UPDATE koinon_conflict SET column_name = ?, base = ?, local = ?, remote = ? WHERE table_name = ? AND row_id = ? AND column_name = ?',
  );
  for (const { row_id, column_name, ...values } of listed) {
    let named: string | undefined = column_name;
    const written = sides.map((side) => {
      const value = JSON.parse(values[side]) as JsonValue;
      if (column_name === '') return JSON.stringify(value && rewrite(value as Image, true));
      const [entry] = Object.entries(rewrite({ [column_name]: value }, false));
      named = entry?.[0];
      return JSON.stringify(entry?.[1] ?? null);
    }) as [string, string, string];
    if (named === undefined) remove.run(table, row_id, column_name);
    else update.run(named, ...written, table, row_id, column_name);
  }
}
