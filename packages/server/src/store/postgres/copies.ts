import { quoteName, quoteText } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import type { MappedTable } from '../mapping.ts';
import { brokenView, type TrackingFault, unreadableView } from '../tracking.ts';
import { differsSql } from './columns.ts';
import { isRepeatable } from './constraints.ts';
import { idSql, type TableKey } from './key.ts';
import { shortName } from './names.ts';

// Views, materialized ones, and tables of other databases: no trigger can follow their rows. Koinon keeps a copy of them in a table of its
// own, which is followed like every other table, and brings the copy up to the view when the database has changed.

/** A view with the copy of its rows. */
export interface ViewCopy {
  /** The quoted name of the view. */
  readonly view: string;
  /** The columns of both, by their quoted names, with their types. */
  readonly columns: ReadonlyMap<string, string>;
}

/** The quoted name of the copy of a table's rows. */
export function copyOf(table: string): string {
  return `koinon.${quoteName(shortName(`copy ${table}`))}`;
}

/** The statements that make the copy of a view, or give it the columns that the view has gained. */
export function copyDdl(
  { name, keyNames }: MappedTable,
  columns: ReadonlyMap<string, string>,
  present: ReadonlySet<string> | undefined,
): string[] {
  const copy = copyOf(name);
  const ddl = ([column, type]: readonly [string, string]) => `${quoteName(column)} ${type}`;
  if (present === undefined)
    return [
      `CREATE TABLE ${copy} (\n  ${[...columns].map(ddl).join(',\n  ')},\n  PRIMARY KEY (${keyNames.map(quoteName).join(', ')})\n)`,
    ];
  const gained = [...columns].filter(([column]) => !present.has(column));
  return gained.map((column) => `ALTER TABLE ${copy} ADD COLUMN ${ddl(column)}`);
}

/** The statements that bring a copy up to its view; of some rows, where their ids are the first parameter. */
function catchUpSql(copy: string, { view, columns }: ViewCopy, key: TableKey, areSome: boolean): readonly string[] {
  const keys = key.columns.map(({ sql }) => sql);
  const rest = [...columns].filter(([column]) => !keys.includes(column));
  const isSame = keys.map((column) => `c.${column} = v.${column}`).join(' AND ');
  const hasKey = keys.map((column) => `v.${column} IS NOT NULL`).join(' AND ');
  const differs = rest.map(([column, type]) => differsSql(type, `c.${column}`, `v.${column}`)).join(' OR ');
  const of = (row: string) => (areSome ? ` AND ${idSql(key, row)} = ANY($1)` : '');
  const all = [...keys, ...rest.map(([column]) => column)];
  const excluded = rest.map(([column]) => `${column} = excluded.${column}`).join(', ');
  return [
    `DELETE FROM ${copy} c WHERE NOT EXISTS (SELECT FROM ${view} v WHERE ${isSame})${of('c')}`,
    ...(rest.length === 0
      ? []
      : [
          `UPDATE ${copy} c SET ${rest.map(([column]) => `${column} = v.${column}`).join(', ')} FROM ${view} v WHERE ${isSame} AND (${differs})${of('v')}`,
        ]),
    // Another process may be about to insert the same row.
    `INSERT INTO ${copy} (${all.join(', ')}) SELECT ${all.map((column) => `v.${column}`).join(', ')} FROM ${view} v
       WHERE ${hasKey} AND NOT EXISTS (SELECT FROM ${copy} c WHERE ${isSame})${of('v')} ON CONFLICT (${keys.join(', ')}) DO ${excluded === '' ? 'NOTHING' : `UPDATE SET ${excluded}`}`,
  ];
}

/** A table whose rows come from a view. */
interface Viewed {
  readonly name: string;
  readonly sql: string;
  readonly key: TableKey;
  readonly copies: ViewCopy | undefined;
}

/** Brings some rows of a copy up to the view, inside a transaction of the caller's. */
export async function catchUpRows(client: ClientBase, table: Viewed, ids: readonly string[]): Promise<void> {
  if (table.copies === undefined) return;
  for (const sql of catchUpSql(table.sql, table.copies, table.key, true)) await client.query(sql, [ids]);
}

/** Brings all of the copies up to their views, likewise. A view that cannot be read keeps no other one from being followed. */
export async function catchUpAll(client: ClientBase, tables: Iterable<Viewed>): Promise<TrackingFault[]> {
  const faults: TrackingFault[] = [];
  for (const table of tables) {
    if (table.copies === undefined) continue;
    await client.query('SAVEPOINT copy');
    try {
      faults.push(...[(await catchUp(client, table)) ?? []].flat());
    } catch (error) {
      // Another process was first, or the connection is gone: that is not the view's fault, and tried again.
      if (isRepeatable(error) || (error as { code?: string }).code === undefined) throw error;
      await client.query('ROLLBACK TO copy');
      faults.push(unreadableView(table.name, plainName(table.copies), error));
    }
    await client.query('RELEASE copy');
  }
  return faults;
}

const plainName = ({ view }: ViewCopy) => view.replace(/^"public"\./, '').replaceAll('"', '');

/** Says what is wrong with the view's rows, if anything is. */
async function catchUp(client: ClientBase, table: Viewed): Promise<TrackingFault | undefined> {
  const { name, sql, key, copies } = table;
  if (copies === undefined) return undefined;
  const keys = key.columns.map((column) => column.sql);
  const named = keys.map((column) => column.slice(1, -1)).join(', ');
  const { rows } = await client.query<{ twice: boolean; without: boolean }>(
    `SELECT EXISTS (SELECT FROM ${copies.view} WHERE ${keys.map((column) => `${column} IS NOT NULL`).join(' AND ')} GROUP BY ${keys.join(', ')} HAVING count(*) > 1) AS twice,
       EXISTS (SELECT FROM ${copies.view} WHERE ${keys.map((column) => `${column} IS NULL`).join(' OR ')}) AS without`,
  );
  const [found] = rows;
  const view = plainName(copies);
  if (found?.twice) return brokenView(name, view, `has rows with the same ${named}`);
  for (const statement of catchUpSql(sql, copies, key, false)) await client.query(statement);
  return found?.without ? brokenView(name, view, `has rows without ${named}`) : undefined;
}

/** One process at a time brings copies up; the others have nothing to do meanwhile. */
export const copyLock = `SELECT pg_try_advisory_xact_lock(hashtext(${quoteText('koinon copies')})) AS held`;

/** A number that moves whenever anybody has written to the database. */
export const writtenSql = 'SELECT pg_current_snapshot()::text AS written';
