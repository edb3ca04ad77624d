import { KoinonError, type Schema } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import type { MappedTable, Mapping } from '../mapping.ts';
import { type TrackingFault, tableChanged, triggersTouched } from '../tracking.ts';
import { standingTables } from './copies.ts';
import type { Prepared } from './driver.ts';
import { feedTriggers, type KeyColumn, resendAllSql, stampUnstamped, type TrackedTable } from './triggers.ts';
import { hasView } from './views.ts';

// Other programs may drop triggers, or change a table under a running server.

/** Tells whether a table is followed at all: other triggers may have changed with the schema. */
export function hasInsertTrigger(database: Prepared, { name, relation }: TrackedTable): boolean {
  const trigger = "SELECT 1 FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? AND name = ?";
  return database.get(trigger, relation, `koinon_${name}_after_insert`) !== undefined;
}

/** Makes every row, and every one that is gone, look newly written. */
export function resendAll(database: Prepared, schema: Schema, mapping: Mapping): void {
  for (const mapped of standingTables(database, schema, mapping))
    resendTable(database, trackedTable(database, mapped, mapping));
}

export function resendTable(database: Prepared, table: TrackedTable): void {
  database.connection.exec('UPDATE koinon_feed SET position = position + 1');
  for (const sql of resendAllSql(table)) database.connection.exec(sql);
  // The earlier values of filterable columns nobody knows: whoever gets only some of the rows starts over.
  database.run(
    'UPDATE koinon_filterable SET position = (SELECT position FROM koinon_feed) WHERE table_name = ?',
    table.name,
  );
}

/** Tells whether a table was served before. */
export function isServed(database: Prepared, table: string): boolean {
  return database.get('SELECT 1 FROM koinon_stamp WHERE table_name = ? LIMIT 1', table) !== undefined;
}

/** The state of a table under a running server. */
export type TableState =
  | { readonly is: 'followed' }
  | { readonly is: 'changed'; readonly fault: TrackingFault }
  | { readonly is: 'untracked'; readonly table: TrackedTable };

/** Looks whether tables are followed as they should be. Changes nothing. */
export function statesOf(database: Prepared, schema: Schema, mapping: Mapping): TableState[] {
  return standingTables(database, schema, mapping).map((mapped): TableState => {
    const { name, relation, keyNames, columnNames } = mapped;
    const there = database.all<{ name: string }>('SELECT name FROM pragma_table_xinfo(?)', relation);
    const columns = new Set(there.map((column) => column.name));
    if (columns.size === 0) return { is: 'changed', fault: tableChanged(name, 'is gone') };
    const lost = [...keyNames, ...Object.values(columnNames)].find((column) => !columns.has(column));
    if (lost !== undefined) return { is: 'changed', fault: tableChanged(name, `has lost its column ${lost}`) };
    const table = standingTable(database, mapped, mapping);
    if (typeof table === 'string') return { is: 'changed', fault: tableChanged(name, table) };
    return isFollowed(database, table) ? { is: 'followed' } : { is: 'untracked', table };
  });
}

/** Puts the triggers of a table back, and has its rows sent anew. Inside a transaction of the caller's. */
export function followAgain(database: Prepared, table: TrackedTable): TrackingFault {
  track(database, table);
  resendTable(database, table);
  return triggersTouched(table.name);
}

/** The triggers of Koinon's that stand on a table. */
function triggersOn(database: Prepared, table: TrackedTable): { readonly name: string; readonly sql: string }[] {
  return database.all(
    "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? AND name LIKE 'koinon\\_%' ESCAPE '\\'",
    table.relation,
  );
}

/** Tells whether the triggers stand on a table as they should. */
function isFollowed(database: Prepared, table: TrackedTable): boolean {
  const wanted = feedTriggers(table);
  const stands = new Set(triggersOn(database, table).map(({ sql }) => sql));
  return stands.size === wanted.length && wanted.every((sql) => stands.has(sql));
}

/** Puts the triggers on a table, unless they stand there already as they should. */
export function track(database: Prepared, table: TrackedTable): void {
  if (isFollowed(database, table)) return;
  const wanted = feedTriggers(table);
  const present = triggersOn(database, table).map(({ name }) => quoteName(name));
  // Those of the same names may stand on another relation, which the mapping named before.
  const named = wanted.map((sql) => /^CREATE TRIGGER ("(?:[^"]|"")*")/.exec(sql)?.[1] as string);
  for (const name of new Set([...present, ...named])) database.connection.exec(`DROP TRIGGER IF EXISTS ${name}`);
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

/** The relation that a table really is. @throws KoinonError `schema-invalid` where it is not as the schema or the mapping says. */
export function trackedTable(database: Prepared, mapped: MappedTable, mapping: Mapping): TrackedTable {
  const table = standingTable(database, mapped, mapping);
  if (typeof table !== 'string') return table;
  const { name, relation } = mapped;
  throw new KoinonError('schema-invalid', `The table ${relation} of ${name} ${table}.`, { table: name });
}

/** The way in which a table gives new rows their key: a number, or an expression; undefined where it does not. */
export function keyDefaultOf(database: Prepared, relation: string, key: string): string | undefined {
  const columns = database.all<{ name: string; type: string; pk: number; initial: string | null }>(
    'SELECT name, type, pk, dflt_value AS initial FROM pragma_table_xinfo(?)',
    relation,
  );
  const column = columns.find(({ name }) => name === key);
  // Such a column is the number of the row itself.
  const isNumber = column?.pk === 1 && /^integer$/i.test(column.type) && columns.every(({ pk }) => pk < 2);
  return isNumber ? 'number' : (column?.initial ?? undefined) && `(${column?.initial})`;
}

/** Reads what a table is: another program may have given it more columns or unique indexes. A text says why it cannot be followed. */
function standingTable(database: Prepared, mapped: MappedTable, mapping: Mapping): TrackedTable | string {
  const { name, relation, namespace, keyNames, columnNames, softDelete, table } = mapped;
  if (namespace !== 'public') return 'is named with an SQL schema, which SQLite has none of';
  const standing = new Map(
    database
      .all<{ name: string; type: string; pk: number }>('SELECT name, type, pk FROM pragma_table_xinfo(?)', relation)
      .map((column) => [column.name, column]),
  );
  if (standing.size === 0) return 'is not there';
  const absent = keyNames.find((column) => !standing.has(column));
  if (absent !== undefined) return `has no column ${absent} for the row's id`;
  const lacking = Object.values(columnNames).find((column) => !standing.has(column));
  if (lacking !== undefined) return `has no column ${lacking}, which the mapping or the schema names`;
  const mark = softDelete === undefined ? undefined : standing.get(softDelete);
  if (softDelete !== undefined && mark === undefined)
    return `has no column ${softDelete}, which the mapping says marks deleted rows`;
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
  const isKeyGroup = (names: readonly string[]) =>
    names.length === keyNames.length && keyNames.every((column) => names.includes(column));
  const isKey = isKeyGroup([...standing.values()].filter(({ pk }) => pk > 0).map(({ name: column }) => column));
  const named = keyNames.join(', ');
  if (!isKey && !groups.some(({ names, isWhole }) => isWhole && isKeyGroup(names)))
    return `has no key or unique index on ${named} alone`;
  const isEmpty = keyNames.map((column) => `${quoteName(column)} IS NULL`).join(' OR ');
  if (database.get(`SELECT 1 FROM ${quoteName(relation)} WHERE ${isEmpty} LIMIT 1`) !== undefined)
    return `has rows without ${named}; give them one, or delete them`;
  const key = keyNames.map((column) => ({ column, isText: !/INT/i.test(standing.get(column)?.type ?? '') }));
  const [first] = key as [KeyColumn];
  if (table.assignedKey && (first.isText || keyDefaultOf(database, relation, first.column) === undefined))
    return `does not count the key ${named} itself, as assignedKey says; make it an INTEGER PRIMARY KEY. A key of another kind is one that devices can make: leave assignedKey away`;
  const isViewed = hasView(mapping, name, table);
  const all = [...standing.keys()].filter((column) => !keyNames.includes(column));
  return {
    name,
    relation,
    key,
    columns: isViewed ? table.names : all,
    there: isViewed ? columnNames : {},
    unique: unique.filter((group) => !isKeyGroup(group)),
    filterable: table.filterable,
    large: new Set(table.entries.flatMap(([column, { type }]) => (type === 'big-integer' ? [column] : []))),
    mark: mark && { column: mark.name, isTime: !/BOOL|INT/i.test(mark.type) },
  };
}
