import { quoteName } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { type TrackingFault, tableChanged, triggersTouched } from '../tracking.ts';
import type { AppTable } from './layout.ts';
import { feedTriggers, resendAllSql, triggerNames } from './triggers.ts';

// Other programs may switch triggers off for a bulk load, drop them, or change a table under a running server.

/** The triggers of a table as the catalog has them. What is switched off and on again has another version. */
interface Triggers {
  readonly state: string;
  readonly present: readonly string[];
  /** Those that do not fire when they should. */
  readonly disabled: readonly string[];
}

/** One is for what replication applies, and for nothing else. */
const firesFor = (name: string) =>
  name === 'koinon_applied' ? { code: 'R', sql: 'REPLICA ' } : { code: 'O', sql: '' };

async function triggersOf(client: ClientBase, { sql }: AppTable): Promise<Triggers> {
  const { rows } = await client.query<{ name: string; enabled: string; version: string }>(
    `SELECT tgname::text AS name, tgenabled::text AS enabled, xmin::text AS version FROM pg_trigger
     WHERE tgrelid = $1::regclass AND tgname LIKE 'koinon\\_%' ORDER BY 1`,
    [sql],
  );
  return {
    state: rows.map(({ name, version }) => `${name} ${version}`).join(),
    present: rows.map(({ name }) => name),
    disabled: rows.flatMap(({ name, enabled }) => (enabled === firesFor(name).code ? [] : [name])),
  };
}

const metaName = (table: AppTable) => `triggers ${table.name}`;

/** The fault of a table that is no more as it was; undefined where it is. */
async function changeOf(client: ClientBase, { sql, key, columns }: AppTable): Promise<string | undefined> {
  const { rows: found } = await client.query<{ there: boolean }>('SELECT to_regclass($1) IS NOT NULL AS there', [sql]);
  if (found[0]?.there !== true) return 'is gone';
  const { rows } = await client.query<{ name: string; type: string }>(
    `SELECT attname AS name, format_type(coalesce(nullif(t.typbasetype, 0), t.oid), -1) AS type
     FROM pg_attribute JOIN pg_type t ON t.oid = atttypid WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped`,
    [sql],
  );
  const types = new Map(rows.map(({ name, type }) => [quoteName(name), type]));
  for (const column of [...key.columns, ...columns.values()]) {
    const type = types.get(column.sql);
    if (type === undefined) return `has lost its column ${column.sql}`;
    if (type !== column.type) return `has ${type} for its column ${column.sql}, which was ${column.type},`;
  }
  return undefined;
}

/**
 * Looks whether tables are followed as they should be, and mends it where triggers were touched. In a transaction of the
 * caller's.
 *
 * @param tables as they stood when the store was opened.
 */
export async function lookAfterTables(client: ClientBase, tables: Iterable<AppTable>): Promise<TrackingFault[]> {
  const faults: TrackingFault[] = [];
  for (const table of tables) {
    const change = await changeOf(client, table);
    if (change !== undefined) {
      faults.push(tableChanged(table.name, change));
      continue;
    }
    const { rows } = await client.query<{ value: string }>('SELECT value FROM koinon.meta WHERE name = $1', [
      metaName(table),
    ]);
    const noted = rows[0]?.value;
    const standing = await triggersOf(client, table);
    if (standing.disabled.length === 0 && standing.state === noted) continue;
    await client.query('SAVEPOINT mending');
    try {
      if (standing.present.join() !== triggerNames.join())
        for (const statement of feedTriggers(table, table.sql)) await client.query(statement);
      for (const name of standing.disabled)
        await client.query(`ALTER TABLE ${table.sql} ENABLE ${firesFor(name).sql}TRIGGER ${quoteName(name)}`);
      // A table that is followed from now on has nothing to catch up with.
      if (noted !== undefined) {
        for (const statement of resendAllSql(table)) await client.query(statement);
        await client.query('UPDATE koinon.filterable SET position = pg_current_xact_id() WHERE table_name = $1', [
          table.name,
        ]);
        faults.push(triggersTouched(table.name));
      }
      const { state } = await triggersOf(client, table);
      await client.query(
        'INSERT INTO koinon.meta VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value',
        [metaName(table), state],
      );
    } catch (error) {
      await client.query('ROLLBACK TO SAVEPOINT mending');
      faults.push(triggersTouched(table.name, (error as Error).message));
    }
  }
  return faults;
}
