import { createHash } from 'node:crypto';
import type { Column, Schema } from '@koinon/core';
import {
  boundsIn,
  boundsOf,
  boundsRule,
  indexedGroups,
  quoteName,
  quoteText,
  widerBounds,
} from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { layoutName, layoutVersion, refuseNewerLayout } from '../layout-version.ts';
import { hasAssignedKeys, type MappedTable, type Mapping, mappedTables } from '../mapping.ts';
import { goneTable } from '../tracking.ts';
import { actionTables, hasActionTables } from './action-tables.ts';
import { columnRule, columnType, type ExistingColumn, parameter } from './columns.ts';
import { copyDdl, copyOf, type ViewCopy } from './copies.ts';
import { type ExistingTable, existingTable, invalidValue } from './existing.ts';
import { isComposite, keyOf, keySql } from './key.ts';
import { lossOf } from './losses.ts';
import { shortName } from './names.ts';
import {
  feedFunctions,
  feedTriggers,
  partitionTrigger,
  resendAllSql,
  stampUnstamped,
  type TrackedTable,
  triggerNames,
} from './triggers.ts';

/** A table of the app, as the schema describes it and as it stands in the database. */
export interface AppTable extends TrackedTable, Pick<MappedTable, 'table'> {
  /** An expression for the key of a new row, where the database gives it. */
  readonly nextKey: string | undefined;
  /** The view that the rows come from, where {@link sql} is Koinon's copy of them. */
  readonly copies: ViewCopy | undefined;
}

/** The layout that makes a database one that Koinon can serve: the SQL that is still to be run, and the tables after it. */
export interface Layout {
  readonly statements: readonly string[];
  readonly tables: ReadonlyMap<string, AppTable>;
  /** Tells whether Koinon has ever served it. */
  readonly isServed: boolean;
}

/** The keys that rows of replicas were given, by the ids under which they had been made. */
const assignedKeyTables = [
  `CREATE TABLE IF NOT EXISTS koinon.assigned_key (
  user_id text NOT NULL,
  table_name text NOT NULL,
  provisional text NOT NULL,
  row_id text NOT NULL,
  receipt text NOT NULL,
  received_at timestamp with time zone NOT NULL,
  PRIMARY KEY (provisional, table_name, user_id)
)`,
  'CREATE INDEX IF NOT EXISTS assigned_key_by_receipt ON koinon.assigned_key (receipt)',
];

const koinonTables = [
  'CREATE SCHEMA IF NOT EXISTS koinon',
  `CREATE TABLE IF NOT EXISTS koinon.meta (
  name text PRIMARY KEY,
  value text NOT NULL
)`,
  `CREATE TABLE IF NOT EXISTS koinon.stamp (
  table_name text COLLATE "C" NOT NULL,
  row_id text COLLATE "C" NOT NULL,
  position xid8 NOT NULL,
  born xid8 NOT NULL,
  row_position xid8 NOT NULL,
  row_edited_at bigint NOT NULL,
  row_receipt text,
  deleted boolean NOT NULL,
  columns jsonb NOT NULL,
  image jsonb,
  past jsonb NOT NULL DEFAULT '{}',
  PRIMARY KEY (table_name, row_id)
) WITH (fillfactor = 60)`,
  'CREATE INDEX IF NOT EXISTS stamp_by_position ON koinon.stamp (position)',
  'CREATE INDEX IF NOT EXISTS stamp_deleted ON koinon.stamp (position) WHERE deleted',
  "CREATE INDEX IF NOT EXISTS stamp_past ON koinon.stamp (position) WHERE past <> '{}'",
  ...assignedKeyTables,
  `CREATE TABLE IF NOT EXISTS koinon.receipt (
  id text PRIMARY KEY,
  digest text NOT NULL,
  outcome text NOT NULL,
  position bigint,
  received_at timestamp with time zone NOT NULL,
  written xid8 NOT NULL DEFAULT pg_current_xact_id(),
  user_id text,
  replica text
)`,
  'CREATE INDEX IF NOT EXISTS receipt_by_position ON koinon.receipt (written)',
  `CREATE TABLE IF NOT EXISTS koinon.origin (
  replica text NOT NULL,
  origin text NOT NULL,
  receipt text NOT NULL,
  received_at timestamp with time zone NOT NULL,
  PRIMARY KEY (replica, origin)
)`,
  'CREATE INDEX IF NOT EXISTS origin_by_time ON koinon.origin (received_at)',
  'CREATE INDEX IF NOT EXISTS origin_alone ON koinon.origin (origin)',
  `CREATE TABLE IF NOT EXISTS koinon.upload (
  replica text PRIMARY KEY,
  count bigint NOT NULL
)`,
  `CREATE TABLE IF NOT EXISTS koinon.part (
  replica text NOT NULL,
  id text NOT NULL,
  number integer NOT NULL,
  changes json NOT NULL,
  received_at bigint NOT NULL,
  PRIMARY KEY (replica, id, number)
)`,
  `CREATE TABLE IF NOT EXISTS koinon.sequence (
  name text PRIMARY KEY,
  last bigint NOT NULL
)`,
  'CREATE INDEX IF NOT EXISTS receipt_by_time ON koinon.receipt (received_at)',
  `CREATE TABLE IF NOT EXISTS koinon.noted_time (
  at bigint PRIMARY KEY,
  position xid8 NOT NULL
)`,
  `CREATE TABLE IF NOT EXISTS koinon.horizon (
  only_one boolean PRIMARY KEY CHECK (only_one),
  position xid8 NOT NULL,
  at bigint NOT NULL
)`,
  "INSERT INTO koinon.horizon VALUES (true, '0', 0) ON CONFLICT DO NOTHING",
  `CREATE TABLE IF NOT EXISTS koinon.owner (
  replica text PRIMARY KEY,
  user_id text NOT NULL
)`,
  'CREATE INDEX IF NOT EXISTS owner_by_user ON koinon.owner (user_id)',
  `CREATE TABLE IF NOT EXISTS koinon.filterable (
  table_name text PRIMARY KEY,
  columns jsonb NOT NULL,
  position xid8 NOT NULL
)`,
  `CREATE TABLE IF NOT EXISTS koinon.replica (
  id text PRIMARY KEY,
  first_seen bigint NOT NULL,
  last_seen bigint NOT NULL,
  position bigint,
  schema_version integer,
  rows_down bigint NOT NULL,
  rows_up bigint NOT NULL,
  blocked boolean NOT NULL DEFAULT false
)`,
  `INSERT INTO koinon.meta VALUES ('${layoutName}', '${layoutVersion}') ON CONFLICT DO NOTHING`,
];

/**
 * Looks at a database and says what it lacks: Koinon's own tables, the app's tables and columns, the functions and
 * triggers of the feed. Changes nothing.
 *
 * @throws KoinonError `schema-invalid` where a table that is there does not fit the schema; `layout-newer`.
 */
export async function planLayout(client: ClientBase, schema: Schema, mapping: Mapping): Promise<Layout> {
  const noted = await notedDigests(client);
  refuseNewerLayout('The database', noted?.get(layoutName));
  const role = await client.query<{ super: boolean }>(
    'SELECT rolsuper AS super FROM pg_roles WHERE rolname = current_user',
  );
  const isSuperuser = role.rows[0]?.super === true;
  const statements: string[] = noted === undefined ? [...koinonTables] : [];
  const tables = new Map<string, AppTable>();
  const indexes: Index[] = [];
  const references: string[] = [];
  const tracking: string[] = [];
  // A database may have been served before there were such keys.
  if (noted !== undefined && hasAssignedKeys(schema) && !(await hasAssignedKeyTable(client)))
    statements.push(...assignedKeyTables);
  const hasActions = Object.keys(schema.actions).length > 0;
  if (hasActions && (noted === undefined || !(await hasActionTables(client)))) statements.push(...actionTables);
  for (const mapped of mappedTables(schema, mapping)) {
    const standing = await existingTable(client, mapped, mapping[mapped.name] !== undefined);
    if (standing === undefined && mapping[mapped.name] !== undefined)
      throw invalidValue(mapped, 'is not there; a mapping is for a table that the database has');
    if (standing === undefined && noted?.has(`layout ${mapped.name}`)) throw invalidValue(mapped, goneTable);
    if (standing?.view !== undefined) statements.push(...viewCopy(mapped, standing, standing.view));
    if (standing === undefined) {
      statements.push(createTable(mapped));
      references.push(...mapped.table.names.flatMap((name) => foreignKey(mapped, name, schema, mapping)));
    } else {
      statements.push(...missingColumns(mapped, standing));
      refuseLosses(mapped, standing);
      if (mapping[mapped.name] === undefined) statements.push(...(await widenings(client, mapped)));
    }
    // Another program's table has the indexes that its owner gave it.
    if (mapping[mapped.name] === undefined) indexes.push(...createIndexes(mapped));
    const table = appTable(mapped, standing);
    if (isComposite(table.key)) indexes.push(idIndex(mapped, table));
    tables.set(mapped.name, table);
    tracking.push(...track(table, standing, noted, isSuperuser));
  }
  const standing = new Set(await indexNames(client));
  statements.push(
    ...indexes.filter(({ name }) => !standing.has(name)).map(({ sql }) => sql),
    ...references,
    ...tracking,
  );
  return { statements, tables, isServed: noted !== undefined };
}

/** The name that an index over the ids of rows begins with. */
const idIndexName = 'koinon id ';

/** Takes every trace of Koinon out of a database: its schema, and with it the functions and the triggers on them; indexes. */
export const uninstallSql = [
  'DROP SCHEMA IF EXISTS koinon CASCADE',
  `DO $koinon$
DECLARE
  found text;
BEGIN
  FOR found IN SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.relkind IN ('i', 'I') AND starts_with(c.relname, ${quoteText(idIndexName)})
  LOOP
    EXECUTE 'DROP INDEX ' || found;
  END LOOP;
END
$koinon$`,
];

async function notedDigests(client: ClientBase): Promise<Map<string, string> | undefined> {
  const { rows } = await client.query<{ there: string | null }>("SELECT to_regclass('koinon.filterable') AS there");
  if (rows[0]?.there === null) return undefined;
  const meta = await client.query<{ name: string; value: string }>('SELECT name, value FROM koinon.meta');
  return new Map(meta.rows.map(({ name, value }) => [name, value]));
}

async function hasAssignedKeyTable(client: ClientBase): Promise<boolean> {
  const { rows } = await client.query<{ there: string | null }>("SELECT to_regclass('koinon.assigned_key') AS there");
  return rows[0]?.there !== null;
}

async function indexNames(client: ClientBase): Promise<string[]> {
  const { rows } = await client.query<{ name: string }>(
    `SELECT n.nspname || '.' || c.relname AS name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
     WHERE c.relkind IN ('i', 'I')`,
  );
  return rows.map(({ name }) => name);
}

function appTable(mapped: MappedTable, standing: ExistingTable | undefined): AppTable {
  const { name, sql, table, keyNames, columnNames, columnForms, softDelete } = mapped;
  const existingColumn = (column: string, made: string, zone?: string): ExistingColumn => {
    const there = standing?.columns.get(column);
    return {
      sql: quoteName(column),
      type: there?.type ?? made.replace(/ COLLATE "C"|\(\d+\)/g, ''),
      filled: there?.filled ?? undefined,
      zone,
    };
  };
  if (softDelete !== undefined && !standing?.columns.has(softDelete))
    throw invalidValue(mapped, `has no column ${softDelete}, which the mapping says marks deleted rows`);
  const nextKey = table.assignedKey ? standing?.nextKey : undefined;
  const isNumbered = /^(small|big)?int(eger)?$/.test(standing?.columns.get(keyNames[0] as string)?.type ?? '');
  if (table.assignedKey && (nextKey === undefined || !isNumbered))
    throw invalidValue(
      mapped,
      `does not count the key ${keyNames[0]} itself, as assignedKey says; make it an identity. A key of another kind is one that devices can make: leave assignedKey away`,
    );
  const typeMade = (i: number) =>
    table.key.length === 0 ? 'text' : columnType(table.columns[table.key[i] as string] as Column);
  const [first, ...more] = keyNames.map((column, i) => existingColumn(column, typeMade(i)));
  const copies =
    standing?.view === undefined
      ? undefined
      : {
          view: sql,
          columns: new Map([...standing.columns.values()].map((each) => [quoteName(each.name), each.type])),
        };
  return {
    name,
    sql: copies === undefined ? sql : copyOf(name),
    copies,
    table,
    nextKey,
    key: keyOf([first as ExistingColumn, ...more]),
    columns: new Map(
      table.entries.map(([column, definition]) => [
        column,
        // A view that computes a column takes no value for it.
        {
          ...existingColumn(columnNames[column] as string, columnType(definition), columnForms[column]?.zone),
          ...(copies !== undefined && definition.assigned ? { filled: 'always' as const } : {}),
        },
      ]),
    ),
    filterable: table.filterable,
    softDelete: softDelete === undefined ? undefined : existingColumn(softDelete, 'boolean'),
  };
}

/** The copy of a view. @throws KoinonError `schema-invalid` for a view that cannot be served. */
function viewCopy(mapped: MappedTable, { columns }: ExistingTable, view: NonNullable<ExistingTable['view']>): string[] {
  const { table, softDelete } = mapped;
  if (table.assignedKey) throw invalidValue(mapped, 'is a view, which gives no keys; leave assignedKey away');
  if (softDelete !== undefined)
    throw invalidValue(
      mapped,
      'is a view, which marks no rows as deleted; leave softDelete away, and let the view leave them out',
    );
  if (!table.readOnly && !view.isWritable)
    throw invalidValue(
      mapped,
      'is a view that cannot be written. Say readOnly: true of the table, or give the view triggers INSTEAD OF INSERT, UPDATE and DELETE',
    );
  const lost = Object.values(mapped.columnNames).find((column) => !columns.has(column));
  if (lost !== undefined) throw invalidValue(mapped, `has no column ${lost}, which the mapping or the schema names`);
  const types = new Map([...columns.values()].map(({ name, type }) => [name, type]));
  return copyDdl(mapped, types, view.present);
}

function createTable(mapped: MappedTable): string {
  const { sql, table, keyNames } = mapped;
  const columns = table.names.map((name) => columnDdl(mapped, name));
  const keys = keyNames.map(quoteName).join(', ');
  // The parts of a key are columns among the others.
  const [id, key] =
    table.key.length === 0 ? [`${keys} text COLLATE "C" PRIMARY KEY,\n  `, ''] : ['', `,\n  PRIMARY KEY (${keys})`];
  return `CREATE TABLE ${sql} (\n  ${id}${columns.join(',\n  ')}${key}\n)`;
}

function columnDdl({ relation, table, columnNames }: MappedTable, name: string): string {
  const column = table.columns[name] as Column;
  const quoted = quoteName(columnNames[name] as string);
  const rule = columnRule(quoted, column);
  const bounds = boundsRule(quoted, column, boundsOf(table, name));
  return [
    `${quoted} ${columnType(column)}`,
    ...(column.optional ? [] : ['NOT NULL']),
    ...(rule ? [`CHECK (${rule})`] : []),
    ...defaultSql(column),
    ...(bounds ? [`CONSTRAINT ${quoteName(rangeName(relation, name))} CHECK (${bounds})`] : []),
  ].join(' ');
}

/** The name of the constraint that holds a column to its bounds. */
const rangeName = (relation: string, name: string) => shortName(`${relation}_${name}_range`);

/** The value that the table gives a new row for which another program gives none. */
function defaultSql(column: Column): string[] {
  const { default: initial } = column;
  if (initial === undefined || initial === null || typeof initial === 'function') return [];
  const given = parameter(column, initial);
  return [`DEFAULT ${given instanceof Buffer ? `'\\x${given.toString('hex')}'` : quoteText(String(given))}`];
}

/** References are checked at the end of a transaction, whose rows may refer to each other in any order. */
function foreignKey(mapped: MappedTable, column: string, schema: Schema, mapping: Mapping): string[] {
  const { target } = mapped.table.columns[column] as Column;
  const other = target === undefined ? undefined : mappedTables(schema, mapping).find(({ name }) => name === target);
  // A soft-deleted row is still there for a foreign key; what it refers to is checked by each push.
  if (other === undefined || other.softDelete !== undefined || mapping[other.name] !== undefined) return [];
  const name = quoteName(mapped.columnNames[column] as string);
  return [
    `ALTER TABLE ${mapped.sql} ADD FOREIGN KEY (${name}) REFERENCES ${other.sql} (${other.keyNames.map(quoteName).join(', ')}) DEFERRABLE INITIALLY DEFERRED`,
  ];
}

/** An index by its name, with its SQL schema. */
interface Index {
  readonly name: string;
  readonly sql: string;
}

/** The index by which rows are found whose id is no column. */
function idIndex({ namespace, name }: MappedTable, { key, sql, copies }: AppTable): Index {
  const index = shortName(`${idIndexName}${name}`);
  return {
    name: `${copies === undefined ? namespace : 'koinon'}.${index}`,
    sql: `CREATE INDEX IF NOT EXISTS ${quoteName(index)} ON ${sql} (${keySql(key, '')})`,
  };
}

function createIndexes({ sql, relation, namespace, table, columnNames }: MappedTable): Index[] {
  const groups = [
    ...table.unique.map((columns) => ({ columns, unique: 'UNIQUE ' })),
    ...indexedGroups(table).map((columns) => ({ columns, unique: '' })),
  ];
  return groups.map(({ columns, unique }) => {
    const name = shortName(`${relation}_by_${columns.join('_')}`);
    const over = columns.map((column) => quoteName(columnNames[column] as string)).join(', ');
    return {
      name: `${namespace}.${name}`,
      sql: `CREATE ${unique}INDEX IF NOT EXISTS ${quoteName(name)} ON ${sql} (${over})`,
    };
  });
}

/** The columns that a table lacks; those of another program's table are its owner's to add. */
function missingColumns(mapped: MappedTable, standing: ExistingTable): string[] {
  const { sql, table, columnNames } = mapped;
  return table.entries.flatMap(([name, column]) => {
    const there = columnNames[name] as string;
    if (standing.columns.has(there)) return [];
    if (there !== name) throw invalidValue(mapped, `has no column ${there}, which the mapping names for ${name}`);
    const { default: initial, optional } = column;
    if (!optional && (initial === undefined || typeof initial === 'function'))
      throw invalidValue(
        mapped,
        `lacks ${name}, which is new and required; give it a default value for the rows that are there, or add it by your own SQL`,
      );
    return [`ALTER TABLE ${sql} ADD COLUMN ${columnDdl(mapped, name)}`];
  });
}

/** Refuses columns whose types lose something, unless the mapping says that this is known. @throws KoinonError `schema-invalid`. */
function refuseLosses(mapped: MappedTable, { columns }: ExistingTable): void {
  const losses = mapped.table.entries.flatMap(([name, column]) => {
    const { lossy, zone } = mapped.columnForms[name] ?? {};
    const there = columns.get(mapped.columnNames[name] as string);
    const loss = there === undefined || lossy ? undefined : lossOf(column, there.declared, zone);
    return loss === undefined ? [] : [`${name} (${column.type} over ${there?.declared}) loses ${loss}`];
  });
  if (losses.length > 0)
    throw invalidValue(
      mapped,
      `cannot keep all values: ${losses.join('; ')}. Take another type for the column, or say in the mapping that the loss is known: columns: { …: { lossy: true } }`,
    );
}

/** A rule of a column in a table that Koinon made: by the collation of the key it is told from those that others made. */
const rulesOf = `SELECT a.attname AS name, a.attnotnull AS required, c.conname AS rule, pg_get_constraintdef(c.oid) AS definition
  FROM pg_attribute a LEFT JOIN pg_constraint c ON c.conrelid = a.attrelid AND c.contype = 'c' AND c.conkey = ARRAY[a.attnum]
  WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped AND EXISTS (
    SELECT FROM pg_attribute k JOIN pg_collation o ON o.oid = k.attcollation
    WHERE k.attrelid = a.attrelid AND k.attname = ANY($2) AND k.attnotnull AND o.collname = 'C')`;

/** The SQL that has a table that Koinon made take what the schema takes by now: one more of the listed texts, or none at all. */
async function widenings(client: ClientBase, { sql, relation, table, keyNames }: MappedTable): Promise<string[]> {
  const { rows } = await client.query<{ name: string; required: boolean; rule: string | null; definition: string }>(
    rulesOf,
    [sql, keyNames],
  );
  return table.entries.flatMap(([name, column]) => {
    const own = rows.filter((row) => row.name === name);
    const relaxed =
      column.optional && own[0]?.required ? [`ALTER TABLE ${sql} ALTER COLUMN ${quoteName(name)} DROP NOT NULL`] : [];
    const range = own.find(({ rule }) => rule === rangeName(relation, name));
    if (range !== undefined) {
      const [now, wanted] = [boundsIn(range.definition), boundsOf(table, name)];
      const wider = widerBounds(now, wanted);
      const constraint = quoteName(rangeName(relation, name));
      const check = boundsRule(quoteName(name), column, wider);
      if (wider.least !== now.least || wider.most !== now.most)
        relaxed.push(
          `ALTER TABLE ${sql} DROP CONSTRAINT ${constraint}${check ? `, ADD CONSTRAINT ${constraint} CHECK (${check})` : ''}`,
        );
    }
    const standing = own.find(
      ({ rule, definition }) => rule === `${relation}_${name}_check` && isList.test(definition),
    );
    if (column.oneOf === undefined || standing === undefined) return relaxed;
    const listed = textsIn(standing.definition);
    if (column.oneOf.every((each) => listed.includes(each))) return relaxed;
    const rule = quoteName(standing.rule as string);
    // Columns that are not in the schema any more may still stand in rows.
    const check = columnRule(quoteName(name), { ...column, oneOf: [...new Set([...listed, ...column.oneOf])] });
    return [...relaxed, `ALTER TABLE ${sql} DROP CONSTRAINT ${rule}, ADD CONSTRAINT ${rule} CHECK (${check})`];
  });
}

/** The rule of a column that takes some texts, as PostgreSQL writes it down. */
const isList = /^CHECK \(\((?:"(?:[^"]|"")*"|[a-z_][a-z0-9_]*) = (?:ANY \(ARRAY\[.*\]\)|E?'.*'::text)\)\)$/s;

function textsIn(definition: string): string[] {
  return [...definition.matchAll(/(E?)'((?:[^']|'')*)'/g)].map(([, escaped, text]) => {
    const plain = (text as string).replaceAll("''", "'");
    return escaped ? plain.replaceAll('\\\\', '\\') : plain;
  });
}

/** The functions and triggers of one table, unless they stand there already as they should. */
function track(
  table: AppTable,
  standing: ExistingTable | undefined,
  noted: ReadonlyMap<string, string> | undefined,
  isSuperuser: boolean,
): string[] {
  const functions = feedFunctions(table);
  const isAsNoted = noted?.get(`layout ${table.name}`) === digestOf(functions);
  const found = standing?.relations ?? [];
  const relations = found.length > 0 ? found : [{ sql: table.sql, triggers: [] }];
  const untracked = relations.filter(({ triggers }) => triggers.join() !== triggerNames.join());
  // A user who is no superuser leaves what one has set up as it is.
  const leaves = standing?.isPartitioned === true && isSuperuser ? partitionTrigger(table) : [];
  const followed = leaves.length === 0 || noted?.get(`partitions ${table.name}`) === digestOf(leaves);
  // The mapping has named another relation: the one before is left alone, and devices get the rows of this one.
  const former = (standing?.formerRelations ?? []).flatMap((relation) =>
    triggerNames.map((name) => `DROP TRIGGER IF EXISTS ${name} ON ${relation}`),
  );
  return [
    ...former,
    ...(isAsNoted ? [] : functions),
    ...untracked.flatMap(({ sql }) => feedTriggers(table, sql)),
    ...(former.length > 0 ? resendAllSql(table) : isAsNoted && untracked.length === 0 ? [] : [stampUnstamped(table)]),
    ...rememberFilterable(table, noted),
    ...(isAsNoted ? [] : [note(`layout ${table.name}`, functions)]),
    ...(followed ? [] : [...leaves, note(`partitions ${table.name}`, leaves)]),
  ];
}

/** Notes from when on the earlier values of filterable columns are remembered: from now, where one is new. */
function rememberFilterable({ name, filterable }: AppTable, noted: ReadonlyMap<string, string> | undefined): string[] {
  const known = new Set(JSON.parse(noted?.get(`filterable ${name}`) ?? '[]') as string[]);
  if (filterable.every((column) => known.has(column))) return [];
  const columns = quoteText(JSON.stringify(filterable));
  return [
    `INSERT INTO koinon.filterable VALUES (${quoteText(name)}, ${columns}, pg_current_xact_id()) ON CONFLICT (table_name) DO UPDATE SET columns = excluded.columns, position = excluded.position`,
    `INSERT INTO koinon.meta VALUES (${quoteText(`filterable ${name}`)}, ${columns}) ON CONFLICT (name) DO UPDATE SET value = excluded.value`,
  ];
}

const digestOf = (statements: readonly string[]) => createHash('sha256').update(statements.join('\n')).digest('hex');

function note(name: string, statements: readonly string[]): string {
  return `INSERT INTO koinon.meta VALUES (${quoteText(name)}, ${quoteText(digestOf(statements))}) ON CONFLICT (name) DO UPDATE SET value = excluded.value`;
}
