import { quoteName } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { asRefused, openPool } from '../store/postgres/connections.ts';
import { type Catalog, type CatalogColumn, type CatalogTable, countingSql, distinctColumns } from './catalog.ts';

interface TypeRow {
  readonly oid: number;
  readonly name: string;
  readonly kind: string;
  readonly base: number;
  readonly modifier: number;
  readonly required: boolean;
  readonly labels: string[] | null;
  readonly given: boolean;
  /** The checks of a domain. */
  readonly conditions: string[];
}

interface ColumnRow {
  readonly table: number;
  readonly name: string;
  readonly type: number;
  readonly modifier: number;
  readonly written: string;
  readonly required: boolean;
  readonly given: CatalogColumn['given'] | null;
  readonly comment: string | null;
}

const tableKinds: Readonly<Record<string, CatalogTable['kind']>> = {
  r: 'table',
  p: 'table',
  v: 'view',
  m: 'view',
  f: 'foreign table',
};

/** Reads the catalog of a PostgreSQL database. Changes nothing. @throws KoinonError `storage-refused`. */
export async function postgresCatalog(url: string): Promise<Catalog> {
  const pool = openPool(url, 1);
  try {
    const client = await pool.connect();
    try {
      await client.query('BEGIN TRANSACTION READ ONLY ISOLATION LEVEL REPEATABLE READ');
      // Partitions are read by their table; what an extension brought is not the app's.
      const tables = await client.query<{
        oid: number;
        space: string;
        name: string;
        kind: string;
        comment: string | null;
      }>(
        `SELECT c.oid::int, n.nspname AS space, c.relname AS name, c.relkind AS kind, obj_description(c.oid, 'pg_class') AS comment
         FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
         WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition AND n.nspname NOT LIKE 'pg\\_%'
           AND n.nspname NOT IN ('information_schema', 'koinon')
           AND NOT EXISTS (SELECT FROM pg_depend WHERE classid = 'pg_class'::regclass AND objid = c.oid AND deptype = 'e')
         ORDER BY 2, 3`,
      );
      const columns = await client.query<ColumnRow>(
        `SELECT a.attrelid::int AS table, a.attname AS name, a.atttypid::int AS type, a.atttypmod AS modifier,
           format_type(a.atttypid, a.atttypmod) AS written, a.attnotnull AS required,
           CASE WHEN a.attgenerated <> '' OR a.attidentity = 'a' THEN 'always'
             WHEN a.atthasdef OR a.attidentity <> '' THEN 'by default' END AS given,
           col_description(a.attrelid, a.attnum) AS comment
         FROM pg_attribute a WHERE a.attrelid = ANY ($1::oid[]) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`,
        [tables.rows.map(({ oid }) => oid)],
      );
      const types = await client.query<TypeRow>(
        `SELECT t.oid::int, format_type(t.oid, NULL) AS name, t.typtype AS kind, t.typbasetype::int AS base, t.typtypmod AS modifier,
           t.typnotnull AS required, t.typdefault IS NOT NULL AS given,
           (SELECT array_agg(enumlabel::text ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = t.oid) AS labels,
           array(SELECT pg_get_expr(conbin, 0) FROM pg_constraint WHERE contypid = t.oid AND contype = 'c') AS conditions
         FROM pg_type t`,
      );
      const keys = await client.query<{ table: number; primary: boolean; columns: string[] }>(
        `SELECT indrelid::int AS table, indisprimary AS primary, array(SELECT attname::text FROM unnest(indkey[0:indnkeyatts - 1])
           WITH ORDINALITY k (number, place) JOIN pg_attribute ON attrelid = indrelid AND attnum = number ORDER BY place) AS columns
         FROM pg_index WHERE indisunique AND indisvalid AND indpred IS NULL AND indexprs IS NULL`,
      );
      const constraints = await client.query<{
        table: number;
        kind: 'f' | 'c';
        target: number;
        columns: string[];
        targets: string[];
        condition: string | null;
      }>(
        `SELECT conrelid::int AS table, contype AS kind, confrelid::int AS target, ${namesSql('conrelid', 'conkey')} AS columns,
           ${namesSql('confrelid', 'confkey')} AS targets, CASE contype WHEN 'c' THEN pg_get_expr(conbin, conrelid) END AS condition
         FROM pg_constraint WHERE contype IN ('f', 'c') AND conrelid <> 0`,
      );
      const byOid = new Map(types.rows.map((type) => [type.oid, type]));
      const relations = new Map(
        // A name with a dot in it is told from one that is in an SQL schema.
        tables.rows.map(({ oid, space, name }) => [
          oid,
          space === 'public' && !name.includes('.') ? name : `${space}.${name}`,
        ]),
      );
      const of = <Row extends { readonly table: number }>(rows: readonly Row[]) => {
        const grouped = new Map<number, Row[]>();
        for (const row of rows) grouped.set(row.table, [...(grouped.get(row.table) ?? []), row]);
        return (oid: number) => grouped.get(oid) ?? [];
      };
      const [columnsOf, keysOf, constraintsOf] = [of(columns.rows), of(keys.rows), of(constraints.rows)];
      const ofViews = new Map<number, string[][]>();
      for (const { oid, space, name, kind } of tables.rows) {
        if (tableKinds[kind] === 'table') continue;
        const comparable = columnsOf(oid).filter(({ type }) => keyTypes.test(byOid.get(type)?.name ?? ''));
        const names = comparable.map((column) => column.name);
        ofViews.set(oid, await distinctIn(client, `${quoteName(space)}.${quoteName(name)}`, names));
      }
      return {
        dialect: 'PostgreSQL',
        tables: tables.rows.map(({ oid, kind, comment }) => ({
          relation: relations.get(oid) as string,
          kind: tableKinds[kind] ?? 'table',
          comment: comment ?? undefined,
          columns: columnsOf(oid).map((column) => catalogColumn(column, byOid)),
          primaryKey: keysOf(oid).find(({ primary }) => primary)?.columns ?? [],
          unique: ofViews.get(oid) ?? keysOf(oid).map((key) => key.columns),
          references: constraintsOf(oid).flatMap(({ kind: what, target, columns: from, targets }) =>
            what === 'f' ? [{ columns: from, target: relations.get(target) ?? '', targetColumns: targets }] : [],
          ),
          definition: undefined,
          checks: [
            ...constraintsOf(oid).flatMap(({ condition }) => (condition === null ? [] : [condition])),
            ...columnsOf(oid).flatMap((column) => domainChecks(column, byOid)),
          ],
        })),
      };
    } finally {
      client.release();
    }
  } catch (error) {
    throw asRefused(error, url);
  } finally {
    await pool.end();
  }
}

/** The types that a view's key may have. */
const keyTypes = /^(text|character varying|uuid|smallint|integer|bigint)$/;

/** How long a view may take to be read, in milliseconds. */
const viewWait = 3_000;

/** The columns of a view by which its rows can be told apart; none of one that cannot be read, or takes too long. */
async function distinctIn(client: ClientBase, view: string, names: readonly string[]): Promise<string[][]> {
  if (names.length === 0) return [];
  await client.query(`SAVEPOINT looking; SET LOCAL statement_timeout = ${viewWait}`);
  try {
    const { rows } = await client.query<Record<string, string>>(countingSql(view, names.map(quoteName)));
    await client.query('RELEASE SAVEPOINT looking; SET LOCAL statement_timeout = 0');
    return distinctColumns(names, rows[0] ?? {});
  } catch {
    await client.query('ROLLBACK TO SAVEPOINT looking');
    return [];
  }
}

function namesSql(table: string, numbers: string): string {
  return `array(SELECT attname::text FROM unnest(${numbers}) WITH ORDINALITY k (number, place) JOIN pg_attribute ON attrelid = ${table} AND attnum = number ORDER BY place)`;
}

/** The checks of a column's domain, as those of the column. */
function domainChecks({ name, type }: ColumnRow, types: ReadonlyMap<number, TypeRow>): string[] {
  const conditions: string[] = [];
  for (let it = types.get(type); it?.kind === 'd'; it = types.get(it.base)) conditions.push(...it.conditions);
  return conditions.map((condition) => condition.replace(/\bVALUE\b/g, () => quoteName(name)));
}

function catalogColumn(column: ColumnRow, types: ReadonlyMap<number, TypeRow>): CatalogColumn {
  const { name, written, required, given, comment } = column;
  let type = types.get(column.type) as TypeRow;
  let { modifier } = column;
  let isRequired = required;
  let hasDefault = false;
  // A domain may be one of a domain.
  for (; type.kind === 'd'; type = types.get(type.base) as TypeRow) {
    if (type.modifier >= 0) modifier = type.modifier;
    isRequired ||= type.required;
    hasDefault ||= type.given;
  }
  return {
    name,
    type: written,
    baseType: type.name.toLowerCase(),
    size: sizeOf(type.name, modifier),
    isRequired,
    given: given ?? (hasDefault ? 'by default' : undefined),
    values: type.labels ?? undefined,
    comment: comment ?? undefined,
    found: undefined,
  };
}

/** The length or the digits that a type was declared with: PostgreSQL keeps them in one number. */
function sizeOf(type: string, modifier: number): readonly number[] {
  if (modifier < 0) return [];
  const value = modifier - 4;
  // A scale has eleven bits, and may be negative.
  if (type === 'numeric') return [(value >> 16) & 0xffff, ((value & 0x7ff) ^ 1024) - 1024];
  if (/^(character|bpchar)/.test(type)) return [value];
  return [modifier];
}
