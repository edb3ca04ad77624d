import type { ClientBase } from 'pg';
import { keyName } from '../../cursor/keys.ts';
import type { Contact } from '../store.ts';

/** The records that the server keeps of its replicas and of its own past, and what it forgets. Inside a transaction of the caller's. */
export class Retention {
  protected readonly client: ClientBase;

  constructor(client: ClientBase) {
    this.client = client;
  }

  async noteContacts(contacts: readonly Contact[]): Promise<void> {
    const noted = contacts.map(
      (each) => [each.replica, each.at, each.position, each.schemaVersion, each.rowsDown, each.rowsUp] as const,
    );
    // In the order of their ids: two processes that note the same replicas do not wait for each other in a circle.
    await this.client.query(
      `INSERT INTO koinon.replica AS r
       SELECT c ->> 0, (c ->> 1)::bigint, (c ->> 1)::bigint, (c ->> 2)::bigint, (c ->> 3)::int, (c ->> 4)::bigint, (c ->> 5)::bigint, false
       FROM jsonb_array_elements($1::jsonb) c ORDER BY c ->> 0
       ON CONFLICT (id) DO UPDATE SET
         last_seen = greatest(r.last_seen, excluded.last_seen), position = coalesce(excluded.position, r.position),
         schema_version = coalesce(excluded.schema_version, r.schema_version),
         rows_down = r.rows_down + excluded.rows_down, rows_up = r.rows_up + excluded.rows_up`,
      [JSON.stringify(noted)],
    );
  }

  async claimReplica(replica: string, user: string, most: number): Promise<string | undefined> {
    const owner = await this.ownerOf(replica);
    if (owner !== undefined) return owner;
    // One claim of a user after the other: two at once would count the same replicas.
    await this.client.query("SELECT pg_advisory_xact_lock(hashtextextended('koinon owner ' || $1, 0))", [user]);
    await this.client.query(
      `INSERT INTO koinon.owner SELECT $1, $2 WHERE (SELECT count(*) FROM koinon.owner WHERE user_id = $2) < $3
       ON CONFLICT DO NOTHING`,
      [replica, user, most],
    );
    return this.ownerOf(replica);
  }

  private async ownerOf(replica: string): Promise<string | undefined> {
    const { rows } = await this.client.query<{ user_id: string }>(
      'SELECT user_id FROM koinon.owner WHERE replica = $1',
      [replica],
    );
    return rows[0]?.user_id;
  }

  async blockReplica(id: string, isBlocked: boolean): Promise<boolean> {
    const { rowCount } = await this.client.query('UPDATE koinon.replica SET blocked = $2 WHERE id = $1', [
      id,
      isBlocked,
    ]);
    return rowCount === 1;
  }

  async dropCursorKey(number: number): Promise<void> {
    await this.client.query('DELETE FROM koinon.meta WHERE name = $1', [keyName(number)]);
  }

  async noteTime(now: number): Promise<void> {
    // Everything before the oldest transaction still running has ended by now.
    await this.client.query(
      'INSERT INTO koinon.noted_time SELECT $1, pg_snapshot_xmin(pg_current_snapshot()) ON CONFLICT DO NOTHING',
      [now],
    );
  }

  async moveHorizon(before: number): Promise<void> {
    await this.client.query(
      `UPDATE koinon.horizon h SET position = noted.position, at = $1
       FROM (SELECT position FROM koinon.noted_time WHERE at <= $1 ORDER BY at DESC LIMIT 1) noted
       WHERE noted.position > h.position`,
      [before],
    );
    await this.client.query(
      'DELETE FROM koinon.noted_time WHERE at < (SELECT max(at) FROM koinon.noted_time WHERE at <= $1)',
      [before],
    );
  }

  async compact(most: number, partsBefore: number): Promise<number> {
    const stamps = await this.client.query(
      `DELETE FROM koinon.stamp WHERE (table_name, row_id) IN (SELECT table_name, row_id FROM koinon.stamp
         WHERE deleted AND position < (SELECT position FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED)`,
      [most],
    );
    const receipts = await this.client.query(
      `DELETE FROM koinon.receipt WHERE id IN (SELECT id FROM koinon.receipt
         WHERE received_at < (SELECT to_timestamp(at / 1000.0) FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED)`,
      [most],
    );
    const origins = await this.client.query(
      `DELETE FROM koinon.origin WHERE (replica, origin) IN (SELECT replica, origin FROM koinon.origin
         WHERE received_at < (SELECT to_timestamp(at / 1000.0) FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED)`,
      [most],
    );
    const { rows: keys } = await this.client.query<{ there: string | null }>(
      "SELECT to_regclass('koinon.assigned_key') AS there",
    );
    if (keys[0]?.there !== null)
      await this.client.query(
        `DELETE FROM koinon.assigned_key WHERE (provisional, table_name, user_id) IN (SELECT provisional, table_name, user_id FROM koinon.assigned_key
           WHERE received_at < (SELECT to_timestamp(at / 1000.0) FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED)`,
        [most],
      );
    const { rows: results } = await this.client.query<{ there: string | null }>(
      "SELECT to_regclass('koinon.action_result') AS there",
    );
    if (results[0]?.there !== null)
      await this.client.query(
        `DELETE FROM koinon.action_result WHERE (receipt, id) IN (SELECT receipt, id FROM koinon.action_result
           WHERE received_at < (SELECT to_timestamp(at / 1000.0) FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED)`,
        [most],
      );
    const parts = await this.client.query(
      `DELETE FROM koinon.part WHERE (replica, id, number) IN (SELECT replica, id, number FROM koinon.part
         WHERE received_at < $2 LIMIT $1 FOR UPDATE SKIP LOCKED)`,
      [most, partsBefore],
    );
    // Blocked replicas stay blocked, however long they are away.
    const { rows: gone } = await this.client.query<{ id: string }>(
      `DELETE FROM koinon.replica WHERE id IN (SELECT id FROM koinon.replica
         WHERE NOT blocked AND last_seen < (SELECT at FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED) RETURNING id`,
      [most],
    );
    for (const table of ['owner', 'upload'])
      if (gone.length > 0)
        await this.client.query(`DELETE FROM koinon.${table} WHERE replica = ANY($1)`, [gone.map(({ id }) => id)]);
    // Earlier values of a column are asked for from positions behind the horizon only.
    const past = await this.client.query(
      `UPDATE koinon.stamp SET past = (SELECT coalesce(jsonb_object_agg(key, value), '{}') FROM jsonb_each(past)
         WHERE value::bigint >= (SELECT position::text::bigint FROM koinon.horizon))
       WHERE (table_name, row_id) IN (SELECT table_name, row_id FROM koinon.stamp WHERE past <> '{}'
         AND EXISTS (SELECT FROM jsonb_each(past) WHERE value::bigint < (SELECT position::text::bigint FROM koinon.horizon))
         LIMIT $1 FOR UPDATE SKIP LOCKED)`,
      [most],
    );
    return [stamps, receipts, origins, parts, past].reduce((sum, { rowCount }) => sum + (rowCount ?? 0), 0);
  }
}
