import { type AnyRow, type Column, quoteName, type Schema, type SqlValue, type Table, toSql } from '@koinon/core';
import type { Stamped, Stamping } from './stamping.ts';

/** A row to be inserted that has no stamp, and what its stamp will say. */
interface Waiting {
  readonly table: string;
  readonly values: readonly SqlValue[];
  readonly stamp: Stamped;
}

/** Rows of one statement at most. */
const mostAtOnce = 500;

/** Fewer rows than this are inserted one by one: putting them into one text would cost more. */
const worthJoining = 4;

/**
 * Plain inserts that are put off until somebody looks, so that many go in one statement: drivers take longer to hand over
 * a row's values than SQLite to insert it. As one JSON text they cost a fraction.
 */
export class PlainInserts {
  private readonly schema: Schema;
  private readonly stamping: Stamping;
  private readonly run: (sql: string, ...values: SqlValue[]) => void;
  private readonly texts = new Map<string, { readonly one: string; readonly many: string }>();
  private waiting: Waiting[] = [];

  /** @param run runs a statement on the app's tables. */
  constructor(schema: Schema, stamping: Stamping, run: (sql: string, ...values: SqlValue[]) => void) {
    this.schema = schema;
    this.stamping = stamping;
    this.run = run;
  }

  /** Forgets what waits: its transaction was taken back. */
  forget(): void {
    this.waiting = [];
  }

  /** Puts an insert off; false where JSON might not carry its values to the last bit. */
  putOff(table: string, id: string, columns: Readonly<Record<string, unknown>>): boolean {
    const values = this.valuesOf(table, id, columns);
    if (!values.every(isCarried)) return false;
    this.waiting.push({ table, values, stamp: this.stamping.stamp(id) });
    return true;
  }

  /** Inserts a row now. */
  insert(table: string, id: string, columns: Readonly<Record<string, unknown>>): void {
    this.run(this.textsOf(table).one, ...this.valuesOf(table, id, columns));
  }

  /** Inserts what waits. @throws what SQLite says of the first statement that it refuses. */
  write(): void {
    if (this.waiting.length === 0) return;
    const { waiting } = this;
    this.waiting = [];
    for (let from = 0, to = 0; from < waiting.length; from = to) {
      const { table } = waiting[from] as Waiting;
      while (to < waiting.length && to < from + mostAtOnce && waiting[to]?.table === table) to++;
      const some = waiting.slice(from, to);
      const { one, many } = this.textsOf(table);
      if (some.length < worthJoining)
        for (const { values, stamp } of some) {
          this.run(one, ...values);
          this.stamping.insertStamp(table, stamp);
        }
      else {
        this.run(many, JSON.stringify(some.map(({ values }) => values)));
        this.stamping.insertStamps(
          table,
          some.map(({ stamp }) => stamp),
        );
      }
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
    const made = {
      one: `${into} VALUES (?${', ?'.repeat(names.length)})`,
      many: `${into} SELECT ${['id', ...names].map((_name, i) => `value ->> ${i}`).join(', ')} FROM json_each(?)`,
    };
    this.texts.set(name, made);
    return made;
  }
}

/**
 * Whether SQLite reads a value from JSON as it was. Digits up to fifteen are read exactly by any rule; a whole number that is
 * minus zero has no form of its own.
 */
function isCarried(value: SqlValue): boolean {
  if (typeof value !== 'number') return !(value instanceof Uint8Array);
  if (Number.isSafeInteger(value)) return !Object.is(value, -0);
  const text = String(value);
  return text.length <= 16 && !text.includes('e');
}
