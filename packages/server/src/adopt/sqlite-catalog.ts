import { existsSync } from 'node:fs';
import { KoinonError } from '@koinon/core';
import { messageOf, quoteName } from '@koinon/core/internal';
import { loadSqlite, Prepared } from '../store/sqlite/driver.ts';
import { refuseForeign } from '../store/sqlite/maintenance.ts';
import {
  type Catalog,
  type CatalogColumn,
  type CatalogTable,
  countingSql,
  distinctColumns,
  type Found,
} from './catalog.ts';

/** Rows of a table that are looked at, to see what its columns hold: SQLite lets a column hold anything. */
const rowsLookedAt = 5_000;
/** Columns that are looked at in one query. */
const columnsAtOnce = 100;

interface XinfoRow {
  readonly name: string;
  readonly type: string;
  readonly required: number;
  readonly initial: string | null;
  readonly pk: number;
  readonly hidden: number;
}

/** Reads the catalog of an SQLite file, and some rows of each table. Changes nothing. @throws KoinonError `storage-refused`, `storage-foreign`. */
export async function sqliteCatalog(file: string): Promise<Catalog> {
  if (!existsSync(file)) throw new KoinonError('storage-refused', `There is no database ${file}.`, { value: file });
  const { DatabaseSync } = await loadSqlite();
  try {
    const connection = new DatabaseSync(file, { readOnly: true, timeout: 5_000 });
    try {
      const database = new Prepared(connection);
      refuseForeign(database, file);
      return read(database);
    } finally {
      connection.close();
    }
  } catch (error) {
    if (error instanceof KoinonError) throw error;
    throw new KoinonError('storage-refused', `${file} cannot be read as an SQLite database: ${messageOf(error)}.`, {
      value: file,
      cause: error,
    });
  }
}

function read(database: Prepared): Catalog {
  const tables = database.all<{ name: string; type: string; sql: string }>(
    `SELECT name, type, sql FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
       AND name NOT LIKE 'koinon\\_%' ESCAPE '\\' ORDER BY name`,
  );
  return {
    dialect: 'SQLite',
    tables: tables.map(({ name, type, sql }): CatalogTable => {
      const isVirtual = /^\s*CREATE\s+VIRTUAL/i.test(sql);
      const kind = type === 'view' ? 'view' : isVirtual ? 'virtual table' : 'table';
      const columns = columnsOf(database, name, kind);
      const primary = columns.filter(({ pk }) => pk > 0).sort((a, b) => a.pk - b.pk);
      const found = columns.length > 0 ? valuesFound(database, name, columns) : new Map<string, Found>();
      const [first] = primary;
      // Such a key is the number of the row, which SQLite gives where none is given.
      const rowNumber = primary.length === 1 && /^INTEGER$/i.test(first?.type ?? '') ? first?.name : undefined;
      return {
        relation: name,
        kind,
        comment: undefined,
        columns: columns.map((column) => catalogColumn(column, column.name === rowNumber, found.get(column.name))),
        primaryKey: primary.map((column) => column.name),
        unique: [
          ...(primary.length > 0 ? [primary.map((column) => column.name)] : []),
          ...(kind === 'table' ? uniqueGroups(database, name) : distinctIn(database, name, columns)),
        ],
        references: references(database, name),
        checks: checksIn(sql),
        definition: sql,
      };
    }),
  };
}

/** The columns of a relation; none of a view that cannot be read. */
function columnsOf(database: Prepared, name: string, kind: CatalogTable['kind']): XinfoRow[] {
  try {
    if (kind !== 'table') database.get(`SELECT 1 FROM ${quoteName(name)} LIMIT 1`);
    return database.all<XinfoRow>(
      'SELECT name, type, "notnull" AS required, dflt_value AS initial, pk, hidden FROM pragma_table_xinfo(?)',
      name,
    );
  } catch (error) {
    if (kind !== 'table') return [];
    throw error;
  }
}

/** The columns of a view by which its rows can be told apart. */
function distinctIn(database: Prepared, view: string, columns: readonly XinfoRow[]): string[][] {
  const names = columns.map(({ name }) => name);
  if (names.length === 0) return [];
  const counted = database.get<Record<string, number>>(countingSql(quoteName(view), names.map(quoteName)));
  return distinctColumns(names, counted ?? {});
}

function catalogColumn(
  { name, type, required, initial, pk, hidden }: XinfoRow,
  isRowNumber: boolean,
  found: Found | undefined,
): CatalogColumn {
  const size = /\(([\d\s,]+)\)/.exec(type)?.[1]?.split(',').map(Number) ?? [];
  return {
    name,
    type,
    baseType: type.replace(/\s*\([^)]*\)/, '').toLowerCase(),
    size,
    isRequired: required === 1 || pk > 0,
    given: hidden !== 0 ? 'always' : initial !== null || isRowNumber ? 'by default' : undefined,
    values: undefined,
    comment: undefined,
    found,
  };
}

function uniqueGroups(database: Prepared, table: string): string[][] {
  const indexes = database.all<{ name: string }>(
    'SELECT name FROM pragma_index_list(?) WHERE "unique" = 1 AND partial = 0',
    table,
  );
  return indexes.flatMap(({ name }) => {
    const columns = database.all<{ name: string | null }>('SELECT name FROM pragma_index_info(?) ORDER BY seqno', name);
    const names = columns.flatMap((column) => (column.name === null ? [] : [column.name]));
    return names.length < columns.length ? [] : [names];
  });
}

function references(database: Prepared, table: string): CatalogTable['references'] {
  const rows = database.all<{ id: number; from: string; target: string; to: string | null }>(
    'SELECT id, "from", "table" AS target, "to" FROM pragma_foreign_key_list(?) ORDER BY id, seq',
    table,
  );
  const keyOf = (target: string) =>
    database.all<{ name: string }>('SELECT name FROM pragma_table_xinfo(?) WHERE pk > 0 ORDER BY pk', target);
  return [...new Set(rows.map(({ id }) => id))].map((id) => {
    const parts = rows.filter((row) => row.id === id);
    const target = parts[0]?.target ?? '';
    const named = parts.flatMap(({ to }) => (to === null ? [] : [to]));
    return {
      columns: parts.map(({ from }) => from),
      target,
      // A reference that names no columns means the other table's key.
      targetColumns: named.length > 0 ? named : keyOf(target).map(({ name }) => name),
    };
  });
}

/** The conditions of the checks in a table's definition. */
function checksIn(sql: string): string[] {
  return [...sql.matchAll(/\bCHECK\s*\(/gi)].flatMap(({ index, 0: opening }) => {
    let depth = 1;
    const begin = index + opening.length;
    for (let at = begin; at < sql.length; at++) {
      if (sql[at] === '(') depth++;
      if (sql[at] === ')' && --depth === 0) return [sql.slice(begin, at)];
    }
    return [];
  });
}

/** Counts the values of a table's columns by their form. */
function valuesFound(database: Prepared, table: string, columns: readonly XinfoRow[]): Map<string, Found> {
  const found = new Map<string, Found>();
  const day = "'[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]";
  for (let begin = 0; begin < columns.length; begin += columnsAtOnce) {
    const some = columns.slice(begin, begin + columnsAtOnce);
    const counts = some.flatMap(({ name, type }, n) => {
      const value = quoteName(name);
      const of = (form: string, condition: string) => `coalesce(sum(${condition}), 0) AS "${n} ${form}"`;
      const form = type.toLowerCase();
      return [
        // The kinds of value are counted in one number, which takes a third of the time.
        `coalesce(sum(CASE typeof(${value}) WHEN 'integer' THEN 1 WHEN 'real' THEN 1 << 16 WHEN 'text' THEN 1 << 32 WHEN 'blob' THEN 1 << 48 ELSE 0 END), 0) AS "${n} kinds"`,
        ...(/bool/.test(form) ? [of('bits', `typeof(${value}) = 'integer' AND ${value} IN (0, 1)`)] : []),
        ...(/bool|date|time/.test(form) || !/int|^$/.test(form)
          ? []
          : [
              of(
                'large',
                `typeof(${value}) = 'integer' AND ${value} NOT BETWEEN -9007199254740991 AND 9007199254740991`,
              ),
            ]),
        ...(/json/.test(form) ? [of('json', `typeof(${value}) = 'text' AND json_valid(${value})`)] : []),
        ...(/date|time/.test(form)
          ? [
              of('days', `${value} GLOB ${day}'`),
              of('times', `${value} GLOB ${day}T[0-9][0-9]:[0-9][0-9]:[0-9][0-9].[0-9][0-9][0-9]Z'`),
              of('plainTimes', `${value} GLOB ${day} [0-9][0-9]:[0-9][0-9]*'`),
            ]
          : []),
      ];
    });
    const kinds = some.map((_, n) => {
      const part = (name: string, shift: number) => `"${n} kinds" >> ${shift} & 65535 AS "${n} ${name}"`;
      return [part('whole', 0), part('real', 16), part('text', 32), part('bytes', 48)].join(', ');
    });
    const others = counts.flatMap((count) => /"(\d+ (?!kinds)\w+)"$/.exec(count)?.[1] ?? []).map(quoteName);
    const fields = some.map(({ name }) => quoteName(name)).join(', ');
    const row = database.get<Record<string, number>>(
      `SELECT ${[...kinds, ...others].join(', ')} FROM (
         SELECT ${counts.join(', ')} FROM (SELECT ${fields} FROM ${quoteName(table)} LIMIT ${rowsLookedAt}))`,
    );
    for (const [n, { name }] of some.entries()) {
      const of = (form: string) => Number(row?.[`${n} ${form}`] ?? 0);
      found.set(name, {
        rows: of('whole') + of('real') + of('text') + of('bytes'),
        whole: of('whole'),
        large: of('large'),
        real: of('real'),
        text: of('text'),
        bytes: of('bytes'),
        bits: of('bits'),
        json: of('json'),
        days: of('days'),
        times: of('times'),
        plainTimes: of('plainTimes'),
      });
    }
  }
  return found;
}
