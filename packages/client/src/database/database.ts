import { KoinonError, type SqlValue } from '@koinon/core';
import { isFromApp, messageOf } from '@koinon/core/internal';
import type { SqlDriver, SqlStatement } from '../driver/driver.ts';
import { storageDamaged, storageError } from '../driver/errors.ts';

/** Most statements kept prepared at once; the oldest go first. */
const keptStatements = 200;

/** Milliseconds between two looks whether the file is still there. */
const lookEvery = 1_000;

/** A driver with its prepared statements kept, transactions, and errors under our own codes. */
export class Database {
  readonly driver: SqlDriver;
  private readonly statements = new Map<string, SqlStatement>();
  private open = false;
  private lookedAt = Number.NEGATIVE_INFINITY;
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

  /** Refuses to write into a file that nobody will find again. Looked at now and then, since it is asked of the file system. */
  private refuseLost(): void {
    const now = performance.now();
    if (now - this.lookedAt < lookEvery) return;
    this.lookedAt = now;
    if (this.driver.isLost?.() !== true) return;
    this.lookedAt = Number.NEGATIVE_INFINITY;
    throw new KoinonError(
      'storage-lost',
      'The database file was deleted, or another was put in its place, while it was open. Nothing is written any more: it would be lost. Read what is needed, close the replica, and open the file that is there.',
    );
  }

  /** Begins a transaction that takes the write lock at once, so that it cannot fail for it later. */
  begin(): void {
    this.refuseLost();
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

  /** Runs the work; what goes wrong comes out under Koinon's codes. */
  guarded<T>(work: () => T): T {
    try {
      return work();
    } catch (error) {
      throw this.named(error);
    }
  }

  /**
   * An error under Koinon's codes. What a function of the app has thrown stays as it is. A file is called damaged where
   * SQLite says so, or where a text in it that is to be JSON is none.
   */
  named(error: unknown): unknown {
    const known = storageError(error);
    if (known instanceof KoinonError || isFromApp(error)) return known;
    if (error instanceof SyntaxError || !this.isSound()) return storageDamaged(error);
    return new KoinonError(
      'internal-failure',
      `Koinon failed at something that it should be able to do; the data is as it was. Please report this, with the cause of the error: ${messageOf(error)}.`,
      { cause: error },
    );
  }

  /** Tells whether SQLite finds the file whole. It takes its time, and is asked only after a failure that nothing explains. */
  private isSound(): boolean {
    try {
      return this.once('PRAGMA quick_check(1)').some((row) => Object.values(row as object)[0] === 'ok');
    } catch {
      return false;
    }
  }

  /** Closes the file: what is prepared is given back first, or SQLite would keep the file open. */
  close(): void {
    for (const statement of this.statements.values()) statement.finalize?.();
    this.statements.clear();
    this.driver.close();
  }
}
