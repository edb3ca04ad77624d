import type { ActionResult, AppliedOrigin, AssignedKey, WireChange } from '@koinon/core';
import type { ClientBase } from 'pg';
import { type NewReceipts, type ReceiptStorage, Receipts, type Stored, type StoredReceipt } from '../receipts.ts';
import type { AssignedKeysOf, PartialTransaction, ReplicaOrigins } from '../store.ts';
import { together } from '../together.ts';
import { ActionTables } from './action-tables.ts';
import { appliedOriginsSql, type PostgresReader } from './reader.ts';

/**
 * The outcomes of uploaded transactions, and the parts of those that are not there as a whole. Inside a transaction of the
 * caller's.
 */
export class ReceiptTables extends ActionTables implements ReceiptStorage {
  protected readonly reader: PostgresReader;
  readonly receipts = new Receipts(this);

  constructor(client: ClientBase, reader: PostgresReader) {
    super(client);
    this.reader = reader;
  }

  /**
   * Two processes may be given the same transaction at once: the second waits here for the first one's receipt. All lock in one
   * order, so that none waits for another in a circle.
   */
  async lockIds(ids: readonly string[]): Promise<void> {
    await this.client.query(
      'SELECT pg_advisory_xact_lock(k) FROM (SELECT DISTINCT hashtextextended(id, 0) AS k FROM unnest($1::text[]) id ORDER BY k) locked',
      [ids],
    );
  }

  /** In one statement: each costs a round trip to the database, while others wait for what is locked. */
  async storedReceipts(ids: readonly string[], { user, origins }: ReplicaOrigins): Promise<Stored> {
    const { rows } = await this.client.query<{ receipts: StoredReceipt[]; origins: AppliedOrigin[] }>(
      `SELECT
         (SELECT coalesce(json_agg(r), '[]') FROM (SELECT id, digest, outcome, position, user_id, replica FROM koinon.receipt WHERE id = ANY($3)) r) AS receipts,
         (SELECT coalesce(json_agg(o), '[]') FROM (${appliedOriginsSql}) o) AS origins`,
      [user ?? null, origins, ids],
    );
    return rows[0] as Stored;
  }

  async applied(ids: readonly string[], user?: string): Promise<string[]> {
    await this.receipts.write();
    return this.reader.applied(ids, user);
  }

  async assignedKeys(of: AssignedKeysOf): Promise<AssignedKey[]> {
    return this.reader.assignedKeys(of);
  }

  async saveAssignedKeys(user: string | undefined, receipt: string, keys: readonly AssignedKey[]): Promise<void> {
    await this.client.query(
      `INSERT INTO koinon.assigned_key SELECT $1, key ->> 0, key ->> 1, key ->> 2, $2, now() FROM json_array_elements($3) key`,
      [user ?? '', receipt, JSON.stringify(keys.map(({ table, provisional, id }) => [table, provisional, id]))],
    );
  }

  async results(receipts: readonly string[]): Promise<ActionResult[]> {
    await this.receipts.write();
    return this.reader.results(receipts);
  }

  async insertReceipts({ receipts, origins, results, uploads }: NewReceipts): Promise<void> {
    const saving = this.client.query(
      `WITH saved AS (
         INSERT INTO koinon.receipt (id, digest, outcome, position, received_at, user_id, replica)
         SELECT r ->> 0, r ->> 1, r ->> 2, (r ->> 3)::bigint, clock_timestamp(), r ->> 4, r ->> 5 FROM jsonb_array_elements($1::jsonb) r
       ), named AS (
         INSERT INTO koinon.origin SELECT o ->> 0, o ->> 1, o ->> 2, clock_timestamp() FROM jsonb_array_elements($2::jsonb) o
         ON CONFLICT DO NOTHING
       )
       INSERT INTO koinon.upload AS u SELECT c ->> 0, (c ->> 1)::bigint FROM jsonb_array_elements($3::jsonb) c
       ON CONFLICT (replica) DO UPDATE SET count = u.count + excluded.count`,
      [receipts, origins, [...uploads]].map((each) => JSON.stringify(each)),
    );
    // Nothing is waited for in between: the commit may be on its way behind it.
    await together(saving, results.length > 0 ? this.insertResults(results) : undefined);
  }

  async savePart({ replica, id }: PartialTransaction, index: number, changes: readonly WireChange[]): Promise<number> {
    await this.client.query('DELETE FROM koinon.part WHERE replica = $1 AND id <> $2', [replica, id]);
    await this.client.query('INSERT INTO koinon.part VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING', [
      replica,
      id,
      index,
      JSON.stringify(changes),
      Date.now(),
    ]);
    const { rows } = await this.client.query<{ bytes: number }>(
      'SELECT sum(octet_length(changes::text))::float8 AS bytes FROM koinon.part WHERE replica = $1',
      [replica],
    );
    return rows[0]?.bytes ?? 0;
  }

  async dropParts(replica: string): Promise<void> {
    await this.client.query('DELETE FROM koinon.part WHERE replica = $1', [replica]);
  }

  async takeParts({ replica, id }: PartialTransaction): Promise<readonly (readonly WireChange[])[]> {
    const { rows } = await this.client.query<{ changes: WireChange[] }>(
      'WITH taken AS (DELETE FROM koinon.part WHERE replica = $1 AND id = $2 RETURNING *) SELECT changes FROM taken ORDER BY number',
      [replica, id],
    );
    return rows.map(({ changes }) => changes);
  }
}
