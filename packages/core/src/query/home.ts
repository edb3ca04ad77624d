import { KoinonError } from '../errors/errors.ts';
import { type Schema, tableOf } from '../schema/schema.ts';

/**
 * Who answers a query or a summary: the device, or the server where its tables are held there.
 *
 * @param schema of the app, with all its tables.
 * @throws KoinonError `query-mixed` for one that joins tables of both; `unknown-table`.
 */
export function answeredBy(schema: Schema, query: unknown): 'device' | 'server' {
  const { from, join } = (query ?? {}) as { readonly from?: unknown; readonly join?: unknown };
  const table = String(from);
  const { home, columns } = tableOf(schema, table);
  const joins = typeof join === 'object' && join !== null ? Object.values(join as Record<string, unknown>) : [];
  for (const each of joins) {
    const { from: many, by } = (each ?? {}) as { readonly from?: unknown; readonly by?: unknown };
    const joined =
      many === undefined
        ? Object.hasOwn(columns, String(by))
          ? columns[String(by)]?.target
          : undefined
        : String(many);
    // What is no table, or no reference, is told when the query is read.
    if (joined === undefined || !Object.hasOwn(schema.tables, joined)) continue;
    const isOnServer = schema.tables[joined]?.home === 'server';
    if (isOnServer === (home === 'server')) continue;
    const [here, there] = isOnServer ? [table, joined] : [joined, table];
    throw new KoinonError(
      'query-mixed',
      `The query joins ${here}, whose rows are on this device, with ${there}, whose rows are on the server. Ask for each by itself; or ask the server for both with onServer, which knows nothing of what is unsent here.`,
      { table: joined },
    );
  }
  return home === 'server' ? 'server' : 'device';
}
