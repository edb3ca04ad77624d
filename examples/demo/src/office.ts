import { openNodeDriver, type SqlDriver } from '@koinon/client';
import type { AnyRow, SqlValue, Table } from '@koinon/core';
import type { Store } from '@koinon/server';
import pg from 'pg';
import { demoRows } from './cooperative/rows.ts';
import { cooperative } from './cooperative/schema.ts';

/** A name in SQL. */
export const quoted = (name: string) => `"${name}"`;

/** A value as SQLite stores it. */
const stored = (value: unknown) => (typeof value === 'boolean' ? Number(value) : (value ?? null)) as SqlValue;

/** The result of a statement. */
export interface Asked {
  readonly rows: readonly Readonly<Record<string, unknown>>[];
  readonly written: number;
}

/** The office: another program that works on the server's tables in plain SQL. It knows nothing of Koinon. */
export interface Office {
  /** Fills the register with the demo's rows; says how many each table has. */
  seed(): Promise<Record<string, number>>;
  run(sql: string): Promise<void>;
  /** Runs one statement a person typed: the rows it gives, or how many it wrote. */
  ask(sql: string): Promise<Asked>;
  /** A row as the database holds it. */
  row(table: string, id: string): Promise<Readonly<Record<string, unknown>> | undefined>;
  close(): Promise<void>;
}

/** The office at the database of a server: a file, or a PostgreSQL URL. */
export async function openOffice(database: string): Promise<Office> {
  return /^postgres(ql)?:/.test(database)
    ? officeInPostgres(database)
    : officeInFile(await openNodeDriver({ file: database }));
}

function officeInFile(database: SqlDriver): Office {
  return {
    async seed() {
      database.exec('BEGIN');
      const counts = await seedInto((table, names, row) => {
        const values = names.map((name) => stored(row[name]));
        const marks = names.map(() => '?').join(', ');
        database
          .prepare(`INSERT INTO ${quoted(table)} (${names.map(quoted).join(', ')}) VALUES (${marks})`)
          .run(...values);
      });
      database.exec('COMMIT');
      return counts;
    },
    run: async (sql) => database.exec(sql),
    async ask(sql) {
      const rows = database.prepare(sql).all() as Record<string, unknown>[];
      const { n } = database.prepare('SELECT changes() AS n').get() as { n: number };
      return { rows, written: /^\s*(select|values|pragma|explain)\b/i.test(sql) ? 0 : n };
    },
    row: async (table, id) =>
      database.prepare(`SELECT * FROM ${quoted(table)} WHERE id = ?`).get(id) as Record<string, SqlValue> | undefined,
    close: async () => database.close(),
  };
}

async function officeInPostgres(url: string): Promise<Office> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  return {
    async seed() {
      await client.query('BEGIN');
      const counts = await seedInto(async (table, names, row) => {
        const marks = names.map((_, i) => `$${i + 1}`).join(', ');
        const values = names.map((name) => row[name] ?? null);
        await client.query(`INSERT INTO ${quoted(table)} (${names.map(quoted).join(', ')}) VALUES (${marks})`, values);
      });
      await client.query('COMMIT');
      return counts;
    },
    run: async (sql) => void (await client.query(sql)),
    async ask(sql) {
      const { rows, rowCount, command } = await client.query<Record<string, unknown>>(sql);
      return { rows: rows ?? [], written: command === 'SELECT' ? 0 : (rowCount ?? 0) };
    },
    row: async (table, id) => (await client.query(`SELECT * FROM ${quoted(table)} WHERE id = $1`, [id])).rows[0],
    close: () => client.end(),
  };
}

type Inserting = (
  table: keyof typeof cooperative.tables,
  names: readonly string[],
  row: AnyRow,
) => Promise<void> | void;

async function seedInto(insert: Inserting): Promise<Record<string, number>> {
  const counts: Record<string, number> = {};
  // The season goes up to this hour, so that the board has something of today.
  const hour = new Date();
  hour.setMinutes(0, 0, 0);
  for (const [name, rows] of Object.entries(demoRows(hour))) {
    const table = name as keyof typeof cooperative.tables;
    const names = ['id', ...Object.keys(cooperative.tables[table].columns)];
    for (const row of rows as unknown as AnyRow[]) await insert(table, names, row);
    counts[name] = rows.length;
  }
  return counts;
}

/** The tables that a replica has as well. */
const held = Object.entries<Table>(cooperative.tables).filter(([, { home }]) => home !== 'server');

/** All rows of a server as text, one line each, as its store reads them. */
export function rowsOfStore(store: Store): Promise<Map<string, string>> {
  return store.read(async (reader) => {
    const rows = new Map<string, string>();
    const room = { rows: Number.MAX_SAFE_INTEGER, bytes: Number.MAX_SAFE_INTEGER };
    for (const [name, table] of held)
      for (const { id, ...entry } of (await reader.rowsAfter(name, null, room)).rows) {
        const columns = 'columns' in entry ? entry.columns : {};
        // In the order and the form that a replica's file has them.
        const ordered = Object.fromEntries((table as Table).names.map((column) => [column, stored(columns[column])]));
        rows.set(`${name} ${id}`, JSON.stringify(inOrder(table, ordered)));
      }
    return rows;
  });
}

/** A stored row, with the members of each file's description in one order: PostgreSQL keeps them in an order of its own. */
function inOrder({ entries }: Table, row: Readonly<Record<string, unknown>>): Readonly<Record<string, unknown>> {
  const files = entries.flatMap(([column, { type }]) => (type === 'file' && row[column] ? [column] : []));
  const ordered = files.map((column) => {
    const value = row[column];
    const file = (typeof value === 'string' ? JSON.parse(value) : value) as object;
    return [column, JSON.stringify(file, Object.keys(file).sort())] as const;
  });
  return { ...row, ...Object.fromEntries(ordered) };
}

/** All rows of a database file as text, one line each, whoever wrote it: what a comparison row by row compares. */
export async function rowsOfFile(file: string): Promise<Map<string, string>> {
  const database = await openNodeDriver({ file });
  try {
    const rows = new Map<string, string>();
    for (const [name, table] of held) {
      const columns = ['id', ...Object.keys(table.columns)].map(quoted).join(', ');
      for (const { id, ...row } of database
        .prepare(`SELECT ${columns} FROM ${quoted(name)}`)
        .iterate() as Iterable<AnyRow>)
        rows.set(`${name} ${id}`, JSON.stringify(inOrder(table, row)));
    }
    return rows;
  } finally {
    database.close();
  }
}
