import type { AnyRow, Column } from '@koinon/core';
import { KoinonError } from '@koinon/core';
import { decimalSizeOf, type SummaryPlan } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { type CheapStatements, notComputable, type QueryRoom, type Selection } from '../query.ts';
import { type ExistingColumn, readSql, readValue } from './columns.ts';
import { orderedSql } from './condition.ts';
import type { AppRows } from './rows.ts';

/** Values in a list up to which its length is not looked at. */
const fewListed = 100;

/** PostgreSQL's code for a statement that ran out of its time. */
const timeoutCode = '57014';

/** The connection on which is asked. */
export interface Asking {
  readonly client: ClientBase;
  readonly rows: AppRows;
  readonly cheap: CheapStatements;
}

/** Rows of one table, in an order. @throws KoinonError `query-limit`, `query-invalid`. */
export async function selectRows(
  { client, rows, cheap }: Asking,
  { table, columns, where, order, limit, offset = 0 }: Selection,
  room: QueryRoom,
): Promise<readonly AnyRow[]> {
  const { sql } = rows.table(table);
  const values: unknown[] = [];
  const fulfils = rows.fulfils(table, where, values);
  const ordered = orderSql(rows, table, order);
  const most = Math.min(limit ?? Number.POSITIVE_INFINITY, room.rowsLeft + 1);
  values.push(most, offset);
  const from = `FROM ${sql} r WHERE ${fulfils} ORDER BY ${ordered} LIMIT $${values.length - 1} OFFSET $${values.length}`;
  const fields = rows.fields(table, columns);
  const size = rows.sentSizeSql(table, columns);
  let text = `SELECT ${fields} ${from}`;
  if (size !== undefined) {
    values.push(room.bytesLeft);
    // Rows that there is no room for are not fetched, but for the first of them.
    text = `SELECT ${fields}, koinon_held FROM (SELECT *, sum(koinon_size) OVER (ORDER BY koinon_place) AS koinon_held FROM
      (SELECT *, (${size})::float8 AS koinon_size, row_number() OVER () AS koinon_place FROM (SELECT r.* ${from}) r) r) r
      WHERE koinon_held - koinon_size <= $${values.length} ORDER BY koinon_place`;
  }
  const found = await run(cheap, client, text, values, room);
  room.take(found.length, size === undefined ? 0 : Number(found.at(-1)?.at(-1) ?? 0));
  return found.map((raw) => rows.decode(table, raw, columns));
}

/** The lines of a summary, with the values of the columns' own types. @throws KoinonError `query-limit`, `query-invalid`. */
export async function summarize(
  { client, rows, cheap }: Asking,
  plan: SummaryPlan,
  room: QueryRoom,
): Promise<readonly Readonly<Record<string, unknown>>[]> {
  const { tableName, condition, by, measures } = plan;
  const values: unknown[] = [];
  const fulfils = rows.fulfils(tableName, condition, values);
  const grouped = by.map((name) => orderedSql(rows.reading(tableName), name));
  const read = [
    ...by.map((name, n): Measured => own(rows, tableName, name, grouped[n] as string)),
    ...measures.map(({ how, column }): Measured => measured(rows, tableName, how, column)),
  ];
  values.push(room.rowsLeft + 1);
  const groups = grouped.length === 0 ? '' : `GROUP BY ${grouped.join(', ')}`;
  const order = grouped.length === 0 ? '' : `ORDER BY ${grouped.map((each) => `${each} NULLS FIRST`).join(', ')}`;
  const text = `SELECT ${read.map(({ sql }) => sql).join(', ')} FROM ${rows.table(tableName).sql} r WHERE ${fulfils} ${groups} ${order} LIMIT $${values.length}`;
  const found = await run(cheap, client, text, values, room);
  room.take(found.length, 0);
  const names = [...by, ...measures.map(({ name }) => name)];
  return found.map((raw) => Object.fromEntries(names.map((name, i) => [name, read[i]?.value(raw[i])])));
}

/** How an order is written. Null comes before every value when ascending; where there is none, an index can be gone along. */
function orderSql(rows: AppRows, table: string, order: Selection['order']): string {
  const reading = rows.reading(table);
  return order
    .map(({ column, descending }) => {
      const mayBeNull = column !== 'id' && reading.table.columns[column]?.optional;
      const nulls = mayBeNull ? (descending ? ' NULLS LAST' : ' NULLS FIRST') : '';
      return `${orderedSql(reading, column)}${descending ? ' DESC' : ''}${nulls}`;
    })
    .join(', ');
}

/** Runs a query within the limits of its request. */
async function run(
  cheap: CheapStatements,
  client: ClientBase,
  text: string,
  values: readonly unknown[],
  room: QueryRoom,
): Promise<unknown[][]> {
  room.refuseLate();
  try {
    const estimate = async () => {
      const { rows } = await client.query<{ 'QUERY PLAN': { Plan: { 'Total Cost': number } }[] }>(
        `EXPLAIN (FORMAT JSON) ${text}`,
        [...values],
      );
      return rows[0]?.['QUERY PLAN'][0]?.Plan['Total Cost'] ?? 0;
    };
    // Long lists cost what they are long.
    const hasLists = values.some((value) => Array.isArray(value) && value.length > fewListed);
    if (hasLists) room.refuseCostly(await estimate());
    else await cheap.refuseCostly(text, room, estimate);
    const { rows } = await client.query<unknown[]>({ text, values: [...values], rowMode: 'array' });
    return rows;
  } catch (error) {
    const { code } = error as { readonly code?: unknown };
    if (code === timeoutCode) throw room.over('time');
    // A value that the database's own type of the column does not take.
    if (!(error instanceof KoinonError) && typeof code === 'string' && code.startsWith('22'))
      throw notComputable(error);
    throw error;
  }
}

/** An expression that is selected, and how its value is read. */
interface Measured {
  readonly sql: string;
  readonly value: (raw: unknown) => unknown;
}

/** A value of a column's own type. @param sql an expression over the column, of the column's own type. */
function own(rows: AppRows, table: string, name: string, sql: string): Measured {
  const { id, columns, table: definition } = rows.reading(table);
  const column = name === 'id' ? undefined : definition.columns[name];
  if (column === undefined) return { sql: `(${sql})::text`, value: (raw) => raw };
  const standing = {
    ...(name === 'id' ? id : (columns.get(name) as ExistingColumn)),
    sql: `(${sql})`,
    zone: undefined,
  };
  return { sql: readSql(column, typed(column, standing)), value: (raw) => readValue(column, raw, standing) };
}

/** A column of which {@link orderedSql} has made values of the schema's own type. */
function typed({ type }: Column, standing: ExistingColumn): ExistingColumn {
  if (type === 'boolean') return { ...standing, type: 'boolean' };
  return type === 'timestamp' ? { ...standing, type: 'timestamp with time zone' } : standing;
}

function measured(
  rows: AppRows,
  table: string,
  how: SummaryPlan['measures'][number]['how'],
  name: string | undefined,
): Measured {
  if (name === undefined) return { sql: 'count(*)', value: Number };
  const reading = rows.reading(table);
  const column = name === 'id' ? undefined : reading.table.columns[name];
  const sql = orderedSql(reading, name);
  const number = (raw: unknown) => (raw === null ? null : Number(raw));
  if (how === 'avg') return { sql: `avg((${sql})::float8)`, value: number };
  if (how === 'sum') {
    if (column !== undefined && decimalSizeOf(column) !== undefined) {
      const sum = own(rows, table, name, `sum((${sql})::numeric)`);
      return { sql: sum.sql, value: sum.value };
    }
    return { sql: column?.type === 'real' ? `sum((${sql})::float8)` : `sum(${sql})`, value: number };
  }
  // PostgreSQL has no least of two truths, and calls it `and`.
  if (column?.type === 'boolean') return own(rows, table, name, `${how === 'min' ? 'bool_and' : 'bool_or'}(${sql})`);
  return own(rows, table, name, `${how}(${sql})`);
}
