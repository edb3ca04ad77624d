import { keyTypes } from '@koinon/core/internal';
import { canBePart } from '../store/postgres/key.ts';
import type { Catalog, CatalogColumn, CatalogTable } from './catalog.ts';
import { columnsChecked } from './checks.ts';
import { type ChosenType, typeFor, type Verdict } from './column-types.ts';

/** A column of a table that is taken into a schema. */
export interface PlannedColumn {
  readonly column: CatalogColumn;
  readonly verdict: Verdict;
  readonly why: string | undefined;
  readonly wayOut: string | undefined;
  /** Undefined: the schema does not have it. */
  readonly taken: TakenColumn | undefined;
}

/** The place of a column in the schema. */
export interface TakenColumn {
  readonly name: string;
  readonly chosen: ChosenType;
  /** The table that it refers to, by its name in the schema. */
  readonly target: string | undefined;
  readonly isOptional: boolean;
  readonly isAssigned: boolean;
  readonly isUnique: boolean;
}

/** A table as it goes into a schema. */
export interface PlannedTable {
  readonly table: CatalogTable;
  /** Undefined: the schema does not have it. */
  readonly taken:
    | {
        readonly name: string;
        /** The columns of its key. */
        readonly key: readonly string[];
        /** Tells whether the database gives the key of a new row, which a device cannot know. */
        readonly assignedKey: boolean;
        /** Tells whether devices only read it: it is a view. */
        readonly readOnly: boolean;
        readonly softDelete: string | undefined;
        /** Groups of several columns that are unique, by their names in the schema. */
        readonly unique: readonly (readonly string[])[];
      }
    | undefined;
  readonly columns: readonly PlannedColumn[];
  readonly why: string | undefined;
  readonly wayOut: string | undefined;
  /** What else is to be known of the table, one sentence each. */
  readonly notes: readonly string[];
}

/** Names that habit gives to a column that marks rows as deleted. */
const deletionMark = /^(is_?)?(deleted|removed)(_?(at|on))?$/i;

/** Decides for every table and column of a database how it goes into a schema. */
export function planTables({ dialect, tables }: Catalog): PlannedTable[] {
  // Of a table in an SQL schema of its own, the schema is left out.
  const tableNames = schemaNames(
    tables.map(({ relation }) => [relation, dialect === 'PostgreSQL' ? relation.replace(/^[^.]*\./, '') : relation]),
  );
  const keys = new Map<string, { readonly name: string; readonly key: string }>();
  for (const table of tables) {
    const key = keyOf(dialect, table);
    // What refers to several columns together is checked by the database alone.
    if ('why' in key || key.length > 1) continue;
    keys.set(table.relation, { name: tableNames.get(table.relation) as string, key: key[0] as string });
  }
  const plan = (table: CatalogTable): PlannedTable => {
    const key = keyOf(dialect, table);
    if ('why' in key) return { table, taken: undefined, columns: [], why: key.why, wayOut: key.wayOut, notes: [] };
    const softDelete = table.columns.find((column) => marksDeletion(dialect, column))?.name;
    const isPart = ({ name }: CatalogColumn) => key.length > 1 && key.includes(name);
    const rest = table.columns.filter((column) => isPart(column) || !key.includes(column.name));
    const names = schemaNames(
      rest.map(({ name }) => [name, name]),
      ['id'],
    );
    const checked = table.checks.map((condition) => ({ condition, columns: columnsChecked(condition) }));
    const columns = rest.map((column): PlannedColumn => {
      if (column.name === softDelete)
        return { column, verdict: 'marks deletion', why: undefined, wayOut: undefined, taken: undefined };
      const chosen = typeFor(dialect, column);
      if (!('type' in chosen))
        return { column, verdict: 'not taken', why: chosen.why, wayOut: chosen.wayOut, taken: undefined };
      const target = targetOf(table, column, keys);
      const isAssigned = column.given === 'always' || chosen.verdict === 'read only';
      const verdict = isAssigned && chosen.verdict === 'exact' ? 'read only' : chosen.verdict;
      const given = column.given === 'always' ? 'the database gives the value' : undefined;
      // The rows of a view may have the same value tomorrow.
      const isUnique = table.kind === 'table' && table.unique.some((group) => group.join() === column.name);
      const isSimple = chosen.type !== 'json' && chosen.type !== 'set';
      return {
        column,
        verdict,
        why: chosen.why ?? given,
        wayOut: undefined,
        taken: {
          name: names.get(column.name) as string,
          chosen: narrowed(
            chosen,
            column,
            checked.flatMap(({ columns: of }) => of ?? []),
          ),
          target: isAssigned ? undefined : target,
          isOptional: !isPart(column) && (!column.isRequired || column.given === 'by default'),
          isAssigned,
          isUnique: isUnique && isSimple && !isAssigned,
        },
      };
    });
    if (columns.every(({ taken }) => taken === undefined))
      return {
        table,
        taken: undefined,
        columns,
        why: 'it has no column beside its key that can be taken',
        wayOut: undefined,
        notes: [],
      };
    const nameOf = (column: string) => columns.find((each) => each.column.name === column)?.taken?.name;
    const groups = table.unique
      .filter((group) => group.length > 1 && !key.every((column) => group.includes(column)))
      .map((group) => group.map(nameOf))
      .filter((group): group is string[] => group.every((name) => name !== undefined));
    return {
      table,
      taken: {
        name: tableNames.get(table.relation) as string,
        key,
        assignedKey: isNumbered(table, key),
        readOnly: table.kind !== 'table',
        softDelete,
        unique: distinct(groups),
      },
      columns,
      why: undefined,
      wayOut: undefined,
      notes: notesOf(table, key, columns, checked),
    };
  };
  const planned = tables.map(plan);
  // A table that turns out to have nothing to take is referred to by plain values.
  const missing = new Set(planned.flatMap(({ table, taken }) => (taken ? [] : [tableNames.get(table.relation)])));
  return planned.map((each) => ({
    ...each,
    columns: each.columns.map((column) =>
      column.taken && missing.has(column.taken.target)
        ? { ...column, taken: { ...column.taken, target: undefined } }
        : column,
    ),
  }));
}

/** Tells whether the database counts the keys of a table: a device cannot know the next one. */
function isNumbered(table: CatalogTable, key: readonly string[]): boolean {
  const column = key.length > 1 ? undefined : table.columns.find(({ name }) => name === key[0]);
  return column?.given !== undefined && /int/.test(column.baseType);
}

/** The columns that are a row's key, or the reason why there is none. */
function keyOf(
  dialect: Catalog['dialect'],
  table: CatalogTable,
): readonly string[] | { readonly why: string; readonly wayOut?: string } {
  if (table.kind !== 'table') return keyOfView(dialect, table);
  const parts = table.relation.split('.');
  // A mapping has the SQL schema before a dot.
  if (parts.length > (dialect === 'PostgreSQL' ? 2 : 1))
    return { why: 'its name has a dot, which a mapping cannot name' };
  const wayOut = ownKeySql(dialect, table);
  const single = [table.primaryKey, ...table.unique]
    .filter((group) => group.length === 1)
    .map(([column]) => column as string);
  const fitting = single.find((column) => {
    const it = table.columns.find((each) => each.name === column);
    return it?.isRequired && isKeyType(dialect, it.baseType);
  });
  if (fitting !== undefined) return [fitting];
  const several = [table.primaryKey, ...table.unique].filter((group) => group.length > 1);
  const together = several.find((group) => group.every((column) => whyNoPart(dialect, table, column) === undefined));
  if (together !== undefined) return together;
  if (single.length > 0) return { why: `its key ${single[0]} is neither a text, a UUID nor a whole number`, ...wayOut };
  for (const part of table.primaryKey) {
    const why = whyNoPart(dialect, table, part);
    if (why !== undefined) return { why: `its key is ${table.primaryKey.join(', ')}, and ${part} ${why}`, ...wayOut };
  }
  return { why: 'it has no key, and no unique column that is never empty', ...wayOut };
}

/** The column by which the rows of a view are told apart: among those with another value in each row, the one that is named like a key. */
function keyOfView(
  dialect: Catalog['dialect'],
  table: CatalogTable,
): readonly string[] | { readonly why: string; readonly wayOut?: string } {
  if (table.columns.length === 0) return { why: `it is a ${table.kind} that cannot be read` };
  const single = table.unique
    .flat()
    .filter((name) => isKeyType(dialect, table.columns.find((each) => each.name === name)?.baseType ?? ''));
  const found = single.find((name) => /^id$/i.test(name)) ?? single.find((name) => keyName.test(name)) ?? single[0];
  if (found !== undefined) return [found];
  return {
    why: `it is a ${table.kind}, and no column has another value in each of its rows; where one is sure to, write the table by hand: readOnly: true, and columns: { id: … } in its mapping`,
  };
}

/** Names that habit gives to a key. */
const keyName = /(^|[^a-z])(id|no|nr|key|code|number)$|Id$|No$/i;

/** The reason why a column cannot be one of several that are the key together; undefined where it can. */
function whyNoPart(dialect: Catalog['dialect'], table: CatalogTable, name: string): string | undefined {
  const column = table.columns.find((each) => each.name === name);
  if (column === undefined || !column.isRequired) return 'may be empty';
  if (column.given === 'always') return 'is given by the database';
  const chosen = typeFor(dialect, column);
  const isKind = 'type' in chosen && keyTypes.has(chosen.type) && chosen.verdict !== 'read only';
  const hasOneText = dialect === 'SQLite' || canBePart(column.baseType);
  return isKind && hasOneText ? undefined : `is a ${column.type}`;
}

/**
 * The SQL that gives a table a key column of its own, which new rows of other programs get by default. SQLite takes such a default only
 * in a new table: the rows are copied into one. It keeps the checks and references of the table, not its indexes and triggers.
 */
function ownKeySql(
  dialect: Catalog['dialect'],
  { relation, columns, definition = '' }: CatalogTable,
): { readonly wayOut?: string } {
  const names = new Set(columns.map(({ name }) => name.toLowerCase()));
  let own = 'row_id';
  for (let n = 2; names.has(own); n++) own = `row_id_${n}`;
  const table = relation.split('.').map(quoted).join('.');
  if (dialect === 'PostgreSQL')
    return { wayOut: `ALTER TABLE ${table} ADD COLUMN ${own} uuid NOT NULL DEFAULT gen_random_uuid() UNIQUE` };
  const opening = /^\s*CREATE\s+TABLE\s+(?:"(?:[^"]|"")*"|\[[^\]]*\]|`[^`]*`|[^\s(]+)\s*\(/i.exec(definition);
  if (opening === null) return {};
  const copy = quoted(`${relation}_with_${own}`);
  const kept = columns.filter(({ given }) => given !== 'always').map(({ name }) => quoted(name));
  return {
    wayOut: [
      'PRAGMA foreign_keys = off',
      'BEGIN',
      `CREATE TABLE ${copy} (${own} TEXT NOT NULL UNIQUE DEFAULT (lower(hex(randomblob(16)))), ${definition.slice(opening[0].length)}`,
      `INSERT INTO ${copy} (${kept.join(', ')}) SELECT ${kept.join(', ')} FROM ${table}`,
      `DROP TABLE ${table}`,
      `ALTER TABLE ${copy} RENAME TO ${table}`,
      'COMMIT',
      'PRAGMA foreign_keys = on',
    ].join('; '),
  };
}

function isKeyType(dialect: Catalog['dialect'], type: string): boolean {
  return dialect === 'SQLite'
    ? /int|char|text|clob|uuid|guid/.test(type)
    : ['text', 'character varying', 'uuid', 'smallint', 'integer', 'bigint'].includes(type);
}

function marksDeletion(dialect: Catalog['dialect'], { name, baseType, isRequired, given }: CatalogColumn): boolean {
  if (!deletionMark.test(name) || given === 'always') return false;
  if (/bool/.test(baseType)) return true;
  if (isRequired) return false;
  return dialect === 'PostgreSQL' ? /^timestamp/.test(baseType) : /datetime|timestamp|text/.test(baseType);
}

/** The table that a column alone refers to by its key, if that is taken. */
function targetOf(
  table: CatalogTable,
  column: CatalogColumn,
  keys: ReadonlyMap<string, { readonly name: string; readonly key: string }>,
): string | undefined {
  for (const { columns, target, targetColumns } of table.references) {
    const to = keys.get(target);
    if (columns.join() === column.name && to !== undefined && targetColumns.join() === to.key) return to.name;
  }
  return undefined;
}

/** A type with the bounds that check constraints give its column. */
function narrowed(
  chosen: ChosenType,
  { name }: CatalogColumn,
  checks: readonly NonNullable<ReturnType<typeof columnsChecked>>[number][],
): ChosenType {
  const own = checks.filter(({ column }) => column === name);
  const least = (values: (number | undefined)[]) => values.filter((value) => value !== undefined);
  const isNumber = ['integer', 'real', 'decimal', 'big-integer'].includes(chosen.type);
  const minimum = least([chosen.minimum, ...own.map((check) => check.minimum)]);
  const maximum = least([chosen.maximum, ...own.map((check) => check.maximum)]);
  const lengths = least([chosen.maximumLength, ...own.map((check) => check.maximumLength)]);
  if (chosen.type === 'integer' && own.some(({ isTruth }) => isTruth)) return { type: 'boolean', verdict: 'exact' };
  const oneOf = own.find((check) => check.oneOf !== undefined)?.oneOf;
  if (chosen.type === 'text' && oneOf !== undefined && chosen.verdict === 'exact')
    return { type: 'one-of', verdict: 'exact', oneOf };
  return {
    ...chosen,
    ...(isNumber && minimum.length > 0 ? { minimum: Math.max(...minimum) } : {}),
    ...(isNumber && maximum.length > 0 ? { maximum: Math.min(...maximum) } : {}),
    ...(chosen.type === 'text' && lengths.length > 0 ? { maximumLength: Math.min(...lengths) } : {}),
  };
}

function notesOf(
  table: CatalogTable,
  key: readonly string[],
  columns: readonly PlannedColumn[],
  checked: readonly { readonly condition: string; readonly columns: unknown }[],
): string[] {
  const needed = columns.filter(
    ({ column, taken }) => column.isRequired && column.given === undefined && (taken === undefined || taken.isAssigned),
  );
  const together = table.references.filter((reference) => reference.columns.length > 1);
  if (table.kind !== 'table')
    return [
      `It is a ${table.kind}: devices read it, and the server keeps a copy of its rows. Its key is the column ${key[0]}, which has another value in each row that is there. The ${table.kind} has to keep it so.`,
    ];
  return [
    ...(isNumbered(table, key)
      ? [
          `The database gives the key ${key}. A row that a device adds has a provisional id until the server has taken it up.`,
        ]
      : []),
    ...(needed.length === 0
      ? []
      : [
          `A row that a device adds is refused, since ${needed.map(({ column }) => column.name).join(', ')} must have a value and cannot be given one; a default in the database mends that.`,
        ]),
    ...checked.flatMap(({ condition, columns: of }) =>
      of === undefined
        ? [`The database checks as well, and refuses on the server: ${condition.replace(/\s+/g, ' ')}`]
        : [],
    ),
    ...together.map(
      ({ columns: from, target }) =>
        `The reference of ${from.join(', ')} together to ${target} is checked by the database alone.`,
    ),
  ];
}

const plainName = /^[\p{L}_][\p{L}\p{N}_ -]{0,62}$/u;

/** Names for a schema: as they are where that can be, and each once, however it is written. */
function schemaNames(
  names: readonly (readonly [name: string, wanted: string])[],
  reserved: readonly string[] = [],
): ReadonlyMap<string, string> {
  const taken = new Set(reserved);
  const chosen = new Map<string, string>();
  for (const [name, wanted] of names) {
    let plain = wanted.replace(/[^\p{L}\p{N}_ -]/gu, '_').slice(0, 60);
    if (!plainName.test(plain)) plain = `_${plain}`;
    if (/^(koinon_|sqlite_|and$|or$|not$)/i.test(plain) || plain in Object.prototype) plain = `the_${plain}`;
    while (Buffer.byteLength(plain) > 60) plain = plain.slice(0, -1);
    let free = plain;
    for (let n = 2; taken.has(free.toLowerCase()); n++) free = `${plain}_${n}`;
    taken.add(free.toLowerCase());
    chosen.set(name, free);
  }
  return chosen;
}

function distinct(groups: readonly (readonly string[])[]): (readonly string[])[] {
  return [...new Map(groups.map((group) => [group.join(), group])).values()];
}

function quoted(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}
