import { KoinonError, type Schema } from '@koinon/core';
import { createIndexes, replicaApplicationId } from '@koinon/core/internal';
import type { Database } from './database.ts';
import type { Migrations } from './migration.ts';
import { shapeOf } from './shape.ts';

/** Makes a file a replica of this schema: an empty one, or that of an earlier schema. */
export type Prepare = (database: Database, schema: Schema, migrations: Migrations) => void;

/** The version of Koinon's own tables in a replica. A change to them counts it up and brings older files up to it. */
export const layoutVersion = 1;

/** Refuses a replica that a newer Koinon has written. @throws KoinonError `layout-newer`. */
export function refuseNewerLayout(database: Database): void {
  const found = meta(database, 'layout version');
  if (found !== undefined && Number(found) > layoutVersion)
    throw new KoinonError(
      'layout-newer',
      `This replica was written by a newer Koinon: its own tables have version ${found}, this one knows ${layoutVersion}. Update the app; the data is untouched.`,
      { value: found },
    );
}

/** Tells whether a file is a replica of another version of this schema, which has to be brought up. */
export function isOlder(database: Database, schema: Schema): boolean {
  return isReplicaFile(database) && meta(database, 'schema') !== describeSchema(schema);
}

/** Tells whether a file is a replica already. */
export function isReplicaFile(database: Database): boolean {
  const [row] = database.guarded(() => database.once('PRAGMA application_id')) as [{ application_id: number }];
  return row.application_id === replicaApplicationId;
}

/**
 * Makes a file a replica of this schema, where it is not one yet. All in one transaction: what cannot be brought up is left
 * as it was.
 */
export function prepareLayout(
  database: Database,
  schema: Schema,
  migrations: Migrations,
  prepare: Prepare | undefined,
): void {
  if (prepare === undefined) return;
  database.transact(() => {
    prepare(database, schema, migrations);
    setMeta(database, 'schema', describeSchema(schema));
  });
}

/** The keys of several columns, by table. */
function keysOf({ tables }: Schema): Record<string, readonly string[]> {
  return Object.fromEntries(Object.entries(tables).flatMap(([name, { key }]) => (key.length > 0 ? [[name, key]] : [])));
}

function describeSchema(schema: Schema): string {
  const tables = Object.fromEntries([...shapeOf(schema)].map(([name, columns]) => [name, Object.fromEntries(columns)]));
  const indexes = Object.entries(schema.tables).flatMap(([name, table]) => createIndexes(name, table));
  const assigned = Object.keys(schema.tables).filter((name) => schema.tables[name]?.assignedKey);
  const keys = keysOf(schema);
  return JSON.stringify({
    version: schema.version,
    tables,
    indexes,
    ...(assigned.length > 0 ? { assigned } : {}),
    ...(Object.keys(keys).length > 0 ? { keys } : {}),
    ...(Object.keys(schema.actions).length > 0 ? { actions: true } : {}),
  });
}

/** Names under which `koinon_meta` keeps a value. */
export type MetaName =
  | 'replica'
  | 'schema'
  | 'layout version'
  | 'seed'
  | 'sync lease'
  | 'resync'
  | 'backfill'
  | 'backfilled'
  | 'cursor'
  | 'position'
  | 'server position'
  | 'complete'
  | 'parts'
  | 'joined'
  | 'uploads'
  | 'to come'
  | 'user'
  | 'name'
  | 'unlinked'
  | 'unlinking'
  | 'clock offset'
  | 'synced at'
  | 'synced tables'
  | 'asked columns'
  | 'unsupported'
  | 'holdings'
  | 'server schema'
  | 'invalid values'
  | 'erased'
  | `source ${string}`;

/** A value Koinon keeps about this replica. */
export function meta(database: Database, name: MetaName): string | undefined {
  const row = database.statement('SELECT value FROM koinon_meta WHERE name = ?').get(name) as
    | { value: string }
    | undefined;
  return row?.value;
}

/** Sets a value Koinon keeps about this replica. */
export function setMeta(database: Database, name: MetaName, value: string): void {
  database
    .statement('INSERT INTO koinon_meta VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value')
    .run(name, value);
}

/** Forgets a value Koinon kept about this replica. */
export function dropMeta(database: Database, name: MetaName): void {
  database.statement('DELETE FROM koinon_meta WHERE name = ?').run(name);
}

/** Milliseconds to add to this device's clock to have the server's, as far as it is known. */
export function clockOffset(database: Database): number {
  database.clockOffset ??= Number(meta(database, 'clock offset') ?? 0);
  return database.clockOffset;
}
