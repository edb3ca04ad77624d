import { openNodeDriver, type SqlDriver } from '@koinon/client';
import { type AnyRow, type Column, columnsToWire, quoteName, type SqlValue, type Table, toSql } from '@koinon/core';
import { cooperative } from './scenario.ts';
import { demoRows } from './seed.ts';

/**
 * The office: another program that opens the server's database file and works on its tables in plain SQL. It knows
 * nothing of Koinon.
 */
export class Office {
  private readonly database: SqlDriver;

  private constructor(database: SqlDriver) {
    this.database = database;
  }

  static async open(file: string): Promise<Office> {
    return new Office(await openNodeDriver({ file }));
  }

  /** Fills the register with the demo's rows; says how many each table has. */
  seed(): Record<string, number> {
    const counts: Record<string, number> = {};
    this.database.exec('BEGIN');
    for (const [name, rows] of Object.entries(demoRows())) {
      const { columns } = cooperative.tables[name as keyof typeof cooperative.tables] as Table;
      const names = Object.keys(columns);
      const insert = this.database.prepare(
        `INSERT INTO ${quoteName(name)} (${['id', ...names].map(quoteName).join(', ')}) VALUES (?${', ?'.repeat(names.length)})`,
      );
      for (const row of rows as unknown as AnyRow[])
        insert.run(row.id, ...names.map((column) => toSql(columns[column] as Column, row[column])));
      counts[name] = rows.length;
    }
    this.database.exec('COMMIT');
    return counts;
  }

  run(sql: string): void {
    this.database.exec(sql);
  }

  /** A row as the file holds it. */
  row(table: string, id: string): Readonly<Record<string, SqlValue>> | undefined {
    return this.database.prepare(`SELECT * FROM ${quoteName(table)} WHERE id = ?`).get(id) as
      | Record<string, SqlValue>
      | undefined;
  }

  close(): void {
    this.database.close();
  }
}

/** All rows of a database file as text, one line each, whoever wrote it: what a comparison row by row compares. */
export async function rowsOfFile(file: string): Promise<Map<string, string>> {
  const database = await openNodeDriver({ file });
  try {
    const rows = new Map<string, string>();
    for (const [name, table] of Object.entries(cooperative.tables)) {
      const columns = ['id', ...Object.keys(table.columns)].map(quoteName).join(', ');
      for (const row of database.prepare(`SELECT ${columns} FROM ${quoteName(name)}`).iterate() as Iterable<AnyRow>)
        rows.set(`${name} ${row.id}`, JSON.stringify(columnsToWire(table as Table, row)));
    }
    return rows;
  } finally {
    database.close();
  }
}
