import { type Condition, KoinonError } from '@koinon/core';
import type { Order } from '@koinon/core/internal';
import { LRUCache } from 'lru-cache';

// Queries that a person's app asks, as the stores carry them out: of one table each, and never more than was allowed.

/** Rows of one table, in an order. */
export interface Selection {
  readonly table: string;
  /** The columns besides `id`. */
  readonly columns: readonly string[];
  readonly where: Condition;
  readonly order: readonly Order[];
  readonly limit?: number | undefined;
  readonly offset?: number;
}

/** How much queries of one request may take, all together. */
export interface QueryLimits {
  /** Rows, those that are joined in among them. */
  readonly rows: number;
  /** The bytes that the rows hold, about. */
  readonly bytes: number;
  /** Milliseconds. */
  readonly time: number;
  /**
   * The work that a query may be expected to make, before it begins: on PostgreSQL in the units of its planner, where the read of one page counts 1;
   * on SQLite the rows that are gone through, times the comparisons with each.
   */
  readonly cost: number;
}

/** Milliseconds for which the expected cost of a statement is taken for known. */
const costsKnownFor = 60_000;

/** The part of the greatest cost up to which a statement need not be estimated anew each time. */
const cheapPart = 0.05;

/** Statements that were cheap a moment ago, by their text; a statement of other values costs about the same. */
export class CheapStatements {
  /** Made with the first one: whoever only writes has none. */
  private known: LRUCache<string, true> | undefined;

  /** Looks whether a statement may be run. @param estimate what the database expects. @throws KoinonError `query-limit`. */
  async refuseCostly(text: string, room: QueryRoom, estimate: () => Promise<number>): Promise<void> {
    if (this.known?.has(text)) return;
    const cost = await estimate();
    room.refuseCostly(cost);
    if (cost > room.limits.cost * cheapPart) return;
    this.known ??= new LRUCache<string, true>({
      ...{ max: 1_000, maxSize: 2_000_000, ttl: costsKnownFor },
      sizeCalculation: (_cheap, statement) => statement.length,
    });
    this.known.set(text, true);
  }
}

/** The refusal of a query that a database began and cannot end. */
export const notComputable = (cause: unknown): KoinonError =>
  new KoinonError(
    'query-invalid',
    'The query cannot be answered: a value in it, or its result, is too large for the type of its column.',
    { cause },
  );

/** The room that is left while the queries of one request are run. */
export class QueryRoom {
  readonly limits: QueryLimits;
  private rows: number;
  private bytes: number;
  private readonly end: number;

  constructor(limits: QueryLimits) {
    this.limits = limits;
    this.rows = limits.rows;
    this.bytes = limits.bytes;
    this.end = performance.now() + limits.time;
  }

  /** Rows that there is room for. */
  get rowsLeft(): number {
    return this.rows;
  }

  /** Bytes that there is room for. */
  get bytesLeft(): number {
    return this.bytes;
  }

  /** Takes room for rows that were found. @throws KoinonError `query-limit`. */
  take(rows: number, bytes: number): void {
    this.rows -= rows;
    this.bytes -= bytes;
    if (this.rows < 0) throw this.over('rows');
    if (this.bytes < 0) throw this.over('bytes');
  }

  /** @throws KoinonError `query-limit` where the time is over. */
  refuseLate(): void {
    if (performance.now() > this.end) throw this.over('time');
  }

  /** @throws KoinonError `query-limit` where a query would cost more than is allowed. */
  refuseCostly(cost: number): void {
    if (cost > this.limits.cost) throw this.over('cost');
  }

  /** The refusal of a query that is over one of the limits. */
  over(limit: keyof QueryLimits): KoinonError {
    const { rows, bytes, time, cost } = this.limits;
    const { what, cure } = {
      rows: { what: `has more than ${rows} rows`, cure: 'Give it a limit, and ask for the next page with after' },
      bytes: {
        what: `has rows of more than ${bytes} bytes`,
        cure: 'Ask for fewer rows, or name the columns that are needed',
      },
      time: {
        what: `took more than ${time} ms`,
        cure: 'Ask by a condition that fewer rows fulfil, or give the table an index for it',
      },
      cost: {
        what: `would cost more than ${cost}, by the database’s own estimate`,
        cure: 'Ask by a condition that fewer rows fulfil, or give the table an index for it',
      },
    }[limit];
    return new KoinonError('query-limit', `The query ${what}, which is as much as this server allows. ${cure}.`, {
      rule: limit,
    });
  }
}
