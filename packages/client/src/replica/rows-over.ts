import type { AnyRow, Query, Row, Schema, TableName } from '@koinon/core';
import { comparatorOf, frozenRow, planQuery, predicateOf } from '@koinon/core/internal';
import { typed } from './data-api.ts';
import type { Replica } from './replica.ts';

/** A row as a draft has it; null if the draft deletes it. */
export interface RowInDraft {
  readonly table: string;
  readonly id: string;
  readonly after: AnyRow | null;
}

/** The rows a query asks for, over what a draft would make of them. Joins see the replica, not the draft. */
export async function rowsOver<S extends Schema, T extends TableName<S>>(
  schema: S,
  replica: Replica<S>,
  query: Query<S, T>,
  drafted: readonly RowInDraft[],
): Promise<readonly Row<S, T>[]> {
  const plan = planQuery(schema, query);
  const touched = drafted.filter(({ table }) => table === plan.tableName);
  if (touched.length === 0) return typed(replica.rows(query));
  const { limit, offset: _, columns: __, ...rest } = query;
  // Enough rows to fill the window, should all touched ones fall out of it.
  const enough = limit === undefined ? {} : { limit: plan.offset + limit + touched.length };
  const stored = (await replica.rows({ ...rest, ...enough } as Query<S, T>)) as unknown as AnyRow[];
  const ids = new Set(touched.map(({ id }) => id));
  const here = touched.flatMap(({ after }) => after ?? []).filter(predicateOf(plan.condition));
  const rows = [...stored.filter(({ id }) => !ids.has(id)), ...here].sort(comparatorOf(plan.order));
  const window = rows.slice(plan.offset, limit === undefined ? undefined : plan.offset + limit);
  if (query.columns === undefined) return window as never;
  return window.map((row) => frozenRow(row.id, row, plan.columns)) as never;
}
