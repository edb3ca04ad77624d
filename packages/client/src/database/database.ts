import type { SqlValue } from '@koinon/core';
import type { SqlDriver, SqlStatement } from '../storage/driver.ts';
import { storageError } from '../storage/errors.ts';

/** Most statements kept prepared at once; the oldest go first. */
const keptStatements = 200;

/** A driver with its prepared statements kept, transactions, and errors under our own codes. */
export class Database {
  readonly driver: SqlDriver;
  private readonly statements = new Map<string, SqlStatement>();
  private open = false;
  private sound: boolean | undefined;
  /** How many transactions have begun, and how many of them were rolled back: tells those who keep something in memory. */
  begun = 0;
  rolledBack = 0;
  /** Milliseconds between the server's clock and this device's, once it has been read. */
  clockOffset: number | undefined;

  constructor(driver: SqlDriver) {
    this.driver = driver;
  }

  /** The statement for this SQL, prepared once. */
  statement(sql: string): SqlStatement {
    const known = this.statements.get(sql);
    if (known) return known;
    const statement = this.driver.prepare(sql);
    this.statements.set(sql, statement);
    if (this.statements.size > keptStatements) {
      const [oldest, evicted] = this.statements.entries().next().value as [string, SqlStatement];
      this.statements.delete(oldest);
      evicted.finalize?.();
    }
    return statement;
  }

  /** All rows of a statement that is not worth keeping. */
  once(sql: string, ...values: SqlValue[]): unknown[] {
    const statement = this.driver.prepare(sql);
    try {
      return statement.all(...values);
    } finally {
      statement.finalize?.();
    }
  }

  /** Begins a transaction that takes the write lock at once, so that it cannot fail for it later. */
  begin(): void {
    this.guarded(() => this.statement('BEGIN IMMEDIATE').run());
    this.open = true;
    this.begun++;
  }

  /** Commits; when that fails everything is rolled back and the error thrown. */
  commit(): void {
    try {
      this.guarded(() => this.statement('COMMIT').run());
      this.open = false;
    } catch (error) {
      this.rollback();
      throw error;
    }
  }

  /** Undoes what the open transaction did. After some errors SQLite has done so itself already. */
  rollback(): void {
    if (!this.open) return;
    this.open = false;
    this.rolledBack++;
    this.clockOffset = undefined;
    try {
      this.driver.exec('ROLLBACK');
    } catch {
      // Nothing was open any more.
    }
  }

  /** Runs the work in one transaction: all of it or nothing. */
  transact<T>(work: () => T): T {
    this.begin();
    try {
      const result = this.guarded(work);
      this.commit();
      return result;
    } catch (error) {
      this.rollback();
      throw error;
    }
  }

  /** Runs the work; errors of the storage come out under Koinon's codes. */
  guarded<T>(work: () => T): T {
    try {
      return work();
    } catch (error) {
      // What a damaged file gives may break whoever takes it for what was written.
      const isOdd = /^(Type|Syntax)Error/.test(String(error));
      throw storageError(isOdd && !this.isSound() ? Object.assign(error as Error, { errcode: 11 }) : error);
    }
  }

  /** Whether the file is whole. Looked at once, since it takes its time. */
  private isSound(): boolean {
    try {
      this.sound ??= this.once("SELECT 1 FROM pragma_quick_check(1) WHERE quick_check = 'ok'").length > 0;
    } catch {
      this.sound = false;
    }
    return this.sound;
  }

  close(): void {
    this.statements.clear();
    this.driver.close();
  }
}
