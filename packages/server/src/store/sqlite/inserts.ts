import type { AnyRow, Column, Schema, SqlValue, Table } from '@koinon/core';
import { quoteName, toSql } from '@koinon/core/internal';
import type { Stamped, Stamping } from './stamping.ts';

/** A row to be inserted that has no stamp, and what its stamp will say. */
interface Waiting {
  readonly table: string;
  readonly values: readonly SqlValue[];
  readonly stamp: Stamped;
}

/** Rows that go in one statement, what is left over goes one by one; and rows whose stamps are put into one text. */
const [together, stampedTogether] = [25, 500];

/** Plain inserts that are put off until somebody looks, so that many go in one statement, which costs less than one for each. */
export class PlainInserts {
  private readonly schema: Schema;
  private readonly stamping: Stamping;
  private readonly run: (sql: string, ...values: SqlValue[]) => void;
  private readonly texts = new Map<string, { readonly one: string; readonly many: string }>();
  private waiting: Waiting[] = [];
  /** The error of rows that had been put off and were refused: nothing of the database transaction may be kept. */
  private refusal: { readonly error: unknown } | undefined;

  /** @param run runs a statement on the app's tables. */
  constructor(schema: Schema, stamping: Stamping, run: (sql: string, ...values: SqlValue[]) => void) {
    this.schema = schema;
    this.stamping = stamping;
    this.run = run;
  }

  /** Forgets what waits: its transaction was taken back. */
  forget(): void {
    this.waiting = [];
    this.refusal = undefined;
  }

  /** How many wait. */
  get count(): number {
    return this.waiting.length;
  }

  /** Puts an insert off. */
  putOff(table: string, id: string, columns: Readonly<Record<string, unknown>>): void {
    this.waiting.push({ table, values: this.valuesOf(table, id, columns), stamp: this.stamping.stamp(id) });
  }

  /** Inserts a row now. */
  insert(table: string, id: string, columns: Readonly<Record<string, unknown>>): void {
    this.run(this.textsOf(table).one, ...this.valuesOf(table, id, columns));
  }

  /** Inserts what waits, or the first of it. @throws what SQLite says of the first statement that it refuses; from then on each time. */
  write(count = this.waiting.length): void {
    // A function of the app that caught it must not keep what follows.
    if (this.refusal !== undefined) throw this.refusal.error;
    if (count === 0) return;
    const waiting = this.waiting.slice(0, count);
    this.waiting = this.waiting.slice(count);
    try {
      this.writeAll(waiting);
    } catch (error) {
      this.refusal = { error };
      throw error;
    }
  }

  private writeAll(waiting: readonly Waiting[]): void {
    for (let from = 0, to = 0; from < waiting.length; from = to) {
      const { table } = waiting[from] as Waiting;
      while (to < waiting.length && to < from + stampedTogether && waiting[to]?.table === table) to++;
      const { one, many } = this.textsOf(table);
      let next = from;
      for (; next + together <= to; next += together) {
        const values: SqlValue[] = [];
        for (let i = next; i < next + together; i++) values.push(...(waiting[i] as Waiting).values);
        this.run(many, ...values);
      }
      for (; next < to; next++) this.run(one, ...(waiting[next] as Waiting).values);
      this.stamping.insertStamps(
        table,
        waiting.slice(from, to).map(({ stamp }) => stamp),
      );
    }
  }

  private valuesOf(name: string, id: string, columns: Readonly<Record<string, unknown>>): SqlValue[] {
    const table = this.schema.tables[name] as Table;
    return [id, ...table.names.map((column) => toSql(table.columns[column] as Column, (columns as AnyRow)[column]))];
  }

  private textsOf(name: string) {
    const known = this.texts.get(name);
    if (known !== undefined) return known;
    const { names } = this.schema.tables[name] as Table;
    const into = `INSERT INTO ${quoteName(name)} (${['id', ...names].map(quoteName).join(', ')})`;
    const row = `(?${', ?'.repeat(names.length)})`;
    const made = { one: `${into} VALUES ${row}`, many: `${into} VALUES ${row}${`, ${row}`.repeat(together - 1)}` };
    this.texts.set(name, made);
    return made;
  }
}
