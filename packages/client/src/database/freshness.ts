import type { Database } from './database.ts';
import { dataVersion } from './read-only.ts';

/** Whether what was read of a file into memory still holds: not after a rollback, nor when another process has written the file. */
export class Freshness {
  private readonly database: Database;
  private begun = -1;
  private rolledBack = 0;
  private version = 0;

  constructor(database: Database) {
    this.database = database;
  }

  /** Tells whether it may hold no more since it was last asked. */
  isLost(): boolean {
    const { begun, rolledBack } = this.database;
    // Within one transaction nobody else writes: looking once is enough.
    if (this.begun === begun && this.rolledBack === rolledBack) return false;
    const version = dataVersion(this.database);
    const isLost = version !== this.version || this.rolledBack !== rolledBack;
    this.begun = begun;
    this.rolledBack = rolledBack;
    this.version = version;
    return isLost;
  }
}
