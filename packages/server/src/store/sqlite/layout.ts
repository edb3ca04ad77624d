import { KoinonError, type Schema, type Table } from '@koinon/core';
import {
  constrainedColumnDdl,
  createServerIndexes,
  createServerTable,
  quoteName,
  serverColumnDdl,
} from '@koinon/core/internal';
import { layoutName, layoutVersion } from '../layout-version.ts';
import { hasAssignedKeys, keptTables, type MappedTable, type Mapping } from '../mapping.ts';
import { goneTable, type TrackingFault, triggersTouched } from '../tracking.ts';
import { actionTables, hasActionTables } from './action-tables.ts';
import { catchUpAll, makeCopy, standingTables } from './copies.ts';
import type { Prepared } from './driver.ts';
import { beginEpoch, type Identity } from './identity.ts';
import { lossesOf } from './losses.ts';
import { hasInsertTrigger, isServed, resendTable, track, trackedTable } from './tracking.ts';
import { assignedKeyTable, koinonTables } from './triggers.ts';
import { hasView, isMapped, makeView } from './views.ts';

/** A file that is ready to be served. */
export interface PreparedLayout {
  readonly identity: Identity;
  /** The state of the tables. */
  readonly faults: readonly TrackingFault[];
}

/** Makes the app's tables that are not there yet, Koinon's own tables and the triggers. One transaction, or none of it. */
export function prepareLayout(database: Prepared, schema: Schema, mapping: Mapping): PreparedLayout {
  const { connection } = database;
  connection.exec('BEGIN IMMEDIATE');
  try {
    const faults = makeLayout(database, schema, mapping);
    faults.push(...catchUpAll(database, schema, mapping));
    const identity = beginEpoch(database);
    connection.exec('COMMIT');
    return { identity, faults };
  } catch (error) {
    connection.exec('ROLLBACK');
    throw error;
  }
}

/** Makes what the database lacks, inside a transaction of the caller's. */
export function makeLayout(database: Prepared, schema: Schema, mapping: Mapping): TrackingFault[] {
  const { connection } = database;
  const faults: TrackingFault[] = [];
  if (database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_stamp'") === undefined)
    connection.exec(`${koinonTables}; INSERT INTO koinon_meta VALUES ('${layoutName}', '${layoutVersion}')`);
  // A database may have been served before there were such keys.
  const hasKeyTable = database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_assigned_key'") !== undefined;
  if (hasAssignedKeys(schema) && !hasKeyTable) connection.exec(assignedKeyTable);
  if (Object.keys(schema.actions).length > 0 && !hasActionTables(database)) connection.exec(actionTables);
  const tables = standingTables(database, schema, mapping);
  for (const mapped of tables) makeCopy(database, mapped);
  for (const { name, table } of tables) if (!isMapped(mapping, name)) makeTable(database, name, table);
  for (const mapped of tables) {
    const tracked = trackedTable(database, mapped, mapping);
    refuseLosses(database, mapped);
    const isLost = !hasInsertTrigger(database, tracked) && isServed(database, tracked.name);
    track(database, tracked);
    if (isLost) {
      resendTable(database, tracked);
      faults.push(triggersTouched(tracked.name));
    }
    if (hasView(mapping, mapped.name, mapped.table)) makeView(database, tracked, mapped);
  }
  return faults;
}

/** Refuses columns whose values a device would lose or change the form of. @throws KoinonError `schema-invalid`. */
function refuseLosses(database: Prepared, mapped: MappedTable): void {
  const losses = lossesOf(database, mapped);
  if (losses.length > 0)
    throw new KoinonError(
      'schema-invalid',
      `The table ${mapped.relation} of ${mapped.name} cannot keep all values: ${losses.join('; ')}. Say the form in the mapping, take another type for the column, or say that the loss is known: columns: { …: { lossy: true } }`,
      { table: mapped.name },
    );
}

/**
 * The columns that nothing in the database holds to their types, by table: those of tables that others made. What Koinon
 * made it made strict, with a rule for each column; only the members of sets have none.
 */
export function unenforcedColumns(
  database: Prepared,
  schema: Schema,
  mapping: Mapping,
): ReadonlyMap<string, ReadonlySet<string>> {
  const found = new Map<string, ReadonlySet<string>>();
  for (const { name, table } of standingTables(database, schema, mapping)) {
    const made = database.get<{ sql: string }>("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?", name);
    const isOurs = !isMapped(mapping, name) && made !== undefined && /STRICT\s*$/i.test(made.sql);
    const names = table.entries.flatMap(([column, definition]) => {
      const isHeld = isOurs && made.sql.includes(constrainedColumnDdl(column, definition));
      return isHeld && definition.type !== 'set' ? [] : [column];
    });
    found.set(name, new Set(names));
  }
  return found;
}

/** The tables that stand as Koinon makes them: with a text as the key, without a rule that lets an insert replace rows, and without columns that are filled in. */
export function plainTables(
  database: Prepared,
  schema: Schema,
  mapping: Mapping,
  filled: ReadonlyMap<string, unknown>,
): ReadonlySet<string> {
  const made = database.all<{ name: string }>(
    `SELECT name FROM sqlite_schema s WHERE type = 'table' AND sql LIKE '%STRICT' AND sql NOT LIKE '%ON CONFLICT%'
       AND EXISTS (SELECT 1 FROM pragma_table_info(s.name) i WHERE i.name = 'id' AND i.type = 'TEXT' AND i.pk = 1)`,
  );
  const kept = new Set(keptTables(schema));
  const isPlain = (name: string) => kept.has(name) && !isMapped(mapping, name) && !filled.has(name);
  return new Set(made.flatMap(({ name }) => (isPlain(name) ? [name] : [])));
}

/** Takes Koinon's tables and triggers out of a database. */
export function release(database: Prepared): void {
  const found = database.all<{ type: string; name: string }>(
    "SELECT type, name FROM sqlite_schema WHERE name LIKE 'koinon\\_%' ESCAPE '\\' ORDER BY type = 'index', type = 'table'",
  );
  // With a view go its triggers, with a table its indexes.
  for (const { type, name } of found)
    database.connection.exec(`DROP ${type.toUpperCase()} IF EXISTS ${quoteName(name)}`);
}

/**
 * Runs SQL that changes tables while nothing of Koinon's stands in its way: SQLite lets no column go that a trigger names. Inside a
 * transaction of the caller's, in which nobody else can write.
 */
export function alterTables(database: Prepared, schema: Schema, mapping: Mapping, sql: string): void {
  const standing = database.all<{ type: string; name: string; tbl_name: string }>(
    "SELECT type, name, tbl_name FROM sqlite_schema WHERE type IN ('trigger', 'view') AND name LIKE 'koinon\\_%' ESCAPE '\\'",
  );
  // With a view go its triggers.
  for (const { type, name, tbl_name } of standing)
    if (type === 'view' || !tbl_name.startsWith('koinon_')) database.connection.exec(`DROP ${type} ${quoteName(name)}`);
  database.connection.exec(sql);
  for (const mapped of standingTables(database, schema, mapping)) {
    makeCopy(database, mapped);
    // The schema may have gained columns besides.
    if (!isMapped(mapping, mapped.name)) makeTable(database, mapped.name, mapped.table);
    const table = trackedTable(database, mapped, mapping);
    track(database, table);
    if (hasView(mapping, mapped.name, mapped.table)) makeView(database, table, mapped);
  }
}

/** Makes a table that is not there yet, and adds the columns that one which is there lacks. */
function makeTable(database: Prepared, name: string, table: Table): void {
  if (database.get("SELECT 1 FROM sqlite_schema WHERE type = 'view' AND lower(name) = lower(?)", name) !== undefined)
    throw new KoinonError('schema-invalid', `${name} is no table but a view, whose rows cannot be followed.`, {
      table: name,
    });
  const present = database
    .all<{ name: string }>('SELECT name FROM pragma_table_xinfo(?)', name)
    .map((column) => column.name);
  if (present.length === 0) {
    if (isServed(database, name))
      throw new KoinonError('schema-invalid', `The table ${name} ${goneTable}.`, { table: name });
    for (const statement of createServerTable(name, table)) database.connection.exec(statement);
    return;
  }
  for (const [column, definition] of table.entries) {
    if (present.includes(column)) continue;
    const { default: initial, optional } = definition;
    if (!optional && (initial === undefined || typeof initial === 'function'))
      throw new KoinonError(
        'schema-invalid',
        `${name}.${column} is new and required; give it a default value for the rows that are there, or add it by your own SQL.`,
        { table: name, column },
      );
    database.connection.exec(`ALTER TABLE ${quoteName(name)} ADD COLUMN ${serverColumnDdl(table, column)}`);
  }
  const indexes = new Set(
    database.all<{ name: string }>('SELECT name FROM pragma_index_list(?)', name).map((index) => quoteName(index.name)),
  );
  for (const statement of createServerIndexes(name, table))
    if (![...indexes].some((index) => statement.includes(`EXISTS ${index} ON`))) database.connection.exec(statement);
}
