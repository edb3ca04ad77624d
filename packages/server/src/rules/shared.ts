import { type AnyRow, type Problem, rowProblems, type Schema, type Table } from '@koinon/core';
import { byTable, type RowKey, type StoreWriter } from '../stores/store.ts';

/** What only the written rows can answer for: row rules, and references in both directions. */
export async function wholeProblems(schema: Schema, writer: StoreWriter, keys: readonly RowKey[]): Promise<Problem[]> {
  const problems: Problem[] = [];
  for (const [name, written] of byTable(keys)) {
    const rows = await writer.rows(name, written);
    for (const row of rows.values()) problems.push(...rowProblems(name, schema.tables[name] as Table, row));
    problems.push(...(await pointingNowhere(schema, writer, name, [...rows.values()])));
    const gone = written.filter((id) => !rows.has(id));
    if (gone.length > 0) problems.push(...(await stillReferenced(schema, writer, name, gone)));
  }
  return problems;
}

async function pointingNowhere(
  schema: Schema,
  writer: StoreWriter,
  table: string,
  rows: readonly AnyRow[],
): Promise<Problem[]> {
  const problems: Problem[] = [];
  for (const [column, { target }] of (schema.tables[table] as Table).entries) {
    if (target === undefined) continue;
    const pointing = rows.flatMap((row) => (typeof row[column] === 'string' ? [{ id: row.id, to: row[column] }] : []));
    if (pointing.length === 0) continue;
    const there = await writer.rows(target, [...new Set(pointing.map(({ to }) => to))]);
    for (const { id, to } of pointing) {
      if (there.has(to)) continue;
      const message = `${table}.${column} ${to}: there is no ${target} of that id on the server.`;
      problems.push({ code: 'no-such-reference', table, id, column, rule: `references ${target}`, message });
    }
  }
  return problems;
}

async function stillReferenced(
  schema: Schema,
  writer: StoreWriter,
  table: string,
  ids: readonly string[],
): Promise<Problem[]> {
  const problems: Problem[] = [];
  for (const [otherName, other] of Object.entries(schema.tables))
    for (const [column, { target }] of other.entries) {
      if (target !== table) continue;
      for (const [id, referrer] of await writer.referrers(otherName, column, ids)) {
        const message = `${table} ${id} cannot be deleted: ${otherName} ${referrer} refers to it by ${column}.`;
        problems.push({ code: 'row-referenced', table, id, rule: `referenced by ${otherName}.${column}`, message });
      }
    }
  return problems;
}
