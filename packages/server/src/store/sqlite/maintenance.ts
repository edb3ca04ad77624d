import { existsSync } from 'node:fs';
import { KoinonError, type Schema } from '@koinon/core';
import { messageOf, replicaApplicationId } from '@koinon/core/internal';
import { layoutName, refuseNewerLayout } from '../layout-version.ts';
import type { Mapping } from '../mapping.ts';
import { notPrepared } from '../mode.ts';
import { type Connection, loadSqlite, Prepared } from './driver.ts';
import { renewKey } from './identity.ts';
import { alterTables, makeLayout, release } from './layout.ts';
import { resendAll } from './tracking.ts';
import { widenings } from './widen.ts';

/** Opens a file as the server's database, to be looked at or worked on as a whole. */
async function inFile<T>(file: string, work: (database: Prepared) => T): Promise<T> {
  const { DatabaseSync } = await loadSqlite();
  let connection: Connection | undefined;
  try {
    connection = new DatabaseSync(file, { timeout: 5_000 });
    const database = new Prepared(connection);
    refuseForeign(database, file);
    connection.exec('PRAGMA foreign_keys = on; BEGIN IMMEDIATE');
    const result = work(database);
    connection.exec('COMMIT');
    return result;
  } catch (error) {
    if (error instanceof KoinonError) throw error;
    throw new KoinonError(
      'storage-refused',
      `${file} cannot be worked on as a server's database: ${(error as Error).message}.`,
      { cause: error },
    );
  } finally {
    connection?.close();
  }
}

/**
 * The SQL that a file still lacks to be served, for somebody to look at before it is run. Changes nothing: it is tried on an empty
 * copy in memory. A file that is not there lacks everything.
 *
 * @throws KoinonError `storage-refused`, `storage-foreign` for a replica of a device.
 * @example
 * for (const statement of await sqliteDdl(cooperative, 'server.db')) show(statement)
 */
export async function sqliteDdl(schema: Schema, file: string, mapping: Mapping = {}): Promise<readonly string[]> {
  return (await planSqlite(schema, file, mapping)).statements;
}

/** The parts that a file lacks, and whether Koinon has ever served it. */
interface Planned {
  readonly statements: readonly string[];
  readonly isServed: boolean;
}

async function planSqlite(schema: Schema, file: string, mapping: Mapping): Promise<Planned> {
  const { DatabaseSync } = await loadSqlite();
  const memory = new DatabaseSync(':memory:');
  try {
    const copy = new Prepared(memory);
    if (existsSync(file))
      copyShape(new Prepared(new DatabaseSync(file, { timeout: 5_000, readOnly: true })), copy, file);
    const isServed = copy.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_feed'") !== undefined;
    const statements = widenings(copy, schema, mapping);
    const noting: Connection = {
      exec(sql) {
        statements.push(sql);
        memory.exec(sql);
      },
      prepare: (sql) => memory.prepare(sql),
      function: (name, run) => memory.function(name, run),
      close: () => undefined,
    };
    makeLayout(new Prepared(noting), schema, mapping);
    return { statements, isServed };
  } catch (error) {
    if (error instanceof KoinonError) throw error;
    throw new KoinonError('storage-refused', `${file} cannot be read as a server's database: ${messageOf(error)}.`, {
      cause: error,
    });
  } finally {
    memory.close();
  }
}

/** Makes the tables of a file, its triggers and indexes, in an empty database; of the rows only what Koinon notes of tables. */
function copyShape(from: Prepared, to: Prepared, file: string): void {
  try {
    refuseForeign(from, file);
    const made = from.all<{ name: string; sql: string }>(
      `SELECT name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
         ORDER BY type <> 'table', type = 'trigger'`,
    );
    const has = (name: string) => to.get('SELECT 1 FROM sqlite_schema WHERE name = ?', name) !== undefined;
    // A virtual table brings tables of its own.
    for (const { name, sql } of made) if (!has(name)) to.connection.exec(sql);
    if (!has('koinon_filterable')) return;
    for (const row of from.all<{ table_name: string; columns: string; position: number }>(
      'SELECT * FROM koinon_filterable',
    ))
      to.run('INSERT INTO koinon_filterable VALUES (?, ?, ?)', row.table_name, row.columns, row.position);
  } finally {
    from.connection.close();
  }
}

/** Refuses a file that lacks something, or is not there. @throws KoinonError `not-served`, `storage-refused`. */
export async function refuseUnprepared(schema: Schema, file: string, mapping: Mapping): Promise<void> {
  if (!existsSync(file)) throw new KoinonError('storage-refused', `There is no database ${file}.`, { value: file });
  const { statements, isServed } = await planSqlite(schema, file, mapping);
  if (statements.length > 0) throw notPrepared(file, isServed, statements.length);
}

/** @throws KoinonError `storage-foreign` for the file of a device; `layout-newer` for one that a newer Koinon has prepared. */
export function refuseForeign(database: Prepared, file: string): void {
  const found = database.get<{ application_id: number }>('PRAGMA application_id');
  if (found?.application_id === replicaApplicationId)
    throw new KoinonError(
      'storage-foreign',
      `${file} is the replica of a device, not the database of a server. Name the server's database; "koinon look" looks into a replica.`,
      { value: file },
    );
  if (database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_meta'") !== undefined)
    refuseNewerLayout(
      file,
      database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', layoutName)?.value,
    );
}

/**
 * Takes every trace of Koinon out of a file. The app's tables, and what is in them, stay as they are.
 *
 * @example
 * await uninstallSqlite('server.db')
 */
export function uninstallSqlite(file: string): Promise<void> {
  return inFile(file, release);
}

/**
 * Runs SQL that changes tables of a file that is served: with Koinon's triggers off, and on again, in one transaction. No change of
 * a row is lost to the feed; what the SQL itself does to rows is not in it.
 *
 * @param schema as it is afterwards.
 * @example
 * await alterSqlite(cooperative, 'server.db', 'ALTER TABLE hive ADD COLUMN weighed TEXT')
 */
export function alterSqlite(schema: Schema, file: string, sql: string, mapping: Mapping = {}): Promise<void> {
  return inFile(file, (database) => alterTables(database, schema, mapping, sql));
}

/**
 * Makes another key for cursors; returns its number. Servers that are running use it a minute later.
 *
 * @example
 * show(await renewKeySqlite('server.db'))
 */
export function renewKeySqlite(file: string): Promise<number> {
  return inFile(file, renewKey);
}

/**
 * Has every row sent anew, for what no trigger saw. Replicas get all rows as if they had just been written.
 *
 * @example
 * await resendAllSqlite(cooperative, 'server.db')
 */
export function resendAllSqlite(schema: Schema, file: string, mapping: Mapping = {}): Promise<void> {
  return inFile(file, (database) => {
    makeLayout(database, schema, mapping);
    resendAll(database, schema, mapping);
  });
}
