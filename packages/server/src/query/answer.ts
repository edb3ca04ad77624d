import {
  type AnyRow,
  type Condition,
  type JsonValue,
  KoinonError,
  type QueryRequest,
  type QueryResponse,
  type Schema,
  type Table,
  tableOf,
  type WireResultRow,
} from '@koinon/core';
import {
  columnsToWire,
  type Join,
  malformed,
  type Plan,
  planQuery,
  planSummary,
  queryFromWire,
  type SummaryPlan,
  summaryRowToWire,
} from '@koinon/core/internal';
import type { Access } from '../pull/pull.ts';
import { intersection, type View } from '../scope/view.ts';
import { type QueryLimits, QueryRoom } from '../store/query.ts';
import type { Store, StoreReader } from '../store/store.ts';

// A query is answered under the scope of its user: what he may not read is not there, and a column that is withheld from him can be neither read nor
// told apart by.

/** The most that queries of one request may take, where the server says nothing else. The unit of the cost is the database's own. */
export const defaultQueryLimits: QueryLimits = { rows: 10_000, bytes: 8_000_000, time: 2_000, cost: 2_000_000 };

/** The tables that one query may read. */
const mostJoins = 20;

/**
 * Answers one query from a snapshot of the database.
 *
 * @throws KoinonError `query-invalid`, `unknown-table`, `unknown-column`, `column-withheld`, `query-limit`.
 */
export async function answerQuery(
  store: Store,
  request: Pick<QueryRequest, 'rows' | 'count' | 'summary'>,
  access: Access,
  limits: QueryLimits = defaultQueryLimits,
): Promise<QueryResponse> {
  const { schema } = store;
  const [kind, query] = questionOf(request);
  const asked = queryFromWire(schema, query);
  const room = new QueryRoom(limits);
  const viewed = (work: (at: At) => Promise<QueryResponse>) =>
    store.read(async (reader) => {
      const { view } = await access.scopes.evaluate(access.user, reader);
      return work({ schema, reader, view, room });
    }, limits.time);
  if (kind === 'rows') {
    const plan = planQuery(schema, asked);
    refuseJoins(plan);
    return viewed(async (at) => ({ rows: await rowsOf(at, plan, namesOf(asked)) }));
  }
  if (kind === 'count') {
    const { where } = asked as { readonly where?: unknown };
    const [from, ...more] = Object.keys(asked as object).filter((name) => name !== 'where');
    if (from !== 'from' || more.length > 0) throw malformed('count', 'a query of from and where', query);
    const plan = planSummary(schema, { from: (asked as { from: unknown }).from, where, measures: { rows: 'count' } });
    return viewed(async (at) => ({ count: (await linesOf(at, plan))[0]?.rows as number }));
  }
  const plan = planSummary(schema, asked);
  return viewed(async (at) => ({ rows: (await linesOf(at, plan)).map((line) => summaryRowToWire(plan, line)) }));
}

/** The one of the three that is asked. */
function questionOf(request: Pick<QueryRequest, 'rows' | 'count' | 'summary'>) {
  const given = (['rows', 'count', 'summary'] as const).flatMap((kind) =>
    request[kind] === undefined ? [] : [[kind, request[kind]] as const],
  );
  const [question] = given;
  if (question === undefined || given.length > 1)
    throw malformed('the request', 'one of rows, count and summary', given.map(([kind]) => kind).join(', '));
  return question;
}

/** The columns that a query names; undefined where it reads all that there are for its user. */
const namesOf = (query: unknown) => (query as { readonly columns?: readonly string[] }).columns;

function refuseJoins({ joins, tableName }: Plan): void {
  if (joins.length > mostJoins)
    throw new KoinonError(
      'query-limit',
      `The query of ${tableName} has ${joins.length} joins; ${mostJoins} are taken.`,
      {
        rule: 'joins',
      },
    );
  const status = joins.find(({ kind }) => kind === 'status');
  if (status !== undefined)
    throw new KoinonError(
      'query-invalid',
      `The join ${status.name} asks for the status of rows, which only a device knows. Leave it out of a query that the server answers.`,
      { table: tableName },
    );
}

/** The place where a query is answered. */
interface At {
  readonly schema: Schema;
  readonly reader: StoreReader;
  readonly view: View;
  readonly room: QueryRoom;
}

async function linesOf({ reader, view, room }: At, plan: SummaryPlan) {
  const { tableName, condition, by, measures } = plan;
  refuseWithheld(view, tableName, [...columnsIn(condition), ...by, ...measures.flatMap(({ column }) => column ?? [])]);
  return reader.summarize({ ...plan, condition: intersection([view.where(tableName), condition]) }, room);
}

async function rowsOf(at: At, plan: Plan, named: readonly string[] | undefined): Promise<WireResultRow[]> {
  const { reader, view, room } = at;
  const { tableName, table, condition, order, limit, offset, joins } = plan;
  const joined = joins.flatMap((join) => (join.kind === 'one' ? [join.column] : []));
  refuseWithheld(view, tableName, [
    ...columnsIn(condition),
    ...order.map(({ column }) => column),
    ...(named ?? []),
    ...joined,
  ]);
  const readable = plan.columns.filter((name) => view.without(tableName)?.has(name) !== true);
  const columns = [...new Set([...readable, ...joined])];
  const where = intersection([view.where(tableName), condition]);
  const found = await reader.select({ table: tableName, columns, where, order, limit, offset }, room);
  const wire = found.map((row) => wireRow(table, row, readable, columns));
  for (const join of joins) {
    const values = await joinedValues(at, join, found);
    for (const [n, row] of found.entries()) wire[n] = { ...wire[n], [join.name]: values(row) };
  }
  return wire;
}

/** A row as JSON carries it, with these columns of those that were read. */
function wireRow(table: Table, row: AnyRow, names: readonly string[], readNames = names): WireResultRow {
  // Most rows are that already.
  if (table.isPlain && names.length === readNames.length) return row as WireResultRow;
  const columns = columnsToWire(table, row);
  const wire: Record<string, JsonValue> = { id: row.id };
  for (const name of names) wire[name] = columns[name] ?? null;
  return wire;
}

/** What is joined into each row: one query for all of them. */
async function joinedValues(
  at: At,
  join: Join,
  rows: readonly AnyRow[],
): Promise<(row: AnyRow) => WireResultRow | null | readonly WireResultRow[]> {
  const { schema, view, reader, room } = at;
  const byId = [{ column: 'id', descending: false }];
  if (join.kind === 'one') {
    const { target, column } = join;
    const table = tableOf(schema, target);
    const ids = [...new Set(rows.flatMap((row) => (row[column] === null ? [] : [row[column]])))];
    const columns = table.names.filter((name) => view.without(target)?.has(name) !== true);
    const where = intersection([view.where(target), { kind: 'in', column: 'id', values: ids }]);
    const found = ids.length === 0 ? [] : await reader.select({ table: target, columns, where, order: byId }, room);
    const known = new Map(found.map((row) => [row.id, wireRow(table, row, columns)]));
    return (row) => known.get(row[column] as string) ?? null;
  }
  if (join.kind !== 'many') return () => null;
  const { plan, column } = join;
  const { tableName, table, condition, order } = plan;
  refuseWithheld(view, tableName, [column, ...columnsIn(condition), ...order.map(({ column }) => column)]);
  const columns = table.names.filter((name) => view.without(tableName)?.has(name) !== true);
  const among: Condition = { kind: 'in', column, values: rows.map(({ id }) => id) };
  const where = intersection([view.where(tableName), condition, among]);
  const found = rows.length === 0 ? [] : await reader.select({ table: tableName, columns, where, order }, room);
  const known = new Map<unknown, WireResultRow[]>(rows.map(({ id }) => [id, []]));
  for (const row of found) known.get(row[column])?.push(wireRow(table, row, columns));
  return ({ id }) => known.get(id) ?? [];
}

/** The columns that a condition tells rows apart by. */
function columnsIn(condition: Condition): string[] {
  switch (condition.kind) {
    case 'and':
    case 'or':
      return condition.conditions.flatMap(columnsIn);
    case 'not':
      return columnsIn(condition.condition);
    default:
      return [condition.column];
  }
}

/** Nobody finds out what is withheld from him by asking for rows that hold it. @throws KoinonError `column-withheld`. */
function refuseWithheld(view: View, table: string, names: readonly string[]): void {
  const column = names.find((name) => view.without(table)?.has(name));
  if (column === undefined) return;
  throw new KoinonError(
    'column-withheld',
    `The column ${column} of ${table} is withheld from this user: a query can neither read it nor ask or order by it. Leave it out.`,
    { table, column },
  );
}
