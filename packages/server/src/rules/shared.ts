import type { AnyRow, Change, Problem, RowKey, Schema, Table } from '@koinon/core';
import { isOperatedOn, noSuchReference, rowProblems, rowReferenced } from '@koinon/core/internal';
import type { Guard } from '../scope/guard.ts';
import { byTable, type StoreWriter } from '../store/store.ts';

/** Whose changes are looked at: what he may not see must not be told apart from what is not there. */
export interface Whose {
  readonly guard: Guard;
  readonly changes: readonly Change[];
}

/** The problems that only the written rows can show: row rules, and references in both directions. */
export async function wholeProblems(
  schema: Schema,
  writer: StoreWriter,
  keys: readonly RowKey[],
  whose?: Whose,
): Promise<Problem[]> {
  const problems: Problem[] = [];
  for (const [name, written] of byTable(keys)) {
    if (!isBound(schema, name)) continue;
    const rows = await writer.rows(name, written);
    for (const row of rows.values()) problems.push(...rowProblems(name, schema.tables[name] as Table, row));
    problems.push(...(await pointingNowhere(schema, writer, name, [...rows.values()], whose)));
    const gone = written.filter((id) => !rows.has(id));
    if (gone.length > 0) problems.push(...(await stillReferenced(schema, writer, name, gone, whose)));
  }
  return problems;
}

/** Tells whether a row of this table can be wrong where each of its changes is right: its row rule, sums and sets, references. */
function isBound(schema: Schema, name: string): boolean {
  const { check, entries } = schema.tables[name] as Table;
  const isSettledByWriting = ([, column]: Table['entries'][number]) =>
    isOperatedOn(column) || column.target !== undefined;
  const isReferredTo = () =>
    Object.values(schema.tables).some((other) => other.entries.some(([, { target }]) => target === name));
  return check !== undefined || entries.some(isSettledByWriting) || isReferredTo();
}

async function pointingNowhere(
  schema: Schema,
  writer: StoreWriter,
  table: string,
  rows: readonly AnyRow[],
  whose: Whose | undefined,
): Promise<Problem[]> {
  const problems: Problem[] = [];
  const view = await whose?.guard.view();
  for (const [column, { target }] of (schema.tables[table] as Table).entries) {
    if (target === undefined) continue;
    const pointing = rows.flatMap((row) => (typeof row[column] === 'string' ? [{ id: row.id, to: row[column] }] : []));
    if (pointing.length === 0) continue;
    const there = await writer.rows(target, [...new Set(pointing.map(({ to }) => to))]);
    for (const { id, to } of pointing) {
      const found = there.get(to);
      const isHidden = found && view?.has(target, to, found) === false && setsColumn(whose?.changes, table, id, column);
      if (found && !isHidden) continue;
      problems.push(noSuchReference(schema, { table, id }, column, { table: target, id: to }, 'on-the-server'));
    }
  }
  return problems;
}

async function stillReferenced(
  schema: Schema,
  writer: StoreWriter,
  table: string,
  ids: readonly string[],
  whose: Whose | undefined,
): Promise<Problem[]> {
  const problems: Problem[] = [];
  const view = await whose?.guard.view();
  for (const [otherName, other] of Object.entries(schema.tables))
    for (const [column, { target }] of other.entries) {
      if (target !== table) continue;
      for (const [id, referrer] of await writer.referrers(otherName, column, ids)) {
        const row = view && (await writer.rows(otherName, [referrer])).get(referrer);
        const isSeen = view === undefined || (row !== undefined && view.has(otherName, referrer, row));
        problems.push(
          rowReferenced(schema, { table, id }, undefined, isSeen ? { table: otherName, column } : undefined),
        );
      }
    }
  return problems;
}

/** Tells whether a transaction itself gives a row's column its value. */
function setsColumn(changes: readonly Change[] | undefined, table: string, id: string, column: string): boolean {
  return (changes ?? []).some(
    (change) =>
      change.table === table && change.id === id && change.kind !== 'delete' && Object.hasOwn(change.columns, column),
  );
}
