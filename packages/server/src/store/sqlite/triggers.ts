import { quoteName, quoteText } from '@koinon/core/internal';

/** A table as it stands in the database. */
export interface TrackedTable {
  /** Its columns of whole numbers that JSON's readers round, by their names in the schema. */
  readonly large: ReadonlySet<string>;
  /** Its name in the schema, which the feed calls it by. */
  readonly name: string;
  /** Its name there. */
  readonly relation: string;
  /** The columns of its key: one, or those whose values make a row's id together. */
  readonly key: readonly KeyColumn[];
  /** Its columns besides the key, by their names in the schema, where that has them. */
  readonly columns: readonly string[];
  /** Their names there, where those are others. */
  readonly there: Readonly<Record<string, string>>;
  /** The groups of columns that no two rows share, by their names there. */
  readonly unique: readonly (readonly string[])[];
  /** The columns whose earlier values are remembered. */
  readonly filterable: readonly string[];
  /** The column that marks a row as deleted, by a time or by 1. */
  readonly mark: { readonly column: string; readonly isTime: boolean } | undefined;
}

/** A column of a key there, and whether it holds texts; else it holds whole numbers. */
export interface KeyColumn {
  readonly column: string;
  readonly isText: boolean;
}

/** Tells whether a row counts as there. */
export function aliveSql({ mark }: Pick<TrackedTable, 'mark'>, row: string): string {
  if (mark === undefined) return 'true';
  const column = `${row}.${quoteName(mark.column)}`;
  return mark.isTime ? `${column} IS NULL` : `coalesce(${column}, 0) = 0`;
}

/** The server's own tables in an SQLite database. */
/** The keys that rows of replicas were given, by the ids under which they had been made. */
export const assignedKeyTable = `CREATE TABLE IF NOT EXISTS koinon_assigned_key (
  user_id TEXT NOT NULL,
  table_name TEXT NOT NULL,
  provisional TEXT NOT NULL,
  row_id TEXT NOT NULL,
  receipt TEXT NOT NULL,
  received_at TEXT NOT NULL,
  PRIMARY KEY (provisional, table_name, user_id)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS koinon_assigned_key_by_receipt ON koinon_assigned_key (receipt)`;

export const koinonTables = `
CREATE TABLE IF NOT EXISTS koinon_meta (
  name TEXT PRIMARY KEY NOT NULL,
  value TEXT NOT NULL
) WITHOUT ROWID;
-- The end of the feed. Counted up by the triggers; one writer at a time makes it the commit order.
CREATE TABLE IF NOT EXISTS koinon_feed (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  position INTEGER NOT NULL
);
INSERT OR IGNORE INTO koinon_feed VALUES (1, 0);
-- Whose transaction is writing just now, and whether the writer stamps the rows that it inserts by itself; empty for other
-- programs. Set and cleared inside the writing transaction.
CREATE TABLE IF NOT EXISTS koinon_writer (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  receipt TEXT,
  edited_at INTEGER,
  stamps INTEGER
);
INSERT OR IGNORE INTO koinon_writer (only) VALUES (1);
CREATE TABLE IF NOT EXISTS koinon_stamp (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  position INTEGER NOT NULL,
  born INTEGER NOT NULL,
  row_position INTEGER NOT NULL,
  row_edited_at INTEGER NOT NULL,
  row_receipt TEXT,
  deleted INTEGER NOT NULL,
  columns TEXT NOT NULL,
  image TEXT,
  past TEXT NOT NULL DEFAULT '{}',
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS koinon_stamp_by_position ON koinon_stamp (position);
-- Rows that the statement under way may replace without a delete trigger firing.
CREATE TABLE IF NOT EXISTS koinon_replaced (
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  image TEXT NOT NULL,
  PRIMARY KEY (table_name, row_id)
) WITHOUT ROWID;
${assignedKeyTable};
CREATE TABLE IF NOT EXISTS koinon_receipt (
  id TEXT PRIMARY KEY NOT NULL,
  digest TEXT NOT NULL,
  outcome TEXT NOT NULL,
  position INTEGER,
  received_at TEXT NOT NULL,
  user_id TEXT,
  replica TEXT
) WITHOUT ROWID;
-- What a person did, where another transaction has applied it than the one of that id.
CREATE TABLE IF NOT EXISTS koinon_origin (
  replica TEXT NOT NULL,
  origin TEXT NOT NULL,
  receipt TEXT NOT NULL,
  received_at TEXT NOT NULL,
  PRIMARY KEY (replica, origin)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS koinon_origin_by_time ON koinon_origin (received_at);
CREATE INDEX IF NOT EXISTS koinon_origin_alone ON koinon_origin (origin);
-- How many transactions of each replica were applied.
CREATE TABLE IF NOT EXISTS koinon_upload (
  replica TEXT PRIMARY KEY NOT NULL,
  count INTEGER NOT NULL
) WITHOUT ROWID;
-- Parts of transactions too large for one request, until the last one is there: of each replica, one transaction.
CREATE TABLE IF NOT EXISTS koinon_part (
  replica TEXT NOT NULL,
  id TEXT NOT NULL,
  number INTEGER NOT NULL,
  changes TEXT NOT NULL,
  received_at INTEGER NOT NULL,
  PRIMARY KEY (replica, id, number)
) WITHOUT ROWID;
-- The last number that was taken of each sequence.
CREATE TABLE IF NOT EXISTS koinon_sequence (
  name TEXT PRIMARY KEY NOT NULL,
  last INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS koinon_receipt_by_time ON koinon_receipt (received_at);
CREATE INDEX IF NOT EXISTS koinon_receipt_by_position ON koinon_receipt (position) WHERE position IS NOT NULL;
CREATE INDEX IF NOT EXISTS koinon_stamp_past ON koinon_stamp (position) WHERE past <> '{}';
CREATE INDEX IF NOT EXISTS koinon_stamp_deleted ON koinon_stamp (position) WHERE deleted = 1;
-- Where the feed ended at a time, in milliseconds: tells how old a position is.
CREATE TABLE IF NOT EXISTS koinon_time (
  position INTEGER PRIMARY KEY,
  at INTEGER NOT NULL
);
-- Where each run of a server began. After a restore the feed goes on from there under another epoch, and a position that
-- the epoch before it reached afterwards is one of a lost time.
CREATE TABLE IF NOT EXISTS koinon_epoch (
  place INTEGER PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  position INTEGER NOT NULL
);
-- Deletions up to here are no longer kept.
CREATE TABLE IF NOT EXISTS koinon_horizon (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  position INTEGER NOT NULL,
  at INTEGER NOT NULL
);
INSERT OR IGNORE INTO koinon_horizon VALUES (1, 0, 0);
-- From which position on the earlier values of a table's filterable columns are remembered.
CREATE TABLE IF NOT EXISTS koinon_filterable (
  table_name TEXT PRIMARY KEY NOT NULL,
  columns TEXT NOT NULL,
  position INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS koinon_owner (
  replica TEXT PRIMARY KEY NOT NULL,
  user_id TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS koinon_replica (
  id TEXT PRIMARY KEY NOT NULL,
  first_seen INTEGER NOT NULL,
  last_seen INTEGER NOT NULL,
  position INTEGER,
  schema_version INTEGER,
  rows_down INTEGER NOT NULL,
  rows_up INTEGER NOT NULL,
  blocked INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;
`;

const position = '(SELECT position FROM koinon_feed)';
const receipt = '(SELECT receipt FROM koinon_writer)';
/** julianday rather than unixepoch('subsec'), which SQLite has only since 3.42: any program's SQLite must run this. */
const editedAt = `coalesce((SELECT edited_at FROM koinon_writer), CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER))`;
/** The server stamps its own plain inserts by itself (stamping.ts), which costs a fraction of this. */
const byTriggers = '(SELECT stamps FROM koinon_writer) IS NULL';
const step = 'UPDATE koinon_feed SET position = position + 1;';
const stampColumns =
  'table_name, row_id, position, born, row_position, row_edited_at, row_receipt, deleted, columns, image, past';

/** The stamp of a row that is inserted where one was deleted. */
const madeAnew = `ON CONFLICT (table_name, row_id) DO UPDATE SET position = excluded.position, row_position = excluded.row_position,
    row_edited_at = excluded.row_edited_at, row_receipt = excluded.row_receipt, deleted = 0, columns = '{}', image = NULL`;

/** Stamps an inserted row that may have a stamp: of a table, an id, at a position, with an edit time and a receipt. */
export const stampInserted = `INSERT INTO koinon_stamp (${stampColumns}) VALUES (?1, ?2, ?3, ?3, ?3, ?4, ?5, 0, '{}', NULL, '{}') ${madeAnew}`;

/** Stamps inserted rows of a table that have none: a JSON list of such lists. */
export const stampsNew = `INSERT INTO koinon_stamp (${stampColumns})
  SELECT ?1, value ->> 0, value ->> 1, value ->> 1, value ->> 1, value ->> 2, value ->> 3, 0, '{}', NULL, '{}' FROM json_each(?2)`;

/**
 * The triggers that keep the feed of one table. They use SQL's built-ins alone, so that any program can write the table,
 * and no form of INSERT but upserts: under an outer OR IGNORE or OR REPLACE the other forms would follow that instead.
 *
 * REPLACE deletes rows without firing delete triggers. BEFORE triggers therefore note the rows it may delete, and AFTER
 * triggers stamp those of them that are gone, or that were replaced in place.
 */
export function feedTriggers(table: TrackedTable): string[] {
  const { name, columns, unique, filterable } = table;
  const T = quoteName(table.relation);
  const idOf = (row: string) => keySql(table, row);
  const alive = (row: string) => aliveSql(table, row);
  const there = (row: string, column: string) => `${row}.${quoteName(table.there[column] ?? column)}`;
  const t = quoteText(name);
  const trigger = (when: string, event: string, body: string, condition?: string) =>
    `CREATE TRIGGER ${quoteName(`koinon_${name}_${when}_${event}`.replaceAll(' ', '_'))} ${when.split(' ')[0]?.toUpperCase()} ${event.toUpperCase()} ON ${T}${condition ? `\nWHEN ${condition}` : ''}\nBEGIN\n  ${body.trim()}\nEND`;

  const imageOf = (row: string) =>
    `json_object(${columns.map((c) => `${quoteText(c)}, ${jsonOf(row, c)}`).join(', ')})`;
  const jsonOf = (row: string, c: string) => {
    const column = asJson(there(row, c));
    return table.large.has(c)
      ? `CASE typeof(${there(row, c)}) WHEN 'integer' THEN CAST(${there(row, c)} AS TEXT) ELSE ${column} END`
      : column;
  };
  const differs = (c: string) => `${there('OLD', c)} IS NOT ${there('NEW', c)} COLLATE BINARY`;
  const differsFromNote = (c: string) =>
    `(SELECT json_extract(image, ${quoteText(`$."${c}"`)}) FROM koinon_replaced WHERE table_name = ${t} AND row_id = ${idOf('NEW')}) IS NOT ${jsonOf('NEW', c)} COLLATE BINARY`;
  /** The stamps of the columns that differ, as one JSON object to patch into those before. */
  const changed = (test: (c: string) => string) =>
    `(SELECT json_group_object(name, json(stamp)) FROM (${columns
      .map(
        (c) =>
          `SELECT ${quoteText(c)} AS name, json_array(${position}, ${editedAt}, ${receipt}) AS stamp WHERE ${test(c)}`,
      )
      .join(' UNION ALL ')}))`;

  /** The values of the filterable columns of a row, as the name under which the position is noted at which they left it. */
  const left = (row: string) =>
    filterable.length === 0
      ? "'{}'"
      : `json_object(json_object(${filterable.map((c) => `${quoteText(c)}, ${there(row, c)}`).join(', ')}), ${position})`;
  const leftByNote =
    filterable.length === 0
      ? "'{}'"
      : `json_object(json_object(${filterable.map((c) => `${quoteText(c)}, json_extract(image, ${quoteText(`$."${c}"`)})`).join(', ')}), ${position})`;
  const clear = `DELETE FROM koinon_replaced WHERE table_name = ${t};`;
  /** Rows other than this one that stand in the way of NEW, by key or by a unique group. */
  const inTheWay = [
    isRow(table, 'NEW'),
    ...unique.map((group) => `(${group.map((c) => `${quoteName(c)} = NEW.${quoteName(c)}`).join(' AND ')})`),
  ].join(' OR ');
  const note = (exceptOld: boolean) =>
    `INSERT INTO koinon_replaced SELECT ${t}, ${idOf(T)}, ${imageOf(T)} FROM ${T} WHERE ${exceptOld ? `${isOtherRow(table, 'OLD')} AND ` : ''}(${inTheWay}) AND ${alive(T)} ON CONFLICT DO NOTHING;`;

  const tombstone = (values: string) => `
  INSERT INTO koinon_stamp (${stampColumns})
  ${values}
  ON CONFLICT (table_name, row_id) DO UPDATE SET position = excluded.position, row_position = excluded.row_position,
    row_edited_at = excluded.row_edited_at, row_receipt = excluded.row_receipt, deleted = 1, columns = '{}', image = excluded.image, past = json_patch(past, excluded.past);`;
  const stampGone = tombstone(
    `SELECT ${t}, row_id, ${position}, ${position}, ${position}, ${editedAt}, ${receipt}, 1, '{}', image, ${leftByNote} FROM koinon_replaced
  WHERE table_name = ${t} AND (row_id <> ${idOf('NEW')} OR NOT ${alive('NEW')}) AND NOT EXISTS (SELECT 1 FROM ${T} WHERE ${isOfId(table, T, 'row_id')} AND ${alive(T)})`,
  );
  const stampDeleted = tombstone(
    `SELECT ${t}, ${idOf('OLD')}, ${position}, ${position}, ${position}, ${editedAt}, ${receipt}, 1, '{}', ${imageOf('OLD')}, ${left('OLD')}
  WHERE ${alive('OLD')} AND NOT EXISTS (SELECT 1 FROM ${T} WHERE ${isRow(table, 'OLD')} AND ${alive(T)})`,
  );
  const stampInserted = (condition: string) => `
  INSERT INTO koinon_stamp (${stampColumns})
  SELECT ${t}, ${idOf('NEW')}, ${position}, ${position}, ${position}, ${editedAt}, ${receipt}, 0, '{}', NULL, '{}'
  WHERE (${condition}) AND ${alive('NEW')}
  ${madeAnew};`;
  const moved = (test: (c: string) => string) =>
    filterable.length === 0
      ? ''
      : `, past = CASE WHEN ${filterable.map(test).join(' OR ')} THEN json_patch(past, excluded.past) ELSE past END`;
  const movedFromNote =
    filterable.length === 0
      ? ''
      : `, past = CASE WHEN ${filterable.map(differsFromNote).join(' OR ')} THEN json_patch(past, (SELECT ${leftByNote} FROM koinon_replaced WHERE table_name = ${t} AND row_id = ${idOf('NEW')})) ELSE past END`;
  const stampUpdated = `
  INSERT INTO koinon_stamp (${stampColumns})
  SELECT ${t}, ${idOf('NEW')}, ${position}, ${position}, ${position}, ${editedAt}, ${receipt}, 0, '{}', NULL, ${left('OLD')} WHERE true
  ON CONFLICT (table_name, row_id) DO UPDATE SET position = excluded.position,
    columns = json_patch(columns, ${changed(differs)})${moved(differs)};`;
  const noted = `EXISTS (SELECT 1 FROM koinon_replaced WHERE table_name = ${t} AND row_id = ${idOf('NEW')})`;
  const stampReplaced = `
  UPDATE koinon_stamp SET position = ${position}, columns = json_patch(columns, ${changed(differsFromNote)})${movedFromNote}
  WHERE table_name = ${t} AND row_id = ${idOf('NEW')} AND deleted = 0 AND ${noted} AND (${columns.map(differsFromNote).join(' OR ')});`;
  const isTombstone = `EXISTS (SELECT 1 FROM koinon_stamp WHERE table_name = ${t} AND row_id = ${idOf('NEW')} AND deleted = 1)`;

  const keyColumns = table.key.map(({ column }) => column);
  const isSameKey = keyColumns.map((column) => `OLD.${quoteName(column)} IS NEW.${quoteName(column)}`).join(' AND ');
  const isOtherKey = keyColumns
    .map((column) => `OLD.${quoteName(column)} IS NOT NEW.${quoteName(column)}`)
    .join(' OR ');
  const keyed = [...new Set([...keyColumns, ...unique.flat()])]
    .map((column) => `OLD.${quoteName(column)} IS NOT NEW.${quoteName(column)} COLLATE BINARY`)
    .join(' OR ');
  return [
    trigger('before', 'insert', `${clear}\n  ${note(false)}`, byTriggers),
    trigger(
      'after',
      'insert',
      `${step}${stampGone}${stampReplaced}${stampInserted(`NOT ${noted} OR ${isTombstone}`)}\n  ${clear}`,
      byTriggers,
    ),
    trigger('before', 'update', `${clear}\n  ${note(true)}`, keyed),
    trigger('after replaced', 'update', `${step}${stampGone}\n  ${clear}`, keyed),
    trigger(
      'after',
      'update',
      `${step}${stampUpdated}`,
      `${isSameKey} AND ${alive('OLD')} AND ${alive('NEW')} AND (${columns.map(differs).join(' OR ')})`,
    ),
    ...(table.mark
      ? [
          trigger(
            'after marked',
            'update',
            `${step}${stampDeleted}${stampInserted('true')}`,
            `${isSameKey} AND (${alive('OLD')}) IS NOT (${alive('NEW')})`,
          ),
        ]
      : []),
    trigger('after key', 'update', `${step}${stampDeleted}${stampInserted('true')}`, isOtherKey),
    trigger('after', 'delete', `${step}${stampDeleted}`),
  ];
}

/** Stamps for rows that have none: those that were there before the triggers. */
export function stampUnstamped(table: TrackedTable): string {
  const { name, relation } = table;
  const T = quoteName(relation);
  const id = keySql(table, T);
  return `INSERT INTO koinon_stamp (${stampColumns})
  SELECT ${quoteText(name)}, ${id}, ${position}, ${position}, ${position}, ${editedAt}, NULL, 0, '{}', NULL, '{}' FROM ${T}
  WHERE ${aliveSql(table, T)} AND NOT EXISTS (SELECT 1 FROM koinon_stamp WHERE table_name = ${quoteText(name)} AND row_id = ${id})
  ON CONFLICT DO NOTHING`;
}

/** Makes every row of a table, and every one that is gone, look newly written: for what no trigger saw. */
export function resendAllSql(table: TrackedTable): string[] {
  const t = quoteText(table.name);
  return [
    `UPDATE koinon_stamp SET position = ${position}, row_position = ${position}, row_receipt = NULL, columns = '{}',
  deleted = NOT EXISTS (SELECT 1 FROM ${quoteName(table.relation)} WHERE ${isOfId(table, quoteName(table.relation), 'row_id')} AND ${aliveSql(table, quoteName(table.relation))}) WHERE table_name = ${t}`,
    stampUnstamped(table),
  ];
}

/** A row's id: its key as text. Several columns are joined as core joins them (`idOfKey`). */
export function keySql({ key }: TrackedTable, row: string): string {
  const text = ({ column, isText }: KeyColumn) => {
    const value = `${row}.${quoteName(column)}`;
    return isText ? value : `CAST(${value} AS TEXT)`;
  };
  if (key.length === 1) return text(key[0] as KeyColumn);
  return key
    .map((each) => (each.isText ? `replace(replace(${text(each)}, '%', '%25'), '/', '%2F')` : text(each)))
    .join(" || '/' || ");
}

/** Tells whether a row of the table has the key of another one, whose columns go by the same names. */
export function isRow({ key }: TrackedTable, other: string): string {
  return key.map(({ column }) => `${quoteName(column)} = ${other}.${quoteName(column)}`).join(' AND ');
}

/** Tells whether a row of the table has another key than another one. */
function isOtherRow({ key }: TrackedTable, other: string): string {
  const differs = key.map(({ column }) => `${quoteName(column)} <> ${other}.${quoteName(column)}`);
  return differs.length === 1 ? differs.join() : `(${differs.join(' OR ')})`;
}

/** Tells whether a row of the table has an id. An index over the ids is made where they are no column of the table. */
function isOfId(table: TrackedTable, row: string, id: string): string {
  const [first, ...more] = table.key as readonly [KeyColumn, ...KeyColumn[]];
  return more.length === 0 ? `${quoteName(first.column)} = ${id}` : `${keySql(table, row)} = ${id}`;
}

/** A column as JSON can hold it: blobs as hexadecimal text. */
function asJson(column: string): string {
  return `CASE typeof(${column}) WHEN 'blob' THEN hex(${column}) WHEN 'real' THEN printf('%!.17g', ${column}) ELSE ${column} END`;
}
