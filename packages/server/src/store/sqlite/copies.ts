import { KoinonError, type Schema } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import { type MappedTable, type Mapping, mappedTables } from '../mapping.ts';
import { brokenView, type TrackingFault, unreadableView } from '../tracking.ts';
import type { Prepared } from './driver.ts';
import { keySql, type TrackedTable } from './triggers.ts';

// Views, and virtual tables: no trigger can follow their rows. Koinon keeps a copy of them in a table of its own, which is followed like
// every other table, and brings the copy up to the view when the database has changed.

/** The name of the copy of a table's rows. */
const copyOf = (table: string) => `koinon_copy_${table}`;

/** The tables of a schema as they stand in the database; those behind views by their copies. */
export function standingTables(database: Prepared, schema: Schema, mapping: Mapping): MappedTable[] {
  return mappedTables(schema, mapping).map((mapped) =>
    Object.hasOwn(mapping, mapped.name) && isView(database, mapped.relation)
      ? { ...mapped, relation: copyOf(mapped.name), view: mapped.relation }
      : mapped,
  );
}

/** Tells whether a relation is none that can have triggers for its rows. */
function isView(database: Prepared, relation: string): boolean {
  const found = database.get<{ type: string; sql: string | null }>(
    "SELECT type, sql FROM sqlite_schema WHERE name = ? AND type IN ('table', 'view')",
    relation,
  );
  return found !== undefined && (found.type === 'view' || /^\s*CREATE\s+VIRTUAL\s/i.test(found.sql ?? ''));
}

/** Makes the copy of a view, or gives it the columns that the view has gained. @throws KoinonError `schema-invalid`. */
export function makeCopy(database: Prepared, mapped: MappedTable): void {
  const { name, relation, view, keyNames, table, softDelete } = mapped;
  if (view === undefined) return;
  const refuse = (why: string) =>
    new KoinonError('schema-invalid', `The view ${view} of ${name} ${why}.`, { table: name });
  if (table.assignedKey) throw refuse('gives no keys; leave assignedKey away');
  if (softDelete !== undefined)
    throw refuse('marks no rows as deleted; leave softDelete away, and let the view leave them out');
  const columns = columnsOf(database, view);
  const lost = [...keyNames, ...Object.values(mapped.columnNames)].find((column) => !columns.has(column));
  if (lost !== undefined) throw refuse(`has no column ${lost}, which the mapping or the schema names`);
  if (!table.readOnly && !isWritable(database, view))
    throw refuse(
      'cannot be written. Say readOnly: true of the table, or give the view triggers INSTEAD OF INSERT, UPDATE and DELETE',
    );
  const ddl = (column: string) => {
    const type = columns.get(column) ?? '';
    // A key of no type would be compared as what it happens to hold.
    const part = table.columns[table.key[keyNames.indexOf(column)] ?? ''];
    const isNumber = /INT/i.test(type) || part?.type === 'integer' || part?.type === 'big-integer';
    const held = keyNames.includes(column) ? (isNumber ? 'INTEGER' : 'TEXT') : type;
    return `${quoteName(column)} ${held}${keyNames.includes(column) ? ' NOT NULL' : ''}`;
  };
  const present = columnsOf(database, relation);
  if (present.size === 0)
    database.connection.exec(
      `CREATE TABLE ${quoteName(relation)} (${[...columns.keys()].map(ddl).join(', ')}, PRIMARY KEY (${keyNames.map(quoteName).join(', ')}))`,
    );
  else
    for (const column of columns.keys())
      if (!present.has(column))
        database.connection.exec(`ALTER TABLE ${quoteName(relation)} ADD COLUMN ${ddl(column)}`);
}

/** The columns of a relation with their types. */
function columnsOf(database: Prepared, relation: string): ReadonlyMap<string, string> {
  const found = database.all<{ name: string; type: string }>('SELECT name, type FROM pragma_table_xinfo(?)', relation);
  return new Map(found.map(({ name, type }) => [name, type]));
}

function isWritable(database: Prepared, view: string): boolean {
  const triggers = database.all<{ sql: string }>(
    "SELECT sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ?",
    view,
  );
  const isVirtual = database.get("SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?", view) !== undefined;
  return (
    isVirtual ||
    ['INSERT', 'UPDATE', 'DELETE'].every((event) =>
      triggers.some(({ sql }) => new RegExp(`\\sINSTEAD\\s+OF\\s+${event}\\s`, 'i').test(sql)),
    )
  );
}

/** The statements that bring a copy up to its view; of some rows, where a condition on their keys is given. */
export function catchUpSql(
  { relation, view, keyNames }: Pick<MappedTable, 'relation' | 'view' | 'keyNames'>,
  columns: readonly string[],
  condition?: (row: string) => string,
): readonly [gone: string, changed: string] {
  const [C, V] = [relation, view as string].map(quoteName) as [string, string];
  const keys = keyNames.map(quoteName);
  const rest = columns.filter((column) => !keyNames.includes(column)).map(quoteName);
  const isSame = keys.map((key) => `c.${key} = v.${key}`).join(' AND ');
  const hasKey = keys.map((key) => `v.${key} IS NOT NULL`).join(' AND ');
  const differs = rest.map((column) => `c.${column} IS NOT v.${column} COLLATE BINARY`);
  const of = (row: string) => (condition === undefined ? '' : ` AND ${condition(row)}`);
  const all = [...keys, ...rest];
  const update =
    rest.length === 0
      ? 'DO NOTHING'
      : `DO UPDATE SET ${rest.map((column) => `${column} = excluded.${column}`).join(', ')}`;
  return [
    `DELETE FROM ${C} WHERE (${keys.join(', ')}) NOT IN (SELECT ${keys.map((key) => `v.${key}`).join(', ')} FROM ${V} v WHERE ${hasKey}${of('v')})${of(C)}`,
    `INSERT INTO ${C} (${all.join(', ')}) SELECT ${all.map((column) => `v.${column}`).join(', ')} FROM ${V} v LEFT JOIN ${C} c ON ${isSame}
       WHERE ${hasKey} AND (${[`c.${keys[0]} IS NULL`, ...differs].join(' OR ')})${of('v')} ON CONFLICT (${keys.join(', ')}) ${update}`,
  ];
}

/** The statements that bring the copy of a view up to it for some rows, whose ids are a JSON list. */
export function catchUpRowsSql(database: Prepared, mapped: MappedTable, table: TrackedTable): readonly string[] {
  const columns = [...columnsOf(database, mapped.relation).keys()];
  return catchUpSql(mapped, columns, (row) => `${keySql(table, row)} IN (SELECT value FROM json_each(?1))`);
}

/** The same for all copies. */
export function catchUpAll(database: Prepared, schema: Schema, mapping: Mapping): TrackingFault[] {
  return standingTables(database, schema, mapping).flatMap((mapped) => catchUpWhole(database, mapped) ?? []);
}

/** One whole copy, or nothing of it: a view that cannot be read keeps no other one from being followed. */
function catchUpWhole(database: Prepared, mapped: MappedTable): TrackingFault | undefined {
  if (mapped.view === undefined) return undefined;
  database.run('SAVEPOINT copy');
  try {
    return catchUp(database, mapped);
  } catch (error) {
    database.run('ROLLBACK TO copy');
    return unreadableView(mapped.name, mapped.view, error);
  } finally {
    database.run('RELEASE copy');
  }
}

/** Brings the copy of a view up to it, inside a transaction of the caller's. Says what is wrong with the view's rows, if anything is. */
function catchUp(database: Prepared, mapped: MappedTable): TrackingFault | undefined {
  const { name, view, keyNames, relation } = mapped;
  if (view === undefined) return undefined;
  const keys = keyNames.map(quoteName).join(', ');
  const twice = database.get(`SELECT 1 FROM ${quoteName(view)} GROUP BY ${keys} HAVING count(*) > 1 LIMIT 1`);
  if (twice !== undefined) return brokenView(name, view, `has rows with the same ${keyNames.join(', ')}`);
  const isEmpty = keyNames.map((key) => `${quoteName(key)} IS NULL`).join(' OR ');
  const without = database.get(`SELECT 1 FROM ${quoteName(view)} WHERE ${isEmpty} LIMIT 1`) !== undefined;
  for (const sql of catchUpSql(mapped, [...columnsOf(database, relation).keys()])) database.connection.exec(sql);
  return without ? brokenView(name, view, `has rows without ${keyNames.join(', ')}`) : undefined;
}
