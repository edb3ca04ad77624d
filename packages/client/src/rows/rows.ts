import {
  type AnyRow,
  type Column,
  type JsonValue,
  KoinonError,
  type RowBlock,
  type RowStatus,
  type Schema,
  type SqlValue,
  type Table,
  tableOf,
} from '@koinon/core';
import {
  columnsFromWire,
  columnsToWire,
  conditionSql,
  countSql,
  decodeSummary,
  fromSql,
  frozenRow,
  type Plan,
  planQuery,
  planSummary,
  quoteName,
  rowDecoder,
  selectSql,
  shown,
  summarySql,
  toSql,
  wholeRow,
} from '@koinon/core/internal';
import type { Database } from '../database/database.ts';

/** Tells the status of a row. */
export type StatusReader = (table: string, id: string) => RowStatus;

/** The name under which changes of the status of rows are told to watchers. */
export const statusTable = 'koinon_status';

/** The name under which changes of the list of holdings are told to those who follow it. */
export const holdingsTable = 'koinon_holding';

/** Tells whether a query reads the status of its rows in. */
export function readsStatus(query: unknown): boolean {
  const { join } = (query ?? {}) as { readonly join?: object };
  return join !== undefined && join !== null && Object.values(join).includes('status');
}

/** One table's SQL, made once. */
interface TableSql {
  readonly table: Table;
  readonly names: readonly string[];
  readonly decode: (raw: unknown) => AnyRow;
  readonly get: string;
  readonly has: string;
  readonly among: string;
  readonly put: string;
  readonly insert: string;
  readonly remove: string;
}

/** The rows as the app sees them, in real SQL tables: reading, and writing without any bookkeeping. */
export class Rows {
  private readonly database: Database;
  private readonly schema: Schema;
  private readonly sql = new Map<string, TableSql>();
  /** Begins to tell the status of rows; loaded when the first query asks for it. */
  statuses: (() => StatusReader) | undefined;

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.schema = schema;
  }

  get(tableName: string, id: string): AnyRow | null {
    const sql = this.sqlOf(tableName);
    const raw = this.database.statement(sql.get).get(id);
    return raw === undefined ? null : sql.decode(raw);
  }

  has(tableName: string, id: string): boolean {
    return this.database.statement(this.sqlOf(tableName).has).get(id) !== undefined;
  }

  /** The rows a query asks for. */
  select(query: unknown): AnyRow[] {
    return this.selectPlan(planQuery(this.schema, query));
  }

  /** The rows of a plan. */
  selectPlan(plan: Plan): AnyRow[] {
    const needed = plan.joins.flatMap((join) => (join.kind === 'one' ? [join.column] : []));
    const fetched = needed.length === 0 ? plan : { ...plan, columns: [...new Set([...plan.columns, ...needed])] };
    const { text, values } = selectSql(fetched);
    const raw = this.database.statement(text).all(...values);
    // Put into the raw rows: made in one go with the columns, a status costs hardly anything.
    const named = plan.joins.flatMap((join) => (join.kind === 'status' ? [join.name] : []));
    const status = named.length > 0 ? this.statuses?.() : undefined;
    const decode = rowDecoder(plan.table, [...fetched.columns, ...named]);
    for (let i = 0; i < raw.length; i++) {
      const row = raw[i] as Record<string, unknown>;
      for (const name of named) row[name] = status?.(plan.tableName, row.id as string);
      raw[i] = decode(row);
    }
    const rows = raw as AnyRow[];
    return plan.joins.length === named.length ? rows : this.joined(plan, rows);
  }

  /** How many rows a query's condition has; its limit and offset do not count. */
  count(query: unknown): number {
    const { text, values } = countSql(planQuery(this.schema, query));
    return (this.database.statement(text).get(...values) as { count: number }).count;
  }

  /** The lines of a summary. */
  summary(summary: unknown): Readonly<Record<string, unknown>>[] {
    const plan = planSummary(this.schema, summary);
    const { text, values } = summarySql(plan);
    return this.database
      .statement(text)
      .all(...values)
      .map((raw) => decodeSummary(plan, raw));
  }

  /** Puts what a plan joins in into its rows: one query for each join, whatever the number of rows. */
  private joined(plan: Plan, rows: readonly AnyRow[]): AnyRow[] {
    const read = plan.joins.map((join): ((row: AnyRow) => unknown) => {
      if (join.kind === 'status') return (row) => row[join.name];
      if (join.kind === 'one') {
        const wanted = [...new Set(rows.flatMap((row) => (row[join.column] === null ? [] : [row[join.column]])))];
        const found = new Map(this.among(join.target, 'id', wanted).map((row) => [row.id, row]));
        return (row) => found.get(row[join.column] as string) ?? null;
      }
      const found = new Map<unknown, AnyRow[]>(rows.map(({ id }) => [id, []]));
      for (const row of this.among(join.plan.tableName, join.column, [...found.keys()], join.plan))
        found.get(row[join.column])?.push(row);
      return (row) => Object.freeze(found.get(row.id) ?? []);
    });
    return rows.map((row) => {
      const whole: Record<string, unknown> = { id: row.id };
      for (const name of plan.columns) whole[name] = row[name];
      plan.joins.forEach((join, i) => {
        whole[join.name] = read[i]?.(row);
      });
      return frozenRow(row.id, whole, [...plan.columns, ...plan.joins.map(({ name }) => name)]);
    });
  }

  /** The rows whose text column has one of these values. */
  among(
    tableName: string,
    column: string,
    wanted: readonly unknown[],
    plan = planQuery(this.schema, { from: tableName }),
  ): AnyRow[] {
    const values: SqlValue[] = [JSON.stringify(wanted)];
    const condition = conditionSql(plan.table, plan.condition, values);
    const order = plan.order.map((key) => `${quoteName(key.column)}${key.descending ? ' DESC' : ''}`).join(', ');
    const columns = ['id', ...plan.columns].map(quoteName).join(', ');
    const text = `SELECT ${columns} FROM ${quoteName(tableName)} WHERE ${quoteName(column)} IN (SELECT value FROM json_each(?)) AND ${condition} ORDER BY ${order}`;
    return this.database
      .statement(text)
      .all(...values)
      .map(rowDecoder(plan.table));
  }

  /** The columns of rows of a table without bytes, by id. */
  columnsOf(tableName: string, ids: readonly string[]): Map<string, Readonly<Record<string, unknown>>> {
    const { table, among } = this.sqlOf(tableName);
    const { entries } = table;
    // As one text: drivers take longer for the members of so many objects than SQLite for the rows.
    const { rows } = this.database.statement(among).get(JSON.stringify(ids)) as { rows: string };
    return new Map(
      (JSON.parse(rows) as unknown[][]).map((raw) => {
        const columns: Record<string, unknown> = {};
        for (let i = 0; i < entries.length; i++) {
          const [name, column] = entries[i] as readonly [string, Column];
          columns[name] = fromSql(column, raw[i + 1]);
        }
        return [raw[0] as string, columns];
      }),
    );
  }

  /** Writes a row that is not there yet. */
  insert(tableName: string, row: AnyRow): void {
    const sql = this.sqlOf(tableName);
    try {
      this.database.statement(sql.insert).run(row.id, ...valuesOf(sql, row));
    } catch (error) {
      // Asking only now saves a look-up for every row that is new, as nearly all are.
      if (!this.has(tableName, row.id)) throw error;
      const message = `${tableName} ${shown(row.id)} is there already; update it, or insert under another id.`;
      throw new KoinonError('duplicate-id', message, { table: tableName, id: row.id, column: 'id', value: row.id });
    }
  }

  /** Writes a whole row, whether it is there or not; columns without a value hold none. */
  put(tableName: string, id: string, columns: Readonly<Record<string, unknown>>): void {
    const sql = this.sqlOf(tableName);
    this.database.statement(sql.put).run(id, ...valuesOf(sql, columns));
  }

  /** Writes the rows of a block, whose columns are plain ones; columns that it does not have hold none. */
  putBlock({ table: tableName, columns, rows }: RowBlock): void {
    const { table } = this.sqlOf(tableName);
    const known = columns.flatMap((name, i) => {
      const column = table.columns[name];
      return column === undefined ? [] : [{ name, column, place: i + 1 }];
    });
    const names = known.map(({ name }) => name);
    const together = Math.max(1, Math.min(rowsTogether, Math.floor(mostParameters / (known.length + 1))));
    for (let from = 0; from < rows.length; ) {
      // The last few go by themselves: a statement for each number of rows is not worth being kept.
      const count = rows.length - from < together ? 1 : together;
      const values: SqlValue[] = [];
      for (const row of rows.slice(from, from + count)) {
        values.push(row[0] as string);
        for (const { column, place } of known) values.push(toSql(column, row[place]));
      }
      this.database.statement(putText(tableName, table, names, count)).run(...values);
      from += count;
    }
  }

  /** Writes some columns of a row; says whether the row was there. */
  patch(tableName: string, id: string, columns: Readonly<Record<string, unknown>>): boolean {
    const { table } = this.sqlOf(tableName);
    const names = Object.keys(columns).filter((name) => table.columns[name]);
    if (names.length === 0) return this.get(tableName, id) !== null;
    const text = `UPDATE ${quoteName(tableName)} SET ${names.map((name) => `${quoteName(name)} = ?`).join(', ')} WHERE "id" = ?`;
    const values = names.map((name) => toSql(table.columns[name] as Column, columns[name]));
    return this.database.statement(text).run(...values, id).changes > 0;
  }

  remove(tableName: string, id: string): void {
    this.database.statement(this.sqlOf(tableName).remove).run(id);
  }

  /** A row's image as text, for `koinon_base`. */
  imageOf(tableName: string, row: AnyRow): string {
    return JSON.stringify(columnsToWire(tableOf(this.schema, tableName), row));
  }

  /** The row of an image. */
  rowOf(tableName: string, id: string, image: string): AnyRow {
    const table = tableOf(this.schema, tableName);
    return wholeRow(table, id, columnsFromWire(table, JSON.parse(image) as Record<string, JsonValue>));
  }

  private sqlOf(tableName: string): TableSql {
    const known = this.sql.get(tableName);
    if (known) return known;
    const table = tableOf(this.schema, tableName);
    const names = Object.keys(table.columns);
    const quoted = quoteName(tableName);
    const columns = ['id', ...names].map(quoteName).join(', ');
    const insert = `INSERT INTO ${quoted} (${columns}) VALUES (?${', ?'.repeat(names.length)})`;
    const made: TableSql = {
      table,
      names,
      decode: rowDecoder(table),
      get: `SELECT ${columns} FROM ${quoted} WHERE "id" = ?`,
      among: `SELECT json_group_array(json_array(${columns})) AS rows FROM ${quoted} WHERE "id" IN (SELECT value FROM json_each(?))`,
      has: `SELECT 1 FROM ${quoted} WHERE "id" = ?`,
      insert,
      put: `${insert} ON CONFLICT ("id") DO UPDATE SET ${names.map((name) => `${quoteName(name)} = excluded.${quoteName(name)}`).join(', ')}`,
      remove: `DELETE FROM ${quoted} WHERE "id" = ?`,
    };
    this.sql.set(tableName, made);
    return made;
  }
}

/** Rows that one statement writes, and parameters that it takes: SQLite's own limit is 32,766. */
const rowsTogether = 50;
const mostParameters = 30_000;

/** The statement that writes some rows, whether they are there or not. */
function putText(tableName: string, { names }: Table, columns: readonly string[], count: number): string {
  const tuple = `(${['?', ...columns.map(() => '?')].join()})`;
  const set = names.map((name) => `${quoteName(name)} = excluded.${quoteName(name)}`).join();
  return `INSERT INTO ${quoteName(tableName)} (${['id', ...columns].map(quoteName).join()}) VALUES ${Array(count).fill(tuple).join()} ON CONFLICT ("id") DO UPDATE SET ${set}`;
}

function valuesOf({ table }: TableSql, columns: Readonly<Record<string, unknown>>): SqlValue[] {
  const values = new Array<SqlValue>(table.entries.length);
  for (let i = 0; i < values.length; i++) {
    const [name, column] = table.entries[i] as readonly [string, Column];
    values[i] = toSql(column, columns[name]);
  }
  return values;
}
