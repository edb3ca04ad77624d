import type { Joins, Query, ResultRow, Row, Schema, Summary, SummaryRow, SyncedTableName } from '@koinon/core';
import { LiveQuery, type Source } from '../live/result.ts';
import type { Question } from '../on-server/question.ts';
import { typed } from './data-api.ts';

type AllColumns<S extends Schema, T extends SyncedTableName<S>> = Extract<keyof Row<S, T>, string>;

/**
 * Reading on the server, while it can be reached: every table that it keeps, those among them that devices hold. It knows nothing of what is
 * unsent on this device. What a user may not read is not there for him.
 */
export class OnServer<S extends Schema> {
  private readonly ask: (question: Question) => Promise<unknown>;
  private readonly follow: (question: Question) => Source<never>;

  /** @internal */
  constructor(ask: (question: Question) => Promise<unknown>, follow: (question: Question) => Source<never>) {
    this.ask = ask;
    this.follow = follow;
  }

  /**
   * The row of that id, or undefined. @throws KoinonError `server-unreachable`, `not-linked`.
   *
   * @example
   * const hive = await replica.onServer.get('hive', 'h')
   */
  async get<T extends SyncedTableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined> {
    const [row] = (await this.ask({ kind: 'rows', query: { from: table, where: { id } } })) as Row<S, T>[];
    return row;
  }

  /**
   * The rows a query asks for, within the limits of the server.
   *
   * @throws KoinonError `server-unreachable`, `not-linked`; `query-limit`, `column-withheld` and what is wrong with the query.
   * @example
   * const hives = await replica.onServer.rows({ from: 'hive', order: 'mark', limit: 50, join: { place: { by: 'site' } } })
   */
  rows<
    T extends SyncedTableName<S>,
    C extends AllColumns<S, T> = AllColumns<S, T>,
    const J extends Joins<S, T> = Record<never, never>,
  >(query: Query<S, T, C, J>): Promise<readonly ResultRow<S, T, C, J>[]> {
    return typed(this.ask({ kind: 'rows', query }));
  }

  /**
   * How many rows a condition has. @throws KoinonError as {@link rows} does.
   *
   * @example
   * const hives = await replica.onServer.count({ from: 'hive' })
   */
  count<T extends SyncedTableName<S>>(query: Pick<Query<S, T>, 'from' | 'where'>): Promise<number> {
    return typed(this.ask({ kind: 'count', query }));
  }

  /**
   * Rows counted and measured, by group. @throws KoinonError as {@link rows} does.
   *
   * @example
   * const perQueen = await replica.onServer.summary({ from: 'hive', by: ['queen'], measures: { hives: 'count' } })
   */
  summary<
    T extends SyncedTableName<S>,
    const M extends Summary<S, T>['measures'],
    const B extends AllColumns<S, T> = never,
  >(summary: Summary<S, T, B, M>): Promise<readonly SummaryRow<S, T, B, M>[]> {
    return typed(this.ask({ kind: 'summary', query: summary }));
  }

  /**
   * A query whose subscribers get each new answer: it is asked again when the server says that its tables have changed, and after each sync where
   * there is no live connection. Without a network the last answer stays, and the result says why in `error`.
   *
   * @example
   * const stop = replica.onServer.live({ from: 'hive', limit: 20 }).subscribe(({ rows, error }) => show(error?.code ?? rows))
   */
  live<
    T extends SyncedTableName<S>,
    C extends AllColumns<S, T> = AllColumns<S, T>,
    const J extends Joins<S, T> = Record<never, never>,
  >(query: Query<S, T, C, J>): LiveQuery<ResultRow<S, T, NoInfer<C>, NoInfer<J>>> {
    return new LiveQuery<ResultRow<S, T, C, J>>(this.follow({ kind: 'rows', query }));
  }

  /**
   * A summary whose subscribers get each new answer, as {@link live} does.
   *
   * @example
   * const stop = replica.onServer.liveSummary({ from: 'hive', measures: { hives: 'count' } }).subscribe(({ rows }) => show(rows))
   */
  liveSummary<
    T extends SyncedTableName<S>,
    const M extends Summary<S, T>['measures'],
    const B extends AllColumns<S, T> = never,
  >(summary: Summary<S, T, B, M>): LiveQuery<SummaryRow<S, T, B, M>> {
    return new LiveQuery<SummaryRow<S, T, B, M>>(this.follow({ kind: 'summary', query: summary }));
  }
}
