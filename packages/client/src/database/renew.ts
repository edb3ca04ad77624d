import { keptTable, resolvedTable } from './create.ts';
import type { Database } from './database.ts';
import { hasColumn } from './layout.ts';

/** Gives the file of an earlier Koinon the tables and columns of its own that have come since. */
export function renewOwnTables(database: Database): void {
  database.transact(() => {
    if (lacks(database, 'koinon_kept'))
      database.driver.exec(`ALTER TABLE koinon_change ADD COLUMN before TEXT; ${keptTable}`);
    for (const column of ['local_at INTEGER', 'remote_at INTEGER', 'remote_by TEXT', 'reason TEXT'])
      if (!hasColumn(database, 'koinon_conflict', column.split(' ')[0] as string))
        database.driver.exec(`ALTER TABLE koinon_conflict ADD COLUMN ${column}`);
    if (lacks(database, 'koinon_resolved')) database.driver.exec(resolvedTable);
    // What the server put in the place of what was sent stood with the transaction, as one list. It is shown until the feed
    // brings the rows, which is soon: the lists are not taken along.
    // Another process may have been first.
    if (!hasColumn(database, 'koinon_change', 'server_values'))
      database.driver.exec('ALTER TABLE koinon_change ADD COLUMN server_values TEXT');
    if (hasColumn(database, 'koinon_sent', 'server_values'))
      database.driver.exec('ALTER TABLE koinon_sent DROP COLUMN server_values');
  });
}

/** Whether a file has no table of that name. */
function lacks(database: Database, table: string): boolean {
  return database.guarded(() => database.once('SELECT 1 FROM sqlite_schema WHERE name = ?', table)).length === 0;
}
