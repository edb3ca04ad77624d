import { LRUCache } from 'lru-cache';

type SqlValue = null | number | bigint | string | Uint8Array;

/** A prepared statement. */
export interface Statement {
  run(...values: SqlValue[]): unknown;
  get(...values: SqlValue[]): unknown;
  all(...values: SqlValue[]): unknown[];
  iterate(...values: SqlValue[]): Iterable<unknown>;
}

/** An open SQLite file. */
export interface Connection {
  exec(sql: string): void;
  prepare(sql: string): Statement;
  /** Gives SQL a function of this name. */
  function(name: string, run: () => number): void;
  close(): void;
}

interface SqliteModule {
  readonly DatabaseSync: new (
    path: string,
    options?: { readonly readOnly?: boolean; readonly timeout?: number },
  ) => Connection;
}

/** SQLite as this Node has it: built in from Node 22.13 on, else the drop-in with prebuilt binaries. */
export function loadSqlite(): Promise<SqliteModule> {
  const builtIn = ['node', 'sqlite'].join(':');
  return (import(builtIn) as Promise<SqliteModule>).catch(
    () => import('@photostructure/sqlite') as unknown as Promise<SqliteModule>,
  );
}

/** Statements kept prepared, and the characters of their SQL: what a statement takes in memory follows its text. */
const keptStatements = { max: 300, maxSize: 1_000_000, maxEntrySize: 20_000 };

/** A connection that keeps the statements it has prepared last. */
export class Prepared {
  readonly connection: Connection;
  private readonly statements = new LRUCache<string, Statement>({
    ...keptStatements,
    sizeCalculation: (_statement, sql) => sql.length,
  });

  constructor(connection: Connection) {
    this.connection = connection;
  }

  get<Row>(sql: string, ...values: SqlValue[]): Row | undefined {
    return this.statement(sql).get(...values) as Row | undefined;
  }

  all<Row>(sql: string, ...values: SqlValue[]): Row[] {
    return this.statement(sql).all(...values) as Row[];
  }

  /**
   * Rows one by one, as they are found. However that ends, the statement is reset: one that is left in the middle of its rows keeps its
   * snapshot, and all that the connection reads afterwards would be of that time.
   */
  *iterate<Row>(sql: string, ...values: SqlValue[]): Generator<Row> {
    const rows = this.statement(sql)
      .iterate(...values)
      [Symbol.iterator]();
    try {
      for (let next = rows.next(); !next.done; next = rows.next()) yield next.value as Row;
    } finally {
      rows.return?.();
    }
  }

  run(sql: string, ...values: SqlValue[]): void {
    // Node binds numbers as floating point: a column without a type would keep 4 as 4.0.
    this.statement(sql).run(...values.map((value) => (Number.isSafeInteger(value) ? BigInt(value as number) : value)));
  }

  private statement(sql: string): Statement {
    const known = this.statements.get(sql);
    if (known) return known;
    const made = this.connection.prepare(sql);
    this.statements.set(sql, made);
    return made;
  }
}
