import { KoinonError, type Only, type PullHeader, type Schema } from '@koinon/core';
import { columnsDigest } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { meta, setMeta } from '../database/layout.ts';

/**
 * Refuses the server of another app before anything is taken from it or sent to it: it knows none of the tables that are asked
 * for, or has other types for columns of the same schema version.
 *
 * @throws KoinonError `schema-foreign`.
 */
export function refuseForeign(
  schema: Schema,
  { columns = {} }: Only,
  { schema: theirs, unsupported = {} }: PullHeader,
): void {
  if (theirs === undefined) return;
  const asked = Object.entries(columns);
  const known = asked.map(
    ([table, names]) => [table, names.filter((name) => !unsupported[table]?.includes(name))] as const,
  );
  const knowsNone = asked.length > 0 && known.every(([, names]) => names.length === 0);
  const hasOtherTypes =
    theirs.version === schema.version && columnsDigest(schema, Object.fromEntries(known)) !== theirs.digest;
  if (!knowsNone && !hasOtherTypes) return;
  throw new KoinonError(
    'schema-foreign',
    `${knowsNone ? `The server knows none of the tables ${asked.map(([table]) => table).join(', ')}` : `The server has other types for columns of schema version ${schema.version}`}: it is another app's, or was started with another schema. Nothing was sent to it, and nothing taken from it. Check the server's address and its schema.`,
  );
}

/** Notes which version of the schema the server has. */
export function noteServerSchema(database: Database, { schema }: PullHeader): void {
  if (schema === undefined || meta(database, 'server schema') === String(schema.version)) return;
  setMeta(database, 'server schema', String(schema.version));
}
