import { type AnyRow, type Condition, KoinonError, type Schema, type SqlValue, type Table } from '@koinon/core';
import {
  conditionSql,
  decodeSummary,
  messageOf,
  orderedSql,
  type SummaryPlan,
  summaryParts,
} from '@koinon/core/internal';
import { notComputable, type QueryRoom, type Selection } from '../query.ts';
import type { Prepared } from './driver.ts';
import { type AppRows, storedBytes } from './rows.ts';

/** Milliseconds for which the number of a table's rows is taken for known. */
const countsFor = 60_000;

/** Rows between two looks at the clock. */
const looksEvery = 64;

/** The name of the function in SQL that ends a query whose time is over. */
const inTime = 'koinon_in_time';

/** The queries of one connection, each held to its limits. SQLite runs in this process, and would keep it from everything else. */
export class Queries {
  private readonly database: Prepared;
  private readonly schema: Schema;
  private readonly rows: AppRows;
  private readonly counts = new Map<string, { readonly rows: number; readonly at: number }>();
  private room: QueryRoom | undefined;
  private looked = 0;

  constructor(database: Prepared, schema: Schema, rows: AppRows) {
    this.database = database;
    this.schema = schema;
    this.rows = rows;
    database.connection.function(inTime, () => {
      if (++this.looked % looksEvery === 0) this.room?.refuseLate();
      return 1;
    });
  }

  /** Rows of one table, in an order. @throws KoinonError `query-limit`, `query-invalid`. */
  select({ table: name, columns, where, order, limit, offset = 0 }: Selection, room: QueryRoom): readonly AnyRow[] {
    const table = this.schema.tables[name] as Table;
    const read = this.rows.comparedSql(name);
    const values: SqlValue[] = [];
    const condition = conditionSql(table, where, values, read);
    const ordered = order
      .map(({ column, descending }) => `${orderedSql(table, column, read(column))}${descending ? ' DESC' : ''}`)
      .join(', ');
    const most = Math.min(limit ?? Number.POSITIVE_INFINITY, room.rowsLeft + 1);
    values.push(most, offset);
    const text = `SELECT ${this.rows.fieldsOf(name, columns)} FROM ${this.rows.relation(name)} WHERE ${inTime}() AND ${condition} ORDER BY ${ordered} LIMIT ? OFFSET ?`;
    const large = new Set(this.rows.large(name));
    const counted = columns.filter((column) => large.has(column));
    const decode = this.rows.decoderOf(name, columns);
    const found: AnyRow[] = [];
    this.run(text, values, { name, where, first: most + offset }, room, (raw) => {
      const held = raw as Record<string, unknown>;
      room.take(
        1,
        counted.reduce((sum, column) => sum + storedBytes(held[column]), 0),
      );
      found.push(decode(raw));
    });
    return found;
  }

  /** The lines of a summary. @throws KoinonError `query-limit`, `query-invalid`. */
  summarize(plan: SummaryPlan, room: QueryRoom): readonly Readonly<Record<string, unknown>>[] {
    const { tableName: name, table, condition: where } = plan;
    const read = this.rows.comparedSql(name);
    const { selected, grouped } = summaryParts(plan, read);
    const values: SqlValue[] = [];
    const condition = conditionSql(table, where, values, read);
    const text = `SELECT ${selected} FROM ${this.rows.relation(name)} WHERE ${inTime}() AND ${condition}${grouped} LIMIT ?`;
    values.push(room.rowsLeft + 1);
    const found: Readonly<Record<string, unknown>>[] = [];
    this.run(text, values, { name, where, first: undefined }, room, (raw) => {
      room.take(1, 0);
      found.push(decodeSummary(plan, raw));
    });
    return found;
  }

  private run(
    text: string,
    values: readonly SqlValue[],
    about: Scanned,
    room: QueryRoom,
    take: (raw: unknown) => void,
  ): void {
    room.refuseLate();
    room.refuseCostly(this.costOf(text, values, about));
    this.room = room;
    try {
      for (const raw of this.database.iterate(text, ...values)) take(raw);
    } catch (error) {
      if (!/too large|overflow/i.test(messageOf(error)) || error instanceof KoinonError) throw error;
      throw notComputable(error);
    } finally {
      this.room = undefined;
    }
  }

  /** The rows that a query goes through where no index leads to them, times the comparisons with each. */
  private costOf(text: string, values: readonly SqlValue[], { name, where, first }: Scanned): number {
    const steps = this.database.all<{ detail: string }>(`EXPLAIN QUERY PLAN ${text}`, ...values);
    if (!steps.some(({ detail }) => detail.startsWith('SCAN') && !detail.includes('json_each'))) return 0;
    const comparisons = comparisonsIn(where);
    // Along an index in the order that is asked for, the first rows are found at once where each of them is wanted.
    if (first !== undefined && comparisons === 0 && !steps.some(({ detail }) => detail.includes('TEMP B-TREE')))
      return first;
    return this.rowsOf(name) * (1 + comparisons);
  }

  /** How many rows a table has: counted anew when the count is old, since counting goes through an index of the table. */
  private rowsOf(name: string): number {
    const known = this.counts.get(name);
    if (known !== undefined && performance.now() - known.at < countsFor) return known.rows;
    const rows = this.database.get<{ n: number }>(`SELECT count(*) AS n FROM ${this.rows.relation(name)}`)?.n ?? 0;
    this.counts.set(name, { rows, at: performance.now() });
    return rows;
  }
}

/** The table that a query reads, its condition, and the number of rows at its beginning that are wanted; all where no number is given. */
interface Scanned {
  readonly name: string;
  readonly where: Condition;
  readonly first: number | undefined;
}

/** Comparisons in a condition; a list counts as one, since it is looked up. */
function comparisonsIn(condition: Condition): number {
  switch (condition.kind) {
    case 'and':
    case 'or':
      return condition.conditions.reduce((sum, part) => sum + comparisonsIn(part), 0);
    case 'not':
      return comparisonsIn(condition.condition);
    default:
      return 1;
  }
}
