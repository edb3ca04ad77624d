import { existsSync } from 'node:fs';
import { KoinonError } from '@koinon/core';
import { type PostgresOptions, postgresStore, type Store, sqliteStore } from '@koinon/server';
import { loadModule, type SchemaModule } from '../schema-module/load.ts';

/** How the help names a server's database. */
export const databaseWords = 'the server’s database: an SQLite file, or postgres://user@host/name';

/** Tells whether a server's database is a PostgreSQL one. */
export function isPostgres(database: string): boolean {
  return /^postgres(ql)?:/.test(database);
}

/** A server's database as it may be printed: without a password. */
export function shownDatabase(database: string): string {
  if (!isPostgres(database) || !URL.canParse(database)) return database;
  const url = new URL(database);
  return `${url.protocol}//${url.host}${url.pathname}`;
}

/** Opens a server's database. */
export async function openDatabase(
  { schema, mapping }: SchemaModule,
  database: string,
  { readFrom, ...options }: Pick<PostgresOptions, 'mode' | 'invalidValue' | 'readFrom'>,
): Promise<Store> {
  if (isPostgres(database))
    return postgresStore(schema, database, { mapping, ...options, ...(readFrom !== undefined && { readFrom }) });
  if (readFrom !== undefined)
    throw new KoinonError(
      'argument-invalid',
      `${database} is an SQLite file, which has no standby: leave out --read-from.`,
      {
        value: readFrom,
      },
    );
  return sqliteStore(schema, database, { mapping, ...options });
}

/** Opens a server's database that has been served already. */
export async function openStore(schemaPath: string, database: string, mode: 'serve' | 'read'): Promise<Store> {
  refuseMissing(database);
  return openDatabase(await loadModule(schemaPath), database, { mode });
}

/** @throws KoinonError `storage-refused` where there is no such file. */
export function refuseMissing(database: string): void {
  if (isPostgres(database) || existsSync(database)) return;
  throw new KoinonError('storage-refused', `There is no database ${database}.`, { value: database });
}
