import { KoinonError, type Sql, type SqlValue } from '@koinon/core';
import type { BoundValue } from '../driver/driver.ts';
import type { Database } from './database.ts';

/** A read-only SQL query that has been looked through: its text, its values and the tables it reads. */
export interface Reading {
  readonly text: string;
  readonly values: readonly SqlValue[];
  readonly tables: readonly string[];
}

/**
 * Looks through an SQL text before it runs: one statement, that reads. SQLite itself is asked, by EXPLAIN, whether its
 * program would write and which tables it opens, so views, subqueries and CTEs count as what they are.
 *
 * @throws KoinonError `query-writes` or `query-invalid`.
 */
export function readOnly(database: Database, { text, values }: Sql): Reading {
  const bare = text.replace(/'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*|\/\*[\s\S]*?\*\//g, ' ').trim();
  if (!/^(select|with|values)\b/i.test(bare))
    throw new KoinonError(
      'query-writes',
      `Only SELECT, WITH and VALUES may be run as a query; write through the replica’s own functions. This begins: ${text.trim().slice(0, 40)}`,
    );
  if (/;[\s\S]*\S/.test(bare))
    throw new KoinonError('query-invalid', 'A query is one SQL statement; this has more after a semicolon.');
  let program: { opcode: string; p2: number; p3: number }[];
  try {
    program = database.once(`EXPLAIN ${text}`, ...values) as typeof program;
  } catch (error) {
    throw new KoinonError('query-invalid', `SQL cannot be read: ${(error as Error).message}.`, { cause: error });
  }
  if (program.some(({ opcode, p2 }) => (opcode === 'Transaction' && p2 !== 0) || opcode === 'OpenWrite'))
    throw new KoinonError('query-writes', 'A query may not write; write through the replica’s own functions.');
  const pages = new Map(
    (
      database.statement('SELECT rootpage, tbl_name FROM sqlite_schema WHERE rootpage > 0').all() as {
        rootpage: number;
        tbl_name: string;
      }[]
    ).map(({ rootpage, tbl_name }) => [rootpage, tbl_name]),
  );
  const opened = program.flatMap(({ opcode, p2 }) =>
    opcode === 'OpenRead' || opcode === 'ReopenIdx' ? [pages.get(p2)] : [],
  );
  return { text, values, tables: [...new Set(opened.filter((name) => name !== undefined))] };
}

/** Runs a query that has been looked through. Values come as SQLite stores them. */
export function runReading(database: Database, { text, values }: Reading): Readonly<Record<string, unknown>>[] {
  return database
    .guarded(() => database.statement(text).all(...values.map(bound)))
    .map((row) => Object.freeze({ ...(row as Record<string, unknown>) }));
}

/** Node binds numbers as floating point: 7 / 2 would be 3.5 there, and 3 in a browser. */
function bound(value: SqlValue): BoundValue {
  return Number.isSafeInteger(value) ? BigInt(value as number) : value;
}

/** A counter that SQLite raises when another connection has written the file. */
export function dataVersion(database: Database): number {
  return Object.values(database.statement('PRAGMA data_version').get() as object)[0] as number;
}
