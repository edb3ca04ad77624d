import { type Column, type JsonValue, table as tableOfColumns } from '@koinon/core';
import { columnDdl, columnsFromWire, columnsToWire, quoteName, rowDecoder, toSql } from '@koinon/core/internal';
import type { Database } from './database.ts';
import { rewriteImages } from './images.ts';
import { describeColumn, type StoredColumn } from './shape.ts';

/** Migrations by the schema version each leads to. */
export type Migrations = Readonly<Record<number, (migration: Migration) => void>>;

/**
 * The steps of a migration. Each carries the outbox, the bases and the conflicts along, so that what was not sent
 * before is sent in the new shape. All steps of all versions run in one transaction with the additions the new schema
 * makes; a throw leaves the file as it was.
 *
 * @example
 * openReplica({ schema, file, migrations: { 2: (migration) => migration.renameColumn('hive', 'label', 'mark') } })
 */
export class Migration {
  private readonly database: Database;
  /** The file's tables as they are at this point. */
  private readonly shape: Map<string, Map<string, StoredColumn>>;

  constructor(database: Database, shape: Map<string, Map<string, StoredColumn>>) {
    this.database = database;
    this.shape = shape;
  }

  /** Gives a table another name. References that point at it follow. */
  renameTable(from: string, to: string): void {
    const columns = this.columnsOf(from);
    this.database.driver.exec(`ALTER TABLE ${quoteName(from)} RENAME TO ${quoteName(to)}`);
    for (const table of tablesOfRows(this.database))
      this.database.statement(`UPDATE ${table} SET table_name = ? WHERE table_name = ?`).run(to, from);
    this.shape.delete(from);
    this.shape.set(to, columns);
  }

  /** Gives a column another name. */
  renameColumn(table: string, from: string, to: string): void {
    const columns = this.columnsOf(table);
    const column = this.columnOf(table, from);
    this.database.driver.exec(`ALTER TABLE ${quoteName(table)} RENAME COLUMN ${quoteName(from)} TO ${quoteName(to)}`);
    rewriteImages(this.database, table, (image) => {
      if (!Object.hasOwn(image, from)) return image;
      const { [from]: value, ...rest } = image;
      return { ...rest, [to]: value as JsonValue };
    });
    columns.delete(from);
    columns.set(to, column);
  }

  /** Removes a column, and what was to be sent of it. */
  removeColumn(table: string, name: string): void {
    this.columnOf(table, name);
    this.dropIndexes(table);
    this.database.driver.exec(`ALTER TABLE ${quoteName(table)} DROP COLUMN ${quoteName(name)}`);
    rewriteImages(this.database, table, ({ [name]: _, ...rest }) => rest);
    this.columnsOf(table).delete(name);
  }

  /** Removes a table, and what was to be sent of it. */
  removeTable(table: string): void {
    this.columnsOf(table);
    this.database.driver.exec(`DROP TABLE ${quoteName(table)}`);
    for (const own of tablesOfRows(this.database))
      this.database.statement(`DELETE FROM ${own} WHERE table_name = ?`).run(table);
    // A transaction that has nothing left is done.
    for (const list of ['koinon_outbox', 'koinon_history'])
      this.database.once(
        `DELETE FROM ${list} WHERE kind = 'transaction' AND place NOT IN (SELECT sequence FROM ${list} WHERE sequence IS NOT NULL)`,
      );
    this.shape.delete(table);
  }

  /**
   * Changes a column's type or rules, value by value, in rows, bases and unsent changes alike. A column that is not
   * there yet is added, and `convert` gets undefined; it also gets the rest of the row, where there is one.
   *
   * @param to the column as the new schema has it.
   */
  convertColumn(
    table: string,
    name: string,
    to: Column,
    convert: (value: unknown, row: Readonly<Record<string, unknown>>) => unknown,
  ): void {
    const columns = this.columnsOf(table);
    const old = columns.get(name);
    const before = tableOfColumns(Object.fromEntries([...columns].map(([key, column]) => [key, column as Column])));
    const next = tableOfColumns({ ...before.columns, [name]: to });
    const converted = (row: Readonly<Record<string, unknown>>) => convert(old ? row[name] : undefined, row);

    const rows = this.database.driver
      .prepare(`SELECT * FROM ${quoteName(table)}`)
      .all()
      .map(rowDecoder(before));
    if (old) this.dropIndexes(table);
    if (old) this.database.driver.exec(`ALTER TABLE ${quoteName(table)} DROP COLUMN ${quoteName(name)}`);
    this.database.driver.exec(`ALTER TABLE ${quoteName(table)} ADD COLUMN ${columnDdl(name, to)}`);
    const update = this.database.statement(`UPDATE ${quoteName(table)} SET ${quoteName(name)} = ? WHERE "id" = ?`);
    for (const row of rows) update.run(toSql(to, converted(row)), row.id);
    rewriteImages(this.database, table, (image, isWhole) => {
      if (!isWhole && !Object.hasOwn(image, name)) return image;
      return columnsToWire(next, {
        ...columnsFromWire(before, image),
        [name]: converted(columnsFromWire(before, image)),
      });
    });
    columns.set(name, describeColumn(to));
  }

  /** SQLite refuses to drop a column that an index names; the new schema's indexes are made afterwards. */
  private dropIndexes(table: string): void {
    const indexes = this.database
      .statement("SELECT name FROM sqlite_schema WHERE type = 'index' AND tbl_name = ? AND sql IS NOT NULL")
      .all(table);
    for (const { name } of indexes as { name: string }[]) this.database.driver.exec(`DROP INDEX ${quoteName(name)}`);
  }

  private columnsOf(table: string): Map<string, StoredColumn> {
    const columns = this.shape.get(table);
    if (columns) return columns;
    throw new Error(`the file has no table ${table} at this point`);
  }

  private columnOf(table: string, name: string): StoredColumn {
    const column = this.columnsOf(table).get(name);
    if (column) return column;
    throw new Error(`the file's table ${table} has no column ${name} at this point`);
  }
}

/** Koinon's own tables that name rows by their table. */
function tablesOfRows(database: Database): readonly string[] {
  const found = database.once("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_prediction'");
  const own = ['koinon_outbox', 'koinon_history', 'koinon_base', 'koinon_conflict'];
  return found.length > 0 ? [...own, 'koinon_prediction'] : own;
}
