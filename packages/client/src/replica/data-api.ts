import type {
  ColumnOfType,
  Joins,
  NewRow,
  Operation,
  Patch,
  Query,
  ResultRow,
  Row,
  Schema,
  SettingName,
  SettingValue,
  Sql,
  Summary,
  SummaryRow,
  TableName,
  Where,
} from '@koinon/core';
import type { everyRow, StepName, Steps } from '../engine/steps.ts';

/** A condition, or in so many words all rows. */
export type RowSelector<S extends Schema, T extends TableName<S>> = Where<Row<S, T>> | typeof everyRow;

/** A row beside what the server last gave. */
export interface StateOfRow<R> {
  /** The row as the server last gave it; null if it has none. For a row without own changes, the row itself. */
  readonly base: R | null;
  /** The row as it is here; null if it is deleted here. */
  readonly present: R | null;
  /** The columns in which the two differ; all of them where one is missing. */
  readonly changed: readonly string[];
}

/**
 * The answer of a step, in the types of the schema. A step knows rows of any table by what the schema says when it runs; which
 * table a call is about, and so what its rows are, only the call's own types say.
 */
export const typed = <R>(answer: Promise<unknown>): Promise<R> => answer as Promise<R>;

type AllColumns<S extends Schema, T extends TableName<S>> = Extract<keyof Row<S, T>, string>;

/**
 * Reading and writing, the same on a replica, where each call is a transaction of its own, and inside a transaction,
 * whose reads see its own writes. Each write is checked against the schema before anything is written: the error names
 * table, column, value and rule, and the data is as it was.
 */
export abstract class DataApi<S extends Schema> {
  /** Does one step, in process or elsewhere. */
  protected abstract execute<K extends StepName>(
    name: K,
    ...given: Parameters<Steps[K]>
  ): Promise<ReturnType<Steps[K]>>;
  /** Runs work that takes several steps as one transaction; inside one, as part of it. */
  protected abstract inTransaction<Result>(work: (data: DataApi<S>) => Promise<Result>): Promise<Result>;

  /** The row of that id, or undefined. Rows are frozen: change them with {@link update}. */
  get<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined> {
    return typed(this.execute('get', table, id));
  }

  /** The rows a query asks for. @throws KoinonError `query-invalid`, `unknown-column` and others, naming the part. */
  rows<
    T extends TableName<S>,
    C extends AllColumns<S, T> = AllColumns<S, T>,
    const J extends Joins<S, T> = Record<never, never>,
  >(query: Query<S, T, C, J>): Promise<readonly ResultRow<S, T, C, J>[]> {
    return typed(this.execute('rows', query));
  }

  /** How many rows a condition has. */
  count<T extends TableName<S>>(query: Pick<Query<S, T>, 'from' | 'where'>): Promise<number> {
    return this.execute('count', query);
  }

  /** Rows counted and measured, by group. */
  summary<T extends TableName<S>, const M extends Summary<S, T>['measures'], const B extends AllColumns<S, T> = never>(
    summary: Summary<S, T, B, M>,
  ): Promise<readonly SummaryRow<S, T, B, M>[]> {
    return typed(this.execute('summary', summary));
  }

  /**
   * Runs a template of plain SQL that reads. Values come as SQLite stores them: booleans as 0 and 1, json and sets as text.
   *
   * @throws KoinonError `query-writes` for anything that is not a reading statement.
   */
  select<R = Readonly<Record<string, unknown>>>(query: Sql): Promise<readonly R[]> {
    return typed(this.execute('select', query));
  }

  /** A row's base (what the server last gave), its present value, and the columns that differ. */
  rowState<T extends TableName<S>>(table: T, id: string): Promise<StateOfRow<Row<S, T>>> {
    return typed(this.execute('rowState', table, id));
  }

  /** Adds a row; its id is a new UUIDv7 unless one is given. @throws KoinonError `duplicate-id` and others. */
  insert<T extends TableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>> {
    return typed(this.execute('insert', table, row));
  }

  /** Adds many rows as one transaction. */
  insertAll<T extends TableName<S>>(table: T, rows: readonly NewRow<S, T>[]): Promise<readonly Row<S, T>[]> {
    return typed(this.execute('insertAll', table, rows));
  }

  /**
   * Changes some columns of a row: a patch, or a function of the present row that returns one. What changes nothing
   * writes and queues nothing.
   *
   * @throws KoinonError `no-such-row` and others.
   */
  update<T extends TableName<S>>(
    table: T,
    id: string,
    patch: Patch<S, T> | ((row: Row<S, T>) => Patch<S, T>),
  ): Promise<Row<S, T>> {
    if (typeof patch !== 'function') return typed(this.execute('update', table, id, patch));
    return this.inTransaction(async (data) => {
      const row = await data.get(table, id);
      // A row that is not there is refused by the update itself.
      return data.update(table, id, row === undefined ? {} : patch(row));
    });
  }

  /** Changes some columns of all rows a condition has; says how many changed. @throws KoinonError `condition-missing`. */
  updateWhere<T extends TableName<S>>(table: T, where: RowSelector<S, T>, patch: Patch<S, T>): Promise<number> {
    return this.execute('updateWhere', table, where, patch);
  }

  /** Adds a row, or changes the given columns of the row of that id. */
  upsert<T extends TableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>> {
    return typed(this.execute('upsert', table, row));
  }

  /** Adds many rows, or changes those that are there, as one transaction. */
  upsertAll<T extends TableName<S>>(table: T, rows: readonly NewRow<S, T>[]): Promise<readonly Row<S, T>[]> {
    return typed(this.execute('upsertAll', table, rows));
  }

  /** Adds to a counter; a negative number takes away. The additions of several devices are summed. */
  add<T extends TableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'counter'>,
    amount = 1,
  ): Promise<Row<S, T>> {
    return this.operate(table, id, column, { add: amount });
  }

  /** Puts members into a set. */
  include<T extends TableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'set'>,
    ...members: string[]
  ): Promise<Row<S, T>> {
    return this.operate(table, id, column, { include: members, exclude: [] });
  }

  /** Takes members out of a set. */
  exclude<T extends TableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'set'>,
    ...members: string[]
  ): Promise<Row<S, T>> {
    return this.operate(table, id, column, { include: [], exclude: members });
  }

  /** Removes a row. @throws KoinonError `no-such-row`, or `row-referenced` while another row refers to it. */
  delete<T extends TableName<S>>(table: T, id: string): Promise<void> {
    return this.execute('delete', table, id);
  }

  /** Removes all rows a condition has; says how many. @throws KoinonError `condition-missing`. */
  deleteWhere<T extends TableName<S>>(table: T, where: RowSelector<S, T>): Promise<number> {
    return this.execute('deleteWhere', table, where);
  }

  /** A setting's value, or its default. Settings stay on the device. */
  setting<N extends SettingName<S>>(name: N): Promise<SettingValue<S, N>> {
    return typed(this.execute('setting', name));
  }

  /** Sets a setting. */
  setSetting<N extends SettingName<S>>(name: N, value: SettingValue<S, N>): Promise<void> {
    return this.execute('setSetting', name, value);
  }

  private operate<R>(table: string, id: string, column: string, operation: Operation): Promise<R> {
    return typed(this.execute('operate', table, id, column, operation));
  }

  /** Does a step by its name: for a host that carries out what another thread asks of it. @internal */
  static executeStep<S extends Schema>(data: DataApi<S>, name: StepName, given: readonly unknown[]): Promise<unknown> {
    // A DataApi on the other side has put the values together, by the types of that step.
    return data.execute(name, ...(given as Parameters<Steps[StepName]>));
  }
}
