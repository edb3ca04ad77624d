import type { ActionResult, AssignedKey, WireChange } from '@koinon/core';
import { type NewReceipts, type ReceiptStorage, Receipts, type Stored, type StoredReceipt } from '../receipts.ts';
import type { AssignedKeysOf, PartialTransaction, ReplicaOrigins } from '../store.ts';
import { ActionTables } from './action-tables.ts';
import type { Prepared } from './driver.ts';
import type { SqliteReader } from './reader.ts';

/**
 * The outcomes of uploaded transactions, and the parts of those that are not there as a whole. Inside a transaction of the
 * caller's.
 */
export class ReceiptTables extends ActionTables implements ReceiptStorage {
  protected readonly reader: SqliteReader;
  readonly receipts = new Receipts(this);

  constructor(database: Prepared, reader: SqliteReader) {
    super(database);
    this.reader = reader;
  }

  /** One writer at a time: there is nothing to lock. */
  lockIds(): void {}

  async storedReceipts(ids: readonly string[], of: ReplicaOrigins): Promise<Stored> {
    return {
      receipts:
        ids.length === 0
          ? []
          : this.database.all<StoredReceipt>(
              'SELECT * FROM koinon_receipt WHERE id IN (SELECT value FROM json_each(?))',
              JSON.stringify(ids),
            ),
      origins: of.origins.length === 0 ? [] : await this.reader.appliedOrigins(of),
    };
  }

  applied(ids: readonly string[], user?: string): Promise<string[]> {
    this.receipts.write();
    return this.reader.applied(ids, user);
  }

  async results(receipts: readonly string[]): Promise<ActionResult[]> {
    this.receipts.write();
    return this.reader.results(receipts);
  }

  insertReceipts({ receipts, origins, results, uploads }: NewReceipts): void {
    const now = new Date().toISOString();
    const into = 'INSERT INTO koinon_receipt (id, digest, outcome, position, user_id, replica, received_at)';
    const [only] = receipts;
    if (only && receipts.length === 1) this.database.run(`${into} VALUES (?, ?, ?, ?, ?, ?, ?)`, ...only, now);
    else
      this.database.run(
        `${into} SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, ?2 FROM json_each(?1)`,
        JSON.stringify(receipts),
        now,
      );
    if (origins.length > 0)
      this.database.run(
        'INSERT INTO koinon_origin SELECT value ->> 0, value ->> 1, value ->> 2, ?2 FROM json_each(?1) WHERE true ON CONFLICT DO NOTHING',
        JSON.stringify(origins),
        now,
      );
    if (results.length > 0) this.insertResults(results);
    for (const [replica, count] of uploads)
      this.database.run(
        'INSERT INTO koinon_upload VALUES (?, ?) ON CONFLICT DO UPDATE SET count = count + excluded.count',
        replica,
        count,
      );
  }

  async assignedKeys(of: AssignedKeysOf): Promise<AssignedKey[]> {
    return this.reader.assignedKeys(of);
  }

  async saveAssignedKeys(user: string | undefined, receipt: string, keys: readonly AssignedKey[]): Promise<void> {
    this.database.run(
      `INSERT INTO koinon_assigned_key SELECT ?1, value ->> 0, value ->> 1, value ->> 2, ?2, ?3 FROM json_each(?4)`,
      user ?? '',
      receipt,
      new Date().toISOString(),
      JSON.stringify(keys.map(({ table, provisional, id }) => [table, provisional, id])),
    );
  }

  async savePart({ replica, id }: PartialTransaction, index: number, changes: readonly WireChange[]): Promise<number> {
    this.database.run('DELETE FROM koinon_part WHERE replica = ? AND id <> ?', replica, id);
    this.database.run(
      'INSERT INTO koinon_part VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING',
      replica,
      id,
      index,
      JSON.stringify(changes),
      Date.now(),
    );
    const kept = this.database.get<{ bytes: number }>(
      'SELECT sum(octet_length(changes)) AS bytes FROM koinon_part WHERE replica = ?',
      replica,
    );
    return kept?.bytes ?? 0;
  }

  async dropParts(replica: string): Promise<void> {
    this.database.run('DELETE FROM koinon_part WHERE replica = ?', replica);
  }

  async takeParts({ replica, id }: PartialTransaction): Promise<readonly (readonly WireChange[])[]> {
    const rows = this.database.all<{ changes: string }>(
      'SELECT changes FROM koinon_part WHERE replica = ? AND id = ? ORDER BY number',
      replica,
      id,
    );
    await this.dropParts(replica);
    return rows.map(({ changes }) => JSON.parse(changes) as WireChange[]);
  }
}
