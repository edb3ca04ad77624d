import { quoteName, quoteText } from '@koinon/core/internal';
import { aliveSql, differsSql, type ExistingColumn } from './columns.ts';
import { jsonbObject } from './json.ts';
import { idSql, keySql, type TableKey } from './key.ts';
import { shortName, triggerFunction } from './names.ts';

/** A table as it stands in the database: what the triggers have to know of it. */
export interface TrackedTable {
  /** Its name in the schema, which the feed calls it by. */
  readonly name: string;
  /** Its quoted name in the database. */
  readonly sql: string;
  readonly key: TableKey;
  /** Its columns besides the id, by their names in the schema. */
  readonly columns: ReadonlyMap<string, ExistingColumn>;
  /** The columns whose earlier values are remembered, by their names in the schema. */
  readonly filterable: readonly string[];
  /** The column that marks a row as deleted. */
  readonly softDelete: ExistingColumn | undefined;
}

/** A statement of the feed's functions, with the rows it looks at: transition tables, or one row. */
interface Sources {
  readonly before: string;
  readonly after: string;
}

const transition: Sources = { before: 'koinon_before', after: 'koinon_after' };
const oneRow: Sources = { before: '(SELECT OLD.*)', after: '(SELECT NEW.*)' };

const stampColumns =
  'table_name, row_id, position, born, row_position, row_edited_at, row_receipt, deleted, columns, image, past';

/**
 * The functions that write the stamps of one table. They look at whole statements (transition tables), which costs a bulk
 * update a fraction of what row triggers cost it, and take nothing for granted about how the rows came there:
 *
 * - ids are told apart once, and changed columns united over all pairs of one id, since cascades that reach a row by two
 *   references show it twice;
 * - before and after are joined fully by id: where the key itself was changed, that is a delete and an insert;
 * - a row counts as deleted when it is not in the table any more, whatever the statement says it did.
 *
 * Their variables carry a prefix, since a column of the table may have any other name.
 * They run as whoever installed them, with a fixed search path, so that any role can write the table.
 */
export function feedFunctions(table: TrackedTable): string[] {
  const make = (
    kind: string,
    body: string,
  ) => `CREATE OR REPLACE FUNCTION ${functionName(table, kind)}() RETURNS trigger
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $koinon$
DECLARE
  koinon_at xid8 := pg_current_xact_id();
  koinon_receipt text := nullif(current_setting('koinon.receipt', true), '');
  koinon_edited bigint := coalesce(nullif(current_setting('koinon.edited_at', true), '')::bigint, floor(extract(epoch FROM clock_timestamp()) * 1000)::bigint);
  koinon_stamp jsonb := jsonb_build_array(koinon_at::text::bigint, koinon_edited, koinon_receipt);
  koinon_id text;
  koinon_mask bigint;
  koinon_columns jsonb;
  koinon_past jsonb;
  koinon_count bigint;
BEGIN
${body}
  RETURN NULL;
END
$koinon$`;
  const applied = `  IF TG_OP = 'INSERT' THEN
${insertedSql(table, oneRow)}
  ELSIF TG_OP = 'UPDATE' THEN
${updatedSql(table, oneRow)}
  ELSE
${deletedSql(table, oneRow)}
  END IF;`;
  return [
    make('insert', insertedSql(table, transition)),
    make('update', `${updatedUsuallySql(table)}${updatedSql(table, transition)}`),
    make('delete', deletedSql(table, transition)),
    make('truncate', truncatedSql(table)),
    make('applied', applied),
  ];
}

/**
 * The triggers on one relation: the table itself, or a leaf of a partitioned one. Whoever applies logical replication
 * fires no statement triggers: for him there is a row trigger, which fires for nobody else, and which PostgreSQL itself
 * gives to the leaves.
 */
export function feedTriggers(table: TrackedTable, relation = table.sql): string[] {
  const on = (name: string, when: string, how: string) =>
    `CREATE OR REPLACE TRIGGER koinon_${name} ${when} ON ${relation} ${how} EXECUTE FUNCTION ${functionName(table, name)}()`;
  const { before, after } = transition;
  const onRows = [
    on('applied', 'AFTER INSERT OR UPDATE OR DELETE', 'FOR EACH ROW'),
    `ALTER TABLE ${relation} ENABLE REPLICA TRIGGER koinon_applied`,
  ];
  return [
    on('insert', 'AFTER INSERT', `REFERENCING NEW TABLE AS ${after} FOR EACH STATEMENT`),
    on('update', 'AFTER UPDATE', `REFERENCING OLD TABLE AS ${before} NEW TABLE AS ${after} FOR EACH STATEMENT`),
    on('delete', 'AFTER DELETE', `REFERENCING OLD TABLE AS ${before} FOR EACH STATEMENT`),
    on('truncate', 'BEFORE TRUNCATE', 'FOR EACH STATEMENT'),
    ...(relation === table.sql ? onRows : []),
  ];
}

/**
 * Keeps up with the leaves of a partitioned table, for which no statement triggers are cloned: new ones get theirs, and
 * rows that came or went with a whole leaf are stamped. PostgreSQL lets only a superuser set this up; without it a leaf is
 * taken up when the server next starts.
 */
export function partitionTrigger(table: TrackedTable): string[] {
  const name = functionName(table, 'leaves');
  const event = quoteName(shortName(`koinon leaves ${table.name}`));
  const noted = quoteText(`leaves ${table.name}`);
  const create = feedTriggers(table, '%1$s').map((sql) => `    EXECUTE format(${quoteText(sql)}, leaf);`);
  return [
    `CREATE OR REPLACE FUNCTION ${name}() RETURNS event_trigger
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $koinon$
DECLARE
  root regclass := to_regclass(${quoteText(table.sql)});
  leaf text;
  leaves text := coalesce((SELECT string_agg(relid::oid::text, ' ' ORDER BY relid::oid) FROM pg_partition_tree(root) WHERE isleaf), '');
BEGIN
  IF root IS NULL OR leaves = (SELECT value FROM koinon.meta WHERE name = ${noted}) THEN RETURN; END IF;
  FOR leaf IN SELECT format('%I.%I', n.nspname, c.relname) FROM pg_partition_tree(root) t
    JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE t.isleaf AND NOT EXISTS (SELECT FROM pg_trigger WHERE tgrelid = c.oid AND tgname = 'koinon_insert')
  LOOP
${create.join('\n')}
  END LOOP;
  ${stampUnstamped(table)};
  UPDATE koinon.stamp SET position = pg_current_xact_id(), row_position = pg_current_xact_id(), row_receipt = NULL, columns = '{}', deleted = true
  WHERE table_name = ${quoteText(table.name)} AND NOT deleted AND ${isGone(table, `row_id::${table.key.type}`)};
  INSERT INTO koinon.meta VALUES (${noted}, leaves) ON CONFLICT (name) DO UPDATE SET value = excluded.value;
END
$koinon$`,
    `DROP EVENT TRIGGER IF EXISTS ${event}`,
    `CREATE EVENT TRIGGER ${event} ON ddl_command_end WHEN TAG IN ('CREATE TABLE', 'ALTER TABLE', 'DROP TABLE') EXECUTE FUNCTION ${name}()`,
  ];
}

/** The names of the triggers on each relation. */
export const triggerNames = ['koinon_applied', 'koinon_delete', 'koinon_insert', 'koinon_truncate', 'koinon_update'];

/** Stamps for rows that have none, such as those that were there before the triggers. */
export function stampUnstamped(table: TrackedTable): string {
  return `INSERT INTO koinon.stamp (${stampColumns})
SELECT ${quoteText(table.name)}, ${idSql(table.key, 'r')}, now.at, now.at, now.at, now.edited, NULL, false, '{}', NULL, '{}'
FROM ${table.sql} r, (SELECT pg_current_xact_id() AS at, floor(extract(epoch FROM clock_timestamp()) * 1000)::bigint AS edited) now${whereAlive(table, 'r')}
ON CONFLICT DO NOTHING`;
}

/** Makes every row of a table, and every one that is gone, look newly written: for what no trigger saw. */
export function resendAllSql(table: TrackedTable): string[] {
  const name = quoteText(table.name);
  return [
    `UPDATE koinon.stamp SET position = pg_current_xact_id(), row_position = pg_current_xact_id(), row_receipt = NULL, columns = '{}',
  deleted = (SELECT true FROM ${table.sql} r WHERE ${keySql(table.key, 'r')} = row_id::${table.key.type}${alive(table, 'r')}) IS NULL
WHERE table_name = ${name}`,
    stampUnstamped(table),
  ];
}

function insertedSql(table: TrackedTable, { after }: Sources): string {
  return `${write}
    SELECT ${quoteText(table.name)}, n.id::text, koinon_at, koinon_at, koinon_at, koinon_edited, koinon_receipt, false, '{}', NULL, '{}'
    FROM (SELECT DISTINCT ${keySql(table.key, 'n')} AS id FROM ${after} n${whereAlive(table, 'n')}) n
  ${onConflict(table)};`;
}

function deletedSql(table: TrackedTable, { before }: Sources): string {
  const o = keySql(table.key, 'o');
  return `${write}
    SELECT ${quoteText(table.name)}, o.id::text, koinon_at, koinon_at, koinon_at, koinon_edited, koinon_receipt, true, '{}', o.image, o.past
    FROM (SELECT DISTINCT ON (${o}) ${o} AS id, ${imageOf(table, 'o')} AS image, ${pastOf(table, 'o')} AS past FROM ${before} o${whereAlive(table, 'o')} ORDER BY ${o}) o
    WHERE ${isGone(table, 'o.id')}
  ${onConflict(table)};`;
}

function updatedSql(table: TrackedTable, { before, after }: Sources): string {
  const [o, n] = [keySql(table.key, 'o'), keySql(table.key, 'n')];
  const columns = changedSql(
    table,
    (differs) => `bool_or(${differs}) FILTER (WHERE ${o} IS NOT NULL AND ${n} IS NOT NULL)`,
  );
  return `${write}
    SELECT ${quoteText(table.name)}, k.id::text, koinon_at, koinon_at, koinon_at, koinon_edited, koinon_receipt, k.gone, CASE WHEN k.gone OR k.is_new THEN '{}' ELSE k.columns END, k.image, coalesce(k.past, '{}')
    FROM (
      SELECT coalesce(${n}, ${o}) AS id, bool_and(${n} IS NULL) AS gone, bool_or(${o} IS NULL) AS is_new,
        ${columns} AS columns,
        (array_agg(${imageOf(table, 'o')}) FILTER (WHERE ${n} IS NULL))[1] AS image,
        ${leftSql(table)} AS past
      FROM (SELECT * FROM ${before} o${whereAlive(table, 'o')}) o
        FULL JOIN (SELECT * FROM ${after} n${whereAlive(table, 'n')}) n ON ${o} = ${n}
      GROUP BY 1
    ) k
    WHERE CASE WHEN k.gone THEN ${isGone(table, 'k.id')} ELSE k.is_new OR k.columns <> '{}' END
  ${onConflict(table)};`;
}

/** The stamps of the columns in which a pair of rows, `o` and `n`, differs. */
function changedSql(table: TrackedTable, test: (differs: string) => string): string {
  const columns = [...table.columns].map(([name, column]) => {
    const differs = differsSql(column.type, `o.${column.sql}`, `n.${column.sql}`);
    return `${quoteText(name)}, CASE WHEN ${test(differs)} THEN koinon_stamp END`;
  });
  return `jsonb_strip_nulls(${jsonbObject(columns)})`;
}

/** Statements of more rows than this are stamped at once. */
const many = 200;

/** Columns that fit into the bits of a number. */
const mostBits = 62;

/**
 * The usual updates. One row: its stamp is found by its key. Many rows, mostly with the same columns changed in
 * each: their stamps are updated by a join, planned for this statement. Where that does not account for every row (keys
 * that changed, cascades, stamps of deleted rows) the statement for all cases follows, and writes over it.
 */
function updatedUsuallySql(table: TrackedTable): string {
  if (table.columns.size > mostBits) return '';
  const [o, n] = [keySql(table.key, 'o'), keySql(table.key, 'n')];
  const columns = [...table.columns];
  const bits = columns.map(([, column], i) => {
    const differs = differsSql(column.type, `o.${column.sql}`, `n.${column.sql}`);
    return `CASE WHEN ${differs} THEN ${2n ** BigInt(i)} ELSE 0 END::bigint`;
  });
  const named = (mask: string) =>
    `jsonb_strip_nulls(${jsonbObject(columns.map(([name], i) => `${quoteText(name)}, CASE WHEN ${mask} & ${2n ** BigInt(i)} <> 0 THEN $2::jsonb END`))})`;
  const { before, after } = transition;
  const remembers = table.filterable.length > 0;
  const mask = bits.join(' | ');
  const usual = `WITH u AS (SELECT ${mask} AS mask FROM (SELECT * FROM ${before} LIMIT 1) o JOIN ${after} n ON ${o} = ${n} LIMIT 1)
      SELECT u.mask, ${named('u.mask')} FROM u WHERE $1::xid8 IS NOT NULL`;
  // The offset keeps the comparison of the columns from being written, and done, in every place that names it.
  const pairs = `SELECT ${idSql(table.key, 'n')} AS id, ${mask} AS mask${remembers ? `, ${movedSql(table, '$1')} AS past` : ''} FROM ${before} o JOIN ${after} n ON ${o} = ${n}${whereAlive(table, 'o')}${alive(table, 'n')} OFFSET 0`;
  const update = `UPDATE koinon.stamp s SET position = $1, columns = s.columns || CASE WHEN k.mask = $3 THEN $4 ELSE ${named('k.mask')} END${remembers ? ', past = s.past || k.past' : ''}
      FROM (${pairs}) k WHERE s.table_name = ${quoteText(table.name)} AND s.row_id = k.id AND NOT s.deleted AND k.mask <> 0`;
  const one = `SELECT ${idSql(table.key, 'n')}, ${changedSql(table, (differs) => differs)}${remembers ? `, ${movedSql(table, 'koinon_at')}` : ''} INTO koinon_id, koinon_columns${remembers ? ', koinon_past' : ''}
      FROM ${before} o, ${after} n WHERE ${o} = ${n}${alive(table, 'o')}${alive(table, 'n')}`;
  return `  SELECT count(*) INTO koinon_count FROM (SELECT FROM ${after} LIMIT ${many + 1}) n;
  IF koinon_count = 1 AND (SELECT count(*) FROM (SELECT FROM ${before} LIMIT 2) o) = 1 THEN
    ${one};
    IF koinon_columns = '{}' THEN RETURN NULL; END IF;
    UPDATE koinon.stamp s SET position = koinon_at, columns = s.columns || koinon_columns${remembers ? ', past = s.past || koinon_past' : ''}
      WHERE s.table_name = ${quoteText(table.name)} AND s.row_id = koinon_id AND NOT s.deleted;
    IF FOUND THEN RETURN NULL; END IF;
  ELSIF koinon_count > ${many} THEN
    EXECUTE ${quoteText(usual)} INTO koinon_mask, koinon_columns USING koinon_at, koinon_stamp;
    EXECUTE ${quoteText(update)} USING koinon_at, koinon_stamp, koinon_mask, koinon_columns;
    GET DIAGNOSTICS koinon_count = ROW_COUNT;
    IF koinon_count = (SELECT count(*) FROM ${before}) AND koinon_count = (SELECT count(*) FROM ${after}) THEN RETURN NULL; END IF;
  END IF;
`;
}

function truncatedSql(table: TrackedTable): string {
  return `${write}
    SELECT ${quoteText(table.name)}, ${idSql(table.key, 'o')}, koinon_at, koinon_at, koinon_at, koinon_edited, koinon_receipt, true, '{}', ${imageOf(table, 'o')}, ${pastOf(table, 'o')}
    FROM ${table.sql} o${whereAlive(table, 'o')}
  ${onConflict(table)};`;
}

const write = `  INSERT INTO koinon.stamp AS s (${stampColumns})`;

/**
 * Written over the stamp that is there. The whole row is written by an insert or a delete (no columns are named), single
 * columns by an update. A row whose stamp says it is deleted may have been deleted by something within this very
 * statement: whether it is there, the table says.
 */
function onConflict(table: TrackedTable): string {
  const gone = isGone(table, `s.row_id::${table.key.type}`);
  const whole = "excluded.columns = '{}' OR s.deleted";
  return `  ON CONFLICT (table_name, row_id) DO UPDATE SET
    position = excluded.position,
    row_position = CASE WHEN ${whole} THEN excluded.row_position ELSE s.row_position END,
    row_edited_at = CASE WHEN ${whole} THEN excluded.row_edited_at ELSE s.row_edited_at END,
    row_receipt = CASE WHEN ${whole} THEN excluded.row_receipt ELSE s.row_receipt END,
    deleted = CASE WHEN excluded.deleted THEN true WHEN s.deleted THEN ${gone} ELSE false END,
    columns = CASE WHEN ${whole} THEN '{}' ELSE s.columns || excluded.columns END,
    image = CASE WHEN excluded.deleted THEN excluded.image WHEN s.deleted AND ${gone} THEN s.image END,
    past = s.past || excluded.past`;
}

/** As a subquery for a value, which is looked up by the key: a join would be planned once for all sizes, and be wrong for most. */
function isGone(table: TrackedTable, id: string): string {
  return `(SELECT true FROM ${table.sql} r WHERE ${keySql(table.key, 'r')} = ${id}${alive(table, 'r')}) IS NULL`;
}

function alive({ softDelete }: TrackedTable, row: string): string {
  return softDelete ? ` AND ${aliveSql(softDelete, row)}` : '';
}

function whereAlive({ softDelete }: TrackedTable, row: string): string {
  return softDelete ? ` WHERE ${aliveSql(softDelete, row)}` : '';
}

function imageOf({ columns }: TrackedTable, row: string): string {
  return jsonbObject([...columns].map(([name, { sql }]) => `${quoteText(name)}, ${row}.${sql}`));
}

/** The values of the filterable columns of a row, as the name under which the position is noted at which they left it. */
function heldSql({ filterable, columns }: TrackedTable, row: string): string {
  const fields = filterable.map((name) => `${quoteText(name)}, ${row}.${(columns.get(name) as ExistingColumn).sql}`);
  return `${jsonbObject(fields)}::text`;
}

function pastOf(table: TrackedTable, row: string, at = 'koinon_at'): string {
  if (table.filterable.length === 0) return "'{}'::jsonb";
  return `jsonb_build_object(${heldSql(table, row)}, ${at}::text::bigint)`;
}

/** The same where a pair of rows, `o` and `n`, differs in them. */
function movedSql(table: TrackedTable, at: string): string {
  if (table.filterable.length === 0) return "'{}'::jsonb";
  return `CASE WHEN ${heldSql(table, 'o')} IS DISTINCT FROM ${heldSql(table, 'n')} THEN ${pastOf(table, 'o', at)} ELSE '{}' END`;
}

/** The same over all pairs of one id; `n` may be missing. */
function leftSql(table: TrackedTable): string {
  if (table.filterable.length === 0) return "'{}'::jsonb";
  const [o, n] = [keySql(table.key, 'o'), keySql(table.key, 'n')];
  return `jsonb_object_agg(${heldSql(table, 'o')}, koinon_at::text::bigint) FILTER (WHERE ${o} IS NOT NULL AND (${n} IS NULL OR ${heldSql(table, 'o')} IS DISTINCT FROM ${heldSql(table, 'n')}))`;
}

function functionName({ name }: TrackedTable, kind: string): string {
  return `koinon.${quoteName(triggerFunction(name, kind))}`;
}
