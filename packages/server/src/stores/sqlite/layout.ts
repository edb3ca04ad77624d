import { randomBytes, randomUUID } from 'node:crypto';
import { KoinonError, type Schema, type Table } from '@koinon/core';
import { columnDdl, createIndexes, createTable, quoteName, serverColumnDdl } from '@koinon/core/internal';
import { type CursorKey, CursorKeys, keyName, keysOf, keyText, newCursorKey } from '../../cursor/keys.ts';
import { type MappedTable, type Mapping, mappedTables } from '../mapping.ts';
import { goneTable, type TrackingFault, tableChanged, triggersTouched } from '../tracking.ts';
import type { Prepared } from './driver.ts';
import {
  aliveSql,
  feedTriggers,
  keySql,
  koinonTables,
  resendAllSql,
  stampUnstamped,
  type TrackedTable,
} from './triggers.ts';

/** What a store keeps about itself. */
export interface Identity {
  readonly feed: string;
  readonly keys: CursorKeys;
  /** What was found of the tables when it was opened. */
  readonly faults: readonly TrackingFault[];
}

/** The tables of a schema that the server keeps. */
export function keptTables(schema: Schema): string[] {
  return Object.entries(schema.tables).flatMap(([name, table]) => (table.home === 'device' ? [] : [name]));
}

/** Makes the app's tables that are not there yet, Koinon's own tables and the triggers. One transaction, or none of it. */
export function prepareLayout(database: Prepared, schema: Schema, mapping: Mapping): Identity {
  const { connection } = database;
  connection.exec('BEGIN IMMEDIATE');
  try {
    const faults = makeLayout(database, schema, mapping);
    const feed = metaOr(database, 'feed', () => randomUUID());
    const root = metaOr(database, 'secret', () => randomBytes(32).toString('base64url'));
    if (storedKeys(database).length === 0) renewKey(database);
    const identity = { feed, keys: new CursorKeys(root, storedKeys(database)), faults };
    database.run(
      'INSERT INTO koinon_epoch (id, position) SELECT ?, position FROM koinon_feed',
      randomUUID().slice(0, 8),
    );
    connection.exec('COMMIT');
    return identity;
  } catch (error) {
    connection.exec('ROLLBACK');
    throw error;
  }
}

/** What a store kept about itself when it was served last. */
export function storedIdentity(database: Prepared): Identity {
  const value = (name: string) =>
    database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', name)?.value ?? '';
  return { feed: value('feed'), keys: new CursorKeys(value('secret'), storedKeys(database)), faults: [] };
}

/** Makes what the database lacks, inside a transaction of the caller's. */
export function makeLayout(database: Prepared, schema: Schema, mapping: Mapping): TrackingFault[] {
  const { connection } = database;
  const faults: TrackingFault[] = [];
  const has = (table: string, column: string) =>
    database.get('SELECT 1 FROM pragma_table_info(?) WHERE name = ?', table, column) !== undefined;
  if (!laterColumns.every(([table, column]) => has(table, column))) {
    connection.exec(koinonTables);
    for (const [table, column, definition] of laterColumns)
      if (!has(table, column)) connection.exec(`ALTER TABLE ${table} ADD COLUMN ${column} ${definition}`);
    connection.exec("CREATE INDEX IF NOT EXISTS koinon_stamp_past ON koinon_stamp (position) WHERE past <> '{}'");
  }
  const tables = mappedTables(schema, mapping);
  for (const { name, table } of tables) if (!isMapped(mapping, name)) makeTable(database, name, table);
  for (const mapped of tables) {
    const tracked = trackedTable(database, mapped, isMapped(mapping, mapped.name));
    const isLost = !hasInsertTrigger(database, tracked) && isServed(database, tracked.name);
    track(database, tracked);
    if (isLost) {
      resendTable(database, tracked);
      faults.push(triggersTouched(tracked.name));
    }
    if (isMapped(mapping, mapped.name)) makeView(database, tracked);
  }
  return faults;
}

/** Whether a table is followed at all: other triggers may have changed with the schema. */
function hasInsertTrigger(database: Prepared, { name, relation }: TrackedTable): boolean {
  const trigger = "SELECT 1 FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? AND name = ?";
  return database.get(trigger, relation, `koinon_${name}_after_insert`) !== undefined;
}

/** Whether a table goes by other names than in the schema. */
export function isMapped(mapping: Mapping, table: string): boolean {
  return Object.hasOwn(mapping, table);
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
  for (const { name, table } of mappedTables(schema, mapping)) {
    const made = database.get<{ sql: string }>("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?", name);
    const isOurs = !isMapped(mapping, name) && made !== undefined && /STRICT\s*$/i.test(made.sql);
    const names = table.entries.flatMap(([column, definition]) => {
      const isHeld = isOurs && made.sql.includes(columnDdl(column, definition, 'constraints'));
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

/** What the database fills in by itself: a column that it computes, or one that has a default (as SQL) and may not be empty. */
export type Filled = 'always' | { readonly default: string };

/** The columns of a relation that the database fills in, by their names there. */
function filledColumns(database: Prepared, relation: string): ReadonlyMap<string, Filled> {
  const columns = database.all<{ name: string; hidden: number; required: number; initial: string | null }>(
    'SELECT name, hidden, "notnull" AS required, dflt_value AS initial FROM pragma_table_xinfo(?)',
    relation,
  );
  return new Map(
    columns.flatMap(({ name, hidden, required, initial }): [string, Filled][] => {
      if (hidden !== 0) return [[name, 'always']];
      return required === 1 && initial !== null ? [[name, { default: `(${initial})` }]] : [];
    }),
  );
}

/**
 * The columns that the database fills in, of tables that others made and that go by the schema's names. What it fills in of
 * mapped ones is said by their views.
 */
export function columnsFilled(
  database: Prepared,
  schema: Schema,
  mapping: Mapping,
): ReadonlyMap<string, ReadonlyMap<string, Filled>> {
  return new Map(
    keptTables(schema).flatMap((name): [string, ReadonlyMap<string, Filled>][] => {
      const filled = isMapped(mapping, name) ? new Map<string, Filled>() : filledColumns(database, name);
      const table = schema.tables[name] as Table;
      // Of a column that is required here, none is never sent.
      const own = [...filled].filter(
        ([column, how]) =>
          Object.hasOwn(table.columns, column) && (how === 'always' || table.columns[column]?.optional),
      );
      return own.length === 0 ? [] : [[name, new Map(own)]];
    }),
  );
}

const viewOf = (table: string) => `koinon_view_${table}`;

/** The quoted names by which tables are read and written under the schema's own names. */
export function relationOf(mapping: Mapping): (table: string) => string {
  return (table) => quoteName(isMapped(mapping, table) ? viewOf(table) : table);
}

/** A mapped table under the schema's names: a view, and what becomes of what is written into that. */
function makeView(database: Prepared, table: TrackedTable): void {
  const { name, relation, key, hasTextKey, columns, mark } = table;
  const [V, T, K] = [viewOf(name), relation, key].map(quoteName) as [string, string, string];
  const there = (column: string) => quoteName(table.there[column] ?? column);
  const numeric = `SELECT RAISE(ABORT, 'cannot store a text that is no number as the key') WHERE CAST(CAST(NEW.id AS INTEGER) AS TEXT) IS NOT NEW.id;`;
  const filled = filledColumns(database, relation);
  const written = columns.filter((column) => filled.get(table.there[column] ?? column) !== 'always');
  const given = written.map((column) => {
    const how = filled.get(table.there[column] ?? column);
    const value = `NEW.${quoteName(column)}`;
    return how === undefined || how === 'always' ? value : `coalesce(${value}, ${how.default})`;
  });
  const set = written.map((column) => `${there(column)} = NEW.${quoteName(column)}`).join(', ');
  const fields = columns.map((column) => `${T}.${there(column)} AS ${quoteName(column)}`);
  const instead = (event: string, body: string) =>
    `CREATE TRIGGER ${quoteName(`${viewOf(name)}_${event}`)} INSTEAD OF ${event.toUpperCase()} ON ${V}\nBEGIN\n  ${body}\nEND`;
  const id = hasTextKey ? 'NEW.id' : 'CAST(NEW.id AS INTEGER)';
  const marked = mark && quoteName(mark.column);
  const taken = `SELECT RAISE(ABORT, 'UNIQUE constraint failed: ${relation.replaceAll("'", "''")}.${key.replaceAll("'", "''")}') WHERE EXISTS (SELECT 1 FROM ${T} WHERE ${K} = ${id} AND ${aliveSql(table, T)});`;
  // A row that is marked as deleted stands where a new one of its id goes.
  const revived = `ON CONFLICT (${K}) DO UPDATE SET ${[...written.map((column) => `${there(column)} = excluded.${there(column)}`), `${marked} = ${mark?.isTime ? 'NULL' : '0'}`].join(', ')}`;
  const removed = mark
    ? `UPDATE ${T} SET ${marked} = ${mark.isTime ? "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')" : '1'} WHERE ${K} = OLD.id;`
    : `DELETE FROM ${T} WHERE ${K} = OLD.id;`;
  const wanted = [
    ...(hasTextKey ? [] : [`CREATE INDEX ${quoteName(`koinon_id_${name}`)} ON ${T} (CAST(${K} AS TEXT))`]),
    `CREATE VIEW ${V} AS SELECT ${[`${keySql(table, T)} AS "id"`, ...fields].join(', ')} FROM ${T}${mark ? ` WHERE ${aliveSql(table, T)}` : ''}`,
    instead(
      'insert',
      `${hasTextKey ? '' : numeric}${mark ? taken : ''}INSERT INTO ${T} (${[K, ...written.map(there)].join(', ')}) VALUES (${['NEW.id', ...given].join(', ')})${mark ? ` ${revived}` : ''};`,
    ),
    instead('update', `UPDATE ${T} SET ${set} WHERE ${K} = OLD.id;`),
    instead('delete', removed),
  ];
  const known = new Set(database.all<{ sql: string }>('SELECT sql FROM sqlite_schema').map(({ sql }) => sql));
  if (wanted.every((sql) => known.has(sql))) return;
  database.connection.exec(`DROP VIEW IF EXISTS ${V}`);
  for (const sql of wanted) if (!known.has(sql) || !sql.startsWith('CREATE INDEX')) database.connection.exec(sql);
}

/** Columns that Koinon's own tables have gained. */
const laterColumns = [
  ['koinon_stamp', 'past', "TEXT NOT NULL DEFAULT '{}'"],
  ['koinon_receipt', 'user_id', 'TEXT'],
  ['koinon_receipt', 'replica', 'TEXT'],
  ['koinon_writer', 'stamps', 'INTEGER'],
] as const;

/** Takes Koinon's tables and triggers out of a database. */
export function release(database: Prepared): void {
  const found = database.all<{ type: string; name: string }>(
    "SELECT type, name FROM sqlite_schema WHERE name LIKE 'koinon\\_%' ESCAPE '\\' ORDER BY type = 'index', type = 'table'",
  );
  // With a view go its triggers, with a table its indexes.
  for (const { type, name } of found)
    database.connection.exec(`DROP ${type.toUpperCase()} IF EXISTS ${quoteName(name)}`);
}

/** Makes every row, and every one that is gone, look newly written. */
export function resendAll(database: Prepared, schema: Schema, mapping: Mapping): void {
  for (const mapped of mappedTables(schema, mapping))
    resendTable(database, trackedTable(database, mapped, isMapped(mapping, mapped.name)));
}

function resendTable(database: Prepared, table: TrackedTable): void {
  database.connection.exec('UPDATE koinon_feed SET position = position + 1');
  for (const sql of resendAllSql(table)) database.connection.exec(sql);
  // What filterable columns held meanwhile nobody knows: whoever gets only some of the rows starts over.
  database.run(
    'UPDATE koinon_filterable SET position = (SELECT position FROM koinon_feed) WHERE table_name = ?',
    table.name,
  );
}

/** Whether a table was served before. */
function isServed(database: Prepared, table: string): boolean {
  return database.get('SELECT 1 FROM koinon_stamp WHERE table_name = ? LIMIT 1', table) !== undefined;
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
  for (const mapped of mappedTables(schema, mapping)) {
    const table = trackedTable(database, mapped, isMapped(mapping, mapped.name));
    track(database, table);
    if (isMapped(mapping, mapped.name)) makeView(database, table);
  }
}

/** What has become of a table under a running server. */
export type TableState =
  | { readonly is: 'followed' }
  | { readonly is: 'changed'; readonly fault: TrackingFault }
  | { readonly is: 'untracked'; readonly table: TrackedTable };

/** Looks whether tables are followed as they should be. Changes nothing. */
export function statesOf(database: Prepared, schema: Schema, mapping: Mapping): TableState[] {
  return mappedTables(schema, mapping).map((mapped): TableState => {
    const { name, relation, idName, columnNames } = mapped;
    const there = database.all<{ name: string }>('SELECT name FROM pragma_table_xinfo(?)', relation);
    const columns = new Set(there.map((column) => column.name));
    if (columns.size === 0) return { is: 'changed', fault: tableChanged(name, 'is gone') };
    const lost = [idName, ...Object.values(columnNames)].find((column) => !columns.has(column));
    if (lost !== undefined) return { is: 'changed', fault: tableChanged(name, `has lost its column ${lost}`) };
    const table = trackedTable(database, mapped, isMapped(mapping, name));
    return isFollowed(database, table) ? { is: 'followed' } : { is: 'untracked', table };
  });
}

/** Puts the triggers of a table back, and has its rows sent anew. Inside a transaction of the caller's. */
export function followAgain(database: Prepared, table: TrackedTable): TrackingFault {
  track(database, table);
  resendTable(database, table);
  return triggersTouched(table.name);
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
    for (const statement of createTable(name, table, 'constraints')) database.connection.exec(statement);
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
  for (const statement of createIndexes(name, table, 'constraints'))
    if (![...indexes].some((index) => statement.includes(`EXISTS ${index} ON`))) database.connection.exec(statement);
}

/** The triggers of Koinon's that stand on a table. */
function triggersOn(database: Prepared, table: TrackedTable): { readonly name: string; readonly sql: string }[] {
  return database.all(
    "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? AND name LIKE 'koinon\\_%' ESCAPE '\\'",
    table.relation,
  );
}

/** Whether the triggers stand on a table as they should. */
function isFollowed(database: Prepared, table: TrackedTable): boolean {
  const wanted = feedTriggers(table);
  const stands = new Set(triggersOn(database, table).map(({ sql }) => sql));
  return stands.size === wanted.length && wanted.every((sql) => stands.has(sql));
}

/** Puts the triggers on a table, unless they stand there already as they should. */
function track(database: Prepared, table: TrackedTable): void {
  if (isFollowed(database, table)) return;
  const wanted = feedTriggers(table);
  const present = triggersOn(database, table);
  for (const { name } of present) database.connection.exec(`DROP TRIGGER ${quoteName(name)}`);
  for (const sql of wanted) database.connection.exec(sql);
  database.connection.exec('UPDATE koinon_feed SET position = position + 1');
  database.connection.exec(stampUnstamped(table));
  rememberFilterable(database, table);
}

/** Notes from when on the earlier values of filterable columns are remembered: from now, where one is new. */
function rememberFilterable(database: Prepared, { name, filterable }: TrackedTable): void {
  const noted = database.get<{ columns: string }>('SELECT columns FROM koinon_filterable WHERE table_name = ?', name);
  const known = new Set(noted === undefined ? [] : (JSON.parse(noted.columns) as string[]));
  if (filterable.every((column) => known.has(column))) return;
  database.run(
    'INSERT INTO koinon_filterable SELECT ?, ?, position FROM koinon_feed WHERE true ON CONFLICT DO UPDATE SET columns = excluded.columns, position = excluded.position',
    name,
    JSON.stringify(filterable),
  );
}

/**
 * Reads from the database what a table really is: another program may have given it more columns or unique indexes.
 *
 * @throws KoinonError `schema-invalid` where a table that is mapped is not as the mapping says.
 */
function trackedTable(database: Prepared, mapped: MappedTable, isOthers: boolean): TrackedTable {
  const { name, relation, namespace, idName, columnNames, softDelete, table } = mapped;
  const misfit = (why: string) =>
    new KoinonError('schema-invalid', `The table ${relation} of ${name} ${why}.`, { table: name });
  if (namespace !== 'public') throw misfit('is named with an SQL schema, which SQLite has none of');
  const standing = new Map(
    database
      .all<{ name: string; type: string; pk: number }>('SELECT name, type, pk FROM pragma_table_xinfo(?)', relation)
      .map((column) => [column.name, column]),
  );
  const key = standing.get(idName);
  if (key === undefined)
    throw misfit(standing.size === 0 ? 'is not there' : `has no column ${idName} for the row's id`);
  const lacking = Object.values(columnNames).find((column) => !standing.has(column));
  if (lacking !== undefined) throw misfit(`has no column ${lacking}, which the mapping or the schema names`);
  const mark = softDelete === undefined ? undefined : standing.get(softDelete);
  if (softDelete !== undefined && mark === undefined)
    throw misfit(`has no column ${softDelete}, which the mapping says marks deleted rows`);
  const indexes = database.all<{ name: string; partial: number }>(
    'SELECT name, partial FROM pragma_index_list(?) WHERE "unique" = 1',
    relation,
  );
  const groups = indexes.flatMap(({ name: index, partial }) => {
    const columns = database.all<{ name: string | null }>('SELECT name FROM pragma_index_info(?)', index);
    const names = columns.flatMap((column) => (column.name === null ? [] : [column.name]));
    return names.length < columns.length ? [] : [{ names, isWhole: partial === 0 }];
  });
  const unique = groups.map(({ names }) => names);
  const isKey = key.pk === 1 && [...standing.values()].every(({ pk }) => pk < 2);
  if (!isKey && !groups.some(({ names, isWhole }) => isWhole && names.join() === idName))
    throw misfit(`has no key or unique index on ${idName} alone`);
  if (database.get(`SELECT 1 FROM ${quoteName(relation)} WHERE ${quoteName(idName)} IS NULL LIMIT 1`) !== undefined)
    throw misfit(`has rows without ${idName}; give them one, or delete them`);
  const all = [...standing.keys()].filter((column) => column !== idName);
  return {
    name,
    relation,
    key: idName,
    hasTextKey: !/INT/i.test(key.type),
    columns: isOthers ? table.names : all,
    there: isOthers ? columnNames : {},
    unique: unique.filter((group) => !(group.length === 1 && group[0] === idName)),
    filterable: table.filterable,
    mark: mark && { column: mark.name, isTime: !/BOOL|INT/i.test(mark.type) },
  };
}

/** The keys for cursors that a database keeps. */
export function storedKeys(database: Prepared): CursorKey[] {
  return keysOf(database.all("SELECT name, value FROM koinon_meta WHERE name LIKE 'cursor key %'"));
}

/** Makes another key for cursors; returns its number. */
export function renewKey(database: Prepared): number {
  const key = newCursorKey(Math.max(0, ...storedKeys(database).map(({ number }) => number)) + 1);
  database.run('INSERT INTO koinon_meta VALUES (?, ?)', keyName(key.number), keyText(key));
  return key.number;
}

function metaOr(database: Prepared, name: string, make: () => string): string {
  const known = database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', name);
  if (known) return known.value;
  const value = make();
  database.run('INSERT INTO koinon_meta VALUES (?, ?)', name, value);
  return value;
}
