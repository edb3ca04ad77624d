import { KoinonError, type QueryRequest, type Schema } from '@koinon/core';
import {
  noAnswer,
  type Plan,
  planQuery,
  planSummary,
  queryToWire,
  resultRowFromWire,
  summaryRowFromWire,
} from '@koinon/core/internal';
import type { Host } from '../host/host.ts';
import type { Result } from '../live/result.ts';
import { Rerun } from '../live/view.ts';
import type { CheckedTransport } from '../sync/checked.ts';
import type { Question } from './question.ts';

/** The parts that queries of the server work with. */
export interface QueryParts {
  /** The schema of the app, with all its tables. */
  readonly schema: Schema;
  readonly host: Host;
  readonly query: CheckedTransport['query'];
  /** Which replica asks. */
  readonly replica: () => Promise<string>;
  /** Other tables are queried than before: the server is to tell of their changes. */
  readonly onTables: () => void;
}

/** Milliseconds between a change and the query that is run again for it: changes come in numbers. */
const runAgainAfter = 100;

/** The shortest and the longest milliseconds after which a query that failed is tried again. */
const [soonest, latest] = [2_000, 300_000];

/** Failures that pass: the network, the server, or who is signed in. */
const passing = new Set<string>([
  'server-unreachable',
  'server-answer',
  'server-failure',
  'too-many-requests',
  'not-authenticated',
  'token-failed',
  'cancelled',
]);

/** A query that somebody follows. */
interface Followed {
  readonly question: Question;
  readonly tables: readonly string[];
  readonly rerun: Rerun<unknown>;
  readonly fail: (error: unknown) => void;
  readonly deliver: (result: Result<unknown>) => void;
  rows: unknown[];
  isAnswered: boolean;
  isRunning: boolean;
  isDue: boolean;
  failures: number;
  cancelTimer: (() => void) | undefined;
}

/** The queries that the server answers for a replica. Nothing of what they bring is kept on the device. */
export class ServerQueries {
  private readonly parts: QueryParts;
  private readonly followed = new Set<Followed>();
  private told: ReadonlySet<string> = new Set();
  private isOver = false;

  constructor(parts: QueryParts) {
    this.parts = parts;
  }

  /**
   * The tables of which the server is to tell from now on: those of the queries that are followed and were answered. A server that does not know
   * queries is not asked to tell of them.
   */
  toldOf(): readonly string[] {
    this.told = new Set([...this.followed].flatMap(({ isAnswered, tables }) => (isAnswered ? tables : [])));
    return [...this.told].sort();
  }

  /**
   * The answer of the server.
   *
   * @throws KoinonError what is wrong with the query; `server-unreachable` without a network; what the server refuses it for.
   */
  async ask({ kind, query }: Question): Promise<unknown> {
    const { schema } = this.parts;
    if (kind === 'summary') {
      const plan = planSummary(schema, query);
      const { rows } = await this.send({ summary: this.wire(query) });
      return Object.freeze((rows ?? missing(query)).map((line) => summaryRowFromWire(plan, line)));
    }
    const plan = planQuery(schema, query);
    if (kind === 'count') {
      const { from, where } = query as { readonly from: unknown; readonly where?: unknown };
      const { count } = await this.send({ count: this.wire({ from, ...(where === undefined ? {} : { where }) }) });
      return count ?? missing(query);
    }
    const { rows } = await this.send({ rows: this.wire(query) });
    return Object.freeze((rows ?? missing(query)).map((row) => resultRowFromWire(schema, plan, row)));
  }

  /** Delivers the answers to a question: now, and whenever its tables have changed. Without a network the last answer stays, with the reason. */
  follow(question: Question, deliver: (result: Result<unknown>) => void, fail: (error: unknown) => void): () => void {
    const followed: Followed = {
      question,
      tables: tablesOf(this.parts.schema, question),
      rerun: new Rerun([], () => followed.rows, deliver, fail),
      deliver,
      fail,
      rows: [],
      isAnswered: false,
      isRunning: false,
      isDue: false,
      failures: 0,
      cancelTimer: undefined,
    };
    this.followed.add(followed);
    void this.run(followed);
    return () => {
      followed.cancelTimer?.();
      this.followed.delete(followed);
    };
  }

  /** The server says that rows of these tables have changed; without tables, that there may have been anything. */
  moved(tables?: readonly string[]): void {
    for (const each of this.followed)
      if (tables === undefined || each.tables.some((table) => tables.includes(table)))
        this.runLater(each, runAgainAfter);
  }

  /** Ends for good. */
  stop(): void {
    this.isOver = true;
    for (const { cancelTimer } of this.followed) cancelTimer?.();
    this.followed.clear();
  }

  private wire(query: unknown): NonNullable<QueryRequest['rows']> {
    return queryToWire(this.parts.schema, query) as NonNullable<QueryRequest['rows']>;
  }

  private async send(asked: Pick<QueryRequest, 'rows' | 'count' | 'summary'>) {
    const { query, replica, schema } = this.parts;
    if (query === undefined)
      throw new KoinonError(
        'not-linked',
        'The way to this server cannot ask queries; update the server, or the transport.',
      );
    return query({ ...asked, replica: await replica(), schemaVersion: schema.version });
  }

  private runLater(followed: Followed, after: number): void {
    if (followed.isRunning) followed.isDue = true;
    else {
      followed.cancelTimer?.();
      // Many devices hear of the same change at the same time.
      const { host } = this.parts;
      const wait = Math.round(after * (0.5 + host.random()));
      followed.cancelTimer = host.after(wait, () => void this.run(followed));
    }
  }

  private async run(followed: Followed): Promise<void> {
    followed.cancelTimer = undefined;
    followed.isRunning = true;
    let next: number | undefined;
    try {
      followed.rows = [...((await this.ask(followed.question)) as readonly unknown[])];
      if (this.isGone(followed)) return;
      if (followed.isAnswered && followed.failures === 0) followed.rerun.flush('server');
      else followed.rerun.refresh();
      followed.failures = 0;
      if (!followed.isAnswered) {
        followed.isAnswered = true;
        // Somebody who types a search follows one query after another, of the same tables.
        if (followed.tables.some((table) => !this.told.has(table))) this.parts.onTables();
      }
    } catch (error) {
      if (this.isGone(followed)) return;
      next = this.failed(followed, error);
      if (next === undefined) return;
    } finally {
      followed.isRunning = false;
    }
    if (followed.isDue) next = runAgainAfter;
    followed.isDue = false;
    if (next !== undefined) this.runLater(followed, next);
  }

  private isGone(followed: Followed): boolean {
    return this.isOver || !this.followed.has(followed);
  }

  /** Tells of a failure; says after how long the query is tried again, or that it is not. */
  private failed(followed: Followed, error: unknown): number | undefined {
    if (!(error instanceof KoinonError) || !passing.has(error.code)) {
      followed.fail(error);
      return undefined;
    }
    const { rows, isAnswered: ready } = followed;
    followed.deliver({ rows, added: [], updated: [], removed: [], origin: 'server', ready, error });
    return Math.min(latest, soonest * 2 ** followed.failures++);
  }
}

function missing(query: unknown): never {
  throw noAnswer('a query', query);
}

/** The tables that a question reads. */
function tablesOf(schema: Schema, { kind, query }: Question): readonly string[] {
  try {
    if (kind === 'summary') return [planSummary(schema, query).tableName];
    return tablesOfPlan(planQuery(schema, query));
  } catch {
    // What is wrong with it is told when it is asked.
    return [];
  }
}

const tablesOfPlan = ({ tableName, joins }: Plan): readonly string[] => [
  tableName,
  ...joins.flatMap((join) => (join.kind === 'one' ? [join.target] : join.kind === 'many' ? [join.plan.tableName] : [])),
];
