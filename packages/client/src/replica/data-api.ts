import type {
  ActionInput,
  ActionName,
  ColumnOfType,
  HeldTableName,
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
  WritableTableName,
} from '@koinon/core';
import { callback, options } from '../engine/arguments.ts';
import type { everyRow, StepName, Steps } from '../engine/steps.ts';

/** A condition, or in so many words all rows. */
export type RowSelector<S extends Schema, T extends TableName<S>> = Where<Row<S, T>> | typeof everyRow;

/** A call of an action: what {@link Replica.invoke} returns. */
export interface Invoked<Name extends string = string> {
  /** The id of the call. */
  readonly id: string;
  readonly name: Name;
}

/** How an action is invoked. */
export interface InvokeOptions<S extends Schema> {
  /**
   * Writes what the action is expected to do. It is shown until the rows come that the server's handler has written, and never sent.
   * It may write tables that only the server writes; a row that the handler makes is to have the same id here, which the input tells.
   */
  readonly locally?: (data: Predicting<S>) => Promise<unknown>;
}

/** The writes by which an app says what an action is expected to do: of every table, since the server will make them. */
export interface Predicting<S extends Schema>
  extends Pick<DataApi<S>, 'get' | 'rows' | 'count' | 'summary' | 'add' | 'include' | 'exclude'> {
  /** Adds a row, under the id that the handler will give it. */
  insert<T extends HeldTableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>>;
  /** Changes some columns of a row. */
  update<T extends HeldTableName<S>>(table: T, id: string, patch: Patch<S, T>): Promise<Row<S, T>>;
  /** Removes a row. */
  delete<T extends HeldTableName<S>>(table: T, id: string): Promise<void>;
}

/** The same functions: a prediction is refused for no table that only the server writes. */
const predicting = <S extends Schema>(data: DataApi<S>) => data as unknown as Predicting<S>;

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

  /**
   * The row of that id, or undefined. Rows are frozen: change them with {@link update}.
   *
   * @example
   * const hive = await replica.get('hive', 'h')
   */
  get<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined> {
    return typed(this.execute('get', table, id));
  }

  /**
   * The rows a query asks for. @throws KoinonError `query-invalid`, `unknown-column` and others, naming the part.
   *
   * @example
   * const weak = await replica.rows({ from: 'hive', where: { strength: { '<': 4 } }, order: 'mark', join: { place: { by: 'site' } } })
   */
  rows<
    T extends TableName<S>,
    C extends AllColumns<S, T> = AllColumns<S, T>,
    const J extends Joins<S, T> = Record<never, never>,
  >(query: Query<S, T, C, J>): Promise<readonly ResultRow<S, T, C, J>[]> {
    return typed(this.execute('rows', query));
  }

  /**
   * How many rows a condition has.
   *
   * @example
   * const missing = await replica.count({ from: 'hive', where: { queen: 'missing' } })
   */
  count<T extends TableName<S>>(query: Pick<Query<S, T>, 'from' | 'where'>): Promise<number> {
    return this.execute('count', query);
  }

  /**
   * Rows counted and measured, by group.
   *
   * @example
   * const perQueen = await replica.summary({ from: 'hive', by: ['queen'], measures: { hives: 'count', mean: ['avg', 'strength'] } })
   */
  summary<T extends TableName<S>, const M extends Summary<S, T>['measures'], const B extends AllColumns<S, T> = never>(
    summary: Summary<S, T, B, M>,
  ): Promise<readonly SummaryRow<S, T, B, M>[]> {
    return typed(this.execute('summary', summary));
  }

  /**
   * Runs a template of plain SQL that reads. Values come as SQLite stores them: booleans as 0 and 1, json and sets as text.
   *
   * @throws KoinonError `query-writes` for anything that is not a reading statement.
   * @example
   * const marks = await replica.select<{ mark: string }>(sql`SELECT mark FROM hive WHERE strength > ${3} ORDER BY mark`)
   */
  select<R = Readonly<Record<string, unknown>>>(query: Sql): Promise<readonly R[]> {
    return typed(this.execute('select', query));
  }

  /**
   * A row's base (what the server last gave), its present value, and the columns that differ.
   *
   * @example
   * const { base, present, changed } = await replica.rowState('hive', 'h')
   */
  rowState<T extends TableName<S>>(table: T, id: string): Promise<StateOfRow<Row<S, T>>> {
    return typed(this.execute('rowState', table, id));
  }

  /**
   * Adds a row; its id is a new UUIDv7 unless one is given. @throws KoinonError `duplicate-id` and others.
   *
   * @example
   * const hive = await replica.insert('hive', { site: 's', mark: 'B1' })
   */
  insert<T extends WritableTableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>> {
    return typed(this.execute('insert', table, row));
  }

  /**
   * Adds many rows as one transaction.
   *
   * @example
   * const hives = await replica.insertAll('hive', [{ site: 's', mark: 'B1' }, { site: 's', mark: 'B2' }])
   */
  insertAll<T extends WritableTableName<S>>(table: T, rows: readonly NewRow<S, T>[]): Promise<readonly Row<S, T>[]> {
    return typed(this.execute('insertAll', table, rows));
  }

  /**
   * Changes some columns of a row: a patch, or a function of the present row that returns one. What changes nothing
   * writes and queues nothing.
   *
   * @throws KoinonError `no-such-row` and others.
   * @example
   * await replica.update('hive', 'h', { queen: 'missing' })
   * await replica.update('hive', 'h', ({ strength }) => ({ strength: strength - 1 }))
   */
  update<T extends WritableTableName<S>>(
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

  /**
   * Changes some columns of all rows a condition has; says how many changed. @throws KoinonError `condition-missing`.
   *
   * @example
   * const changed = await replica.updateWhere('hive', { site: 's', strength: { '<': 4 } }, { queen: 'missing' })
   */
  updateWhere<T extends WritableTableName<S>>(table: T, where: RowSelector<S, T>, patch: Patch<S, T>): Promise<number> {
    return this.execute('updateWhere', table, where, patch);
  }

  /**
   * Adds a row, or changes the given columns of the row of that id.
   *
   * @example
   * await replica.upsert('hive', { id: 'b1', site: 's', mark: 'B1' })
   */
  upsert<T extends WritableTableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>> {
    return typed(this.execute('upsert', table, row));
  }

  /**
   * Adds many rows, or changes those that are there, as one transaction.
   *
   * @example
   * await replica.upsertAll('hive', [{ id: 'h', site: 's', mark: 'A1' }, { id: 'b1', site: 's', mark: 'B1' }])
   */
  upsertAll<T extends WritableTableName<S>>(table: T, rows: readonly NewRow<S, T>[]): Promise<readonly Row<S, T>[]> {
    return typed(this.execute('upsertAll', table, rows));
  }

  /**
   * Adds to a counter; a negative number takes away. The additions of several devices are summed.
   *
   * @example
   * await replica.add('hive', 'h', 'frames', 3)
   */
  add<T extends WritableTableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'counter'>,
    amount?: number,
  ): Promise<Row<S, T>>;
  /** Adds to a decimal counter, exactly; the amount is a text: `'-2.50'`. */
  add<T extends WritableTableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'decimal-counter'>,
    amount: string,
  ): Promise<Row<S, T>>;
  add<T extends WritableTableName<S>>(
    table: T,
    id: string,
    column: string,
    amount: number | string = 1,
  ): Promise<Row<S, T>> {
    return this.operate(table, id, column, { add: amount });
  }

  /**
   * Puts members into a set.
   *
   * @example
   * await replica.include('hive', 'h', 'tags', 'gentle')
   */
  include<T extends WritableTableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'set'>,
    ...members: string[]
  ): Promise<Row<S, T>> {
    return this.operate(table, id, column, { include: members, exclude: [] });
  }

  /**
   * Takes members out of a set.
   *
   * @example
   * await replica.exclude('hive', 'h', 'tags', 'swarmed')
   */
  exclude<T extends WritableTableName<S>>(
    table: T,
    id: string,
    column: ColumnOfType<S, T, 'set'>,
    ...members: string[]
  ): Promise<Row<S, T>> {
    return this.operate(table, id, column, { include: [], exclude: members });
  }

  /**
   * Removes a row. @throws KoinonError `no-such-row`, or `row-referenced` while another row refers to it.
   *
   * @example
   * await replica.delete('hive', 'h')
   */
  delete<T extends WritableTableName<S>>(table: T, id: string): Promise<void> {
    return this.execute('delete', table, id);
  }

  /**
   * Removes all rows a condition has; says how many. @throws KoinonError `condition-missing`.
   *
   * @example
   * const gone = await replica.deleteWhere('hive', { queen: 'missing' })
   */
  deleteWhere<T extends WritableTableName<S>>(table: T, where: RowSelector<S, T>): Promise<number> {
    return this.execute('deleteWhere', table, where);
  }

  /**
   * Asks for an action of the server. It is queued behind the edits made before it, with or without a network, and the server runs it once,
   * whatever is repeated. On a replica it is a transaction of its own; inside one it is a part of that.
   *
   * @throws KoinonError `unknown-action`, or what is wrong with the input.
   * @example
   * await replica.invoke('moveHive', { hive: 'h', to: 's' }, { locally: (data) => data.update('hive', 'h', { site: 's' }) })
   */
  async invoke<N extends ActionName<S>>(
    name: N,
    input: ActionInput<S, N>,
    given: InvokeOptions<S> = {},
  ): Promise<Invoked<N>> {
    options('options', given, ['locally']);
    const { locally } = given;
    if (locally !== undefined) callback('locally', locally);
    if (locally === undefined) return { id: await this.execute('invoke', name, input), name };
    return this.inTransaction(async (data) => {
      const id = await data.execute('beginPrediction', name, input);
      try {
        await locally(predicting(data));
      } finally {
        await data.execute('endPrediction');
      }
      return { id, name };
    });
  }

  /**
   * A setting's value, or its default. Settings stay on the device.
   *
   * @example
   * const units = await replica.setting('units')
   */
  setting<N extends SettingName<S>>(name: N): Promise<SettingValue<S, N>> {
    return typed(this.execute('setting', name));
  }

  /**
   * Sets a setting.
   *
   * @example
   * await replica.setSetting('units', 'lb')
   */
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
