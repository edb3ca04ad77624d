import { keyName } from '../../cursor/keys.ts';
import type { Contact } from '../store.ts';
import type { Prepared } from './driver.ts';

/** The records that the server keeps of its replicas and of its own past, and what it forgets. Inside a transaction of the caller's. */
export class Retention {
  protected readonly database: Prepared;

  constructor(database: Prepared) {
    this.database = database;
  }

  async noteContacts(contacts: readonly Contact[]): Promise<void> {
    for (const { replica, at, position, schemaVersion, rowsDown, rowsUp } of contacts)
      this.database.run(
        `INSERT INTO koinon_replica VALUES (?1, ?2, ?2, ?3, ?4, ?5, ?6, 0) ON CONFLICT (id) DO UPDATE SET
           last_seen = max(last_seen, excluded.last_seen), position = coalesce(excluded.position, position),
           schema_version = coalesce(excluded.schema_version, schema_version),
           rows_down = rows_down + excluded.rows_down, rows_up = rows_up + excluded.rows_up`,
        replica,
        at,
        position,
        schemaVersion,
        rowsDown,
        rowsUp,
      );
  }

  async claimReplica(replica: string, user: string, most: number): Promise<string | undefined> {
    this.database.run(
      `INSERT INTO koinon_owner SELECT ?1, ?2 WHERE (SELECT count(*) FROM koinon_owner WHERE user_id = ?2) < ?3
         ON CONFLICT DO NOTHING`,
      replica,
      user,
      most,
    );
    return this.database.get<{ user_id: string }>('SELECT user_id FROM koinon_owner WHERE replica = ?', replica)
      ?.user_id;
  }

  async blockReplica(id: string, isBlocked: boolean): Promise<boolean> {
    const known = this.database.get('SELECT 1 FROM koinon_replica WHERE id = ?', id) !== undefined;
    this.database.run('UPDATE koinon_replica SET blocked = ? WHERE id = ?', isBlocked ? 1 : 0, id);
    return known;
  }

  async dropCursorKey(number: number): Promise<void> {
    this.database.run('DELETE FROM koinon_meta WHERE name = ?', keyName(number));
  }

  async noteTime(now: number): Promise<void> {
    this.database.run(
      'INSERT INTO koinon_time SELECT position, ? FROM koinon_feed WHERE true ON CONFLICT (position) DO NOTHING',
      now,
    );
  }

  async moveHorizon(before: number): Promise<void> {
    const found = this.database.get<{ position: number | null }>(
      'SELECT max(position) AS position FROM koinon_time WHERE at <= ?',
      before,
    );
    if (found?.position === undefined || found.position === null) return;
    this.database.run('UPDATE koinon_horizon SET position = ?1, at = ?2 WHERE position < ?1', found.position, before);
    this.database.run('DELETE FROM koinon_time WHERE position < ?', found.position);
    // A replica in an epoch that ended before the horizon is told that it was away for too long.
    this.database.run(
      `DELETE FROM koinon_epoch WHERE place < (SELECT max(place) FROM koinon_epoch WHERE position <= ?)`,
      found.position,
    );
  }

  async compact(most: number, partsBefore: number): Promise<number> {
    const count = (sql: string, ...values: number[]) => {
      this.database.run(sql, most, ...values);
      return this.database.get<{ n: number }>('SELECT changes() AS n')?.n ?? 0;
    };
    const stamps = count(
      `DELETE FROM koinon_stamp WHERE (table_name, row_id) IN (SELECT table_name, row_id FROM koinon_stamp
         WHERE deleted = 1 AND position <= (SELECT position FROM koinon_horizon) LIMIT ?)`,
    );
    const receipts = count(
      `DELETE FROM koinon_receipt WHERE id IN (SELECT id FROM koinon_receipt
         WHERE received_at < (SELECT strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') FROM koinon_horizon) LIMIT ?)`,
    );
    const origins = count(
      `DELETE FROM koinon_origin WHERE (replica, origin) IN (SELECT replica, origin FROM koinon_origin
         WHERE received_at < (SELECT strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') FROM koinon_horizon) LIMIT ?)`,
    );
    if (this.database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_assigned_key'") !== undefined)
      this.database.run(
        `DELETE FROM koinon_assigned_key WHERE (provisional, table_name, user_id) IN (SELECT provisional, table_name, user_id FROM koinon_assigned_key
           WHERE received_at < (SELECT strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') FROM koinon_horizon) LIMIT ?)`,
        most,
      );
    if (this.database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_action_result'") !== undefined)
      this.database.run(
        `DELETE FROM koinon_action_result WHERE (receipt, id) IN (SELECT receipt, id FROM koinon_action_result
           WHERE received_at < (SELECT strftime('%Y-%m-%dT%H:%M:%fZ', at / 1000.0, 'unixepoch') FROM koinon_horizon) LIMIT ?)`,
        most,
      );
    const parts = count(
      `DELETE FROM koinon_part WHERE (replica, id, number) IN (SELECT replica, id, number FROM koinon_part
         WHERE received_at < ?2 LIMIT ?1)`,
      partsBefore,
    );
    // Blocked replicas stay blocked, however long they are away.
    const gone =
      'SELECT id FROM koinon_replica WHERE blocked = 0 AND last_seen < (SELECT at FROM koinon_horizon) LIMIT ?1';
    for (const [table, key] of [
      ['koinon_owner', 'replica'],
      ['koinon_upload', 'replica'],
      ['koinon_replica', 'id'],
    ] as const)
      this.database.run(`DELETE FROM ${table} WHERE ${key} IN (${gone})`, most);
    // Earlier values of a column are asked for from positions behind the horizon only.
    const past = count(
      `UPDATE koinon_stamp SET past = (SELECT json_group_object(key, value) FROM json_each(past) WHERE value > (SELECT position FROM koinon_horizon))
         WHERE (table_name, row_id) IN (SELECT table_name, row_id FROM koinon_stamp WHERE past <> '{}'
         AND EXISTS (SELECT 1 FROM json_each(past) WHERE value <= (SELECT position FROM koinon_horizon)) LIMIT ?)`,
    );
    return stamps + receipts + origins + parts + past;
  }
}
