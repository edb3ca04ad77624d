import { KoinonError } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import type { MappedTable } from '../mapping.ts';
import type { ExistingColumn } from './columns.ts';
import { copyOf } from './copies.ts';
import { canBePart } from './key.ts';
import { triggerFunction } from './names.ts';

// The tables and columns that another program, or Koinon itself, has made in the database already.

/** A column as the catalog describes it. */
interface CatalogColumn extends Pick<ExistingColumn, 'type'> {
  readonly name: string;
  readonly filled: 'always' | 'for none' | null;
  readonly required: boolean;
  /** Its type with the size: `numeric(10,2)`. */
  readonly declared: string;
}

/** What is special about a view. */
interface ExistingView {
  readonly isWritable: boolean;
  /** The copy of its rows, and the columns of that; undefined where it has not been made. */
  readonly oid: number | undefined;
  readonly present: ReadonlySet<string> | undefined;
}

/** A relation as the catalog describes it. */
export interface ExistingTable {
  readonly columns: ReadonlyMap<string, CatalogColumn>;
  /** Itself and, of a partitioned table, its leaves. */
  readonly relations: readonly { readonly sql: string; readonly triggers: readonly string[] }[];
  readonly isPartitioned: boolean;
  /** An expression for the next key, where the database gives keys. */
  readonly nextKey: string | undefined;
  /** Undefined for a table. */
  readonly view: ExistingView | undefined;
  /** Other relations that still have the triggers of this table, from before a mapping named another one. */
  readonly formerRelations: readonly string[];
}

/**
 * A table as it stands in the database; undefined where it is not there.
 *
 * @param isMapped whether its name was given in the mapping, so that no other can be meant.
 * @throws KoinonError `schema-invalid` where what stands there cannot be served.
 */
export async function existingTable(
  client: ClientBase,
  mapped: MappedTable,
  isMapped: boolean,
): Promise<ExistingTable | undefined> {
  const { namespace, relation } = mapped;
  const copy = copyOf(mapped.name);
  const { rows: found } = await client.query<{ oid: number; name: string; kind: string }>(
    `SELECT c.oid, c.relname AS name, c.relkind AS kind FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
     WHERE n.nspname = $1 AND lower(c.relname) = lower($2) AND c.relkind IN ('r', 'p', 'v', 'm', 'f')`,
    [namespace, relation],
  );
  const it = found.find(({ name }) => name === relation);
  const [alike] = found;
  if (it === undefined && alike !== undefined && !isMapped)
    throw invalidValue(
      mapped,
      `is not there, but one named ${quoteName(alike.name)} is; name the one that is meant in the mapping`,
    );
  if (it === undefined) return undefined;
  const { oid, kind } = it;
  const isPartitioned = kind === 'p';
  const isView = kind !== 'r' && !isPartitioned;
  if (isView && !isMapped)
    throw invalidValue(
      mapped,
      'is no table but a view or a foreign one; name it in the mapping, and Koinon keeps a copy of its rows',
    );
  const columns = await client.query<CatalogColumn>(
    `SELECT attname AS name, format_type(coalesce(nullif(t.typbasetype, 0), t.oid), -1) AS type,
       CASE WHEN t.typbasetype = 0 THEN format_type(t.oid, atttypmod) ELSE format_type(t.typbasetype, t.typtypmod) END AS declared,
       CASE WHEN attgenerated <> '' OR attidentity = 'a' THEN 'always'
         WHEN attnotnull AND (atthasdef OR attidentity <> '') THEN 'for none' END AS filled, attnotnull AS required
     FROM pg_attribute JOIN pg_type t ON t.oid = atttypid WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped`,
    [oid],
  );
  const keys = await client.query<{ columns: string[] }>(
    `SELECT array(SELECT attname::text FROM pg_attribute WHERE attrelid = $1 AND attnum = ANY(indkey[0:indnkeyatts - 1])) AS columns
     FROM pg_index WHERE indrelid = $1 AND indisunique AND indisvalid AND indpred IS NULL AND indexprs IS NULL`,
    [oid],
  );
  const { keyNames } = mapped;
  // The key of a partitioned table has the columns in it that it is parted by.
  const isKey = ({ columns: key }: { columns: string[] }) =>
    keyNames.every((name) => key.includes(name)) && (isPartitioned || key.length === keyNames.length);
  const parts = keyNames.map((name) => columns.rows.find((column) => column.name === name));
  const absent = keyNames.find((_name, i) => parts[i] === undefined);
  if (absent !== undefined)
    throw invalidValue(mapped, `has no column ${absent} for the row's id; name it in the mapping`);
  const named = keyNames.join(', ');
  if (!isView && !keys.rows.some(isKey)) throw invalidValue(mapped, `has no key or unique index on ${named} alone`);
  const isEmpty = keyNames.map((name) => `${quoteName(name)} IS NULL`).join(' OR ');
  const nowhere = `SELECT 1 FROM ${mapped.sql} WHERE ${isEmpty} LIMIT 1`;
  if (!isView && parts.some((part) => !part?.required) && (await client.query(nowhere)).rowCount !== 0)
    throw invalidValue(mapped, `has rows without ${named}; give them one, or delete them`);
  const unfit = keyNames.length > 1 ? parts.find((part) => !canBePart(part?.type ?? '')) : undefined;
  if (unfit !== undefined)
    throw invalidValue(
      mapped,
      `has ${unfit.name} of type ${unfit.type} in its key; the parts of a key are texts, whole numbers, UUIDs and dates`,
    );
  const view = isView ? await viewOf(client, oid, copy) : undefined;
  // A copy that is not there yet has no triggers.
  const followed = isView ? (view?.oid ?? 0) : oid;
  const relations = await client.query<{ root: boolean; sql: string; triggers: string[] }>(
    `SELECT c.oid = $1::oid AS root, format('%I.%I', n.nspname, c.relname) AS sql,
       array(SELECT tgname::text FROM pg_trigger WHERE tgrelid = c.oid AND tgname LIKE 'koinon\\_%' ORDER BY 1) AS triggers
     FROM (SELECT $1::regclass AS oid UNION SELECT relid FROM pg_partition_tree($1::regclass) WHERE isleaf) tree
     JOIN pg_class c ON c.oid = tree.oid JOIN pg_namespace n ON n.oid = c.relnamespace`,
    [followed],
  );
  const former = await client.query<{ sql: string }>(
    `SELECT DISTINCT format('%I.%I', n.nspname, c.relname) AS sql FROM pg_trigger t JOIN pg_proc p ON p.oid = t.tgfoid
       JOIN pg_namespace k ON k.oid = p.pronamespace JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
     WHERE k.nspname = 'koinon' AND p.proname = $2 AND c.oid NOT IN (SELECT $1::oid UNION SELECT relid FROM pg_partition_tree($1::regclass))`,
    [followed, triggerFunction(mapped.name, 'insert')],
  );
  return {
    formerRelations: former.rows.map(({ sql }) => sql),
    columns: new Map(columns.rows.map((column) => [column.name, column])),
    // A partitioned table has its triggers before its leaves.
    relations: relations.rows
      .sort((a, b) => Number(b.root) - Number(a.root))
      .map(({ root, sql, triggers }) => ({ sql: root ? (isView ? copy : mapped.sql) : sql, triggers })),
    isPartitioned,
    nextKey: isView ? undefined : await nextKeyOf(client, mapped, oid),
    view,
  };
}

async function viewOf(client: ClientBase, oid: number, copy: string): Promise<ExistingView> {
  // Insert, update and delete, with INSTEAD OF triggers counted in.
  const { rows } = await client.query<{ events: number; copy: number | null; columns: string[] }>(
    `SELECT pg_relation_is_updatable($1::regclass, true) AS events, to_regclass($2)::oid::int8::float8 AS copy,
       array(SELECT attname::text FROM pg_attribute WHERE attrelid = to_regclass($2) AND attnum > 0 AND NOT attisdropped) AS columns`,
    [oid, copy],
  );
  const [found] = rows as [{ events: number; copy: number | null; columns: string[] }];
  const all = 4 + 8 + 16;
  return {
    isWritable: (found.events & all) === all,
    oid: found.copy ?? undefined,
    present: found.copy === null ? undefined : new Set(found.columns),
  };
}

async function nextKeyOf(client: ClientBase, { sql, keyNames }: MappedTable, oid: number): Promise<string | undefined> {
  const { rows } = await client.query<{ next: string | null }>(
    `SELECT CASE WHEN attidentity <> '' THEN format('nextval(%L::regclass)', pg_get_serial_sequence($2, attname))
       WHEN atthasdef AND attgenerated = '' THEN pg_get_expr(adbin, adrelid) END AS next
     FROM pg_attribute LEFT JOIN pg_attrdef ON adrelid = attrelid AND adnum = attnum WHERE attrelid = $1 AND attname = $3`,
    [oid, sql, keyNames[0]],
  );
  return rows[0]?.next ?? undefined;
}

/** A table that does not fit the schema. */
export function invalidValue({ name, sql }: MappedTable, why: string): KoinonError {
  return new KoinonError('schema-invalid', `The table ${sql} of ${name} ${why}.`, { table: name });
}
