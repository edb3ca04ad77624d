import type { AnyRow, AppliedOrigin, Change, Condition, Position, Problem, WireChange } from '@koinon/core';
import type { ClientBase } from 'pg';
import {
  byTable,
  ConstraintError,
  type Contact,
  keyOf,
  type Reach,
  type Receipt,
  type ReplicaOrigins,
  type RowKey,
  type Stamp,
  type StoreWriter,
  type Tombstone,
  type WantedTombstones,
  type Written,
} from '../store.ts';
import type { TypedValues } from '../typed-values.ts';
import { constraintProblem } from './constraints.ts';
import type { AppTable } from './layout.ts';
import { PostgresReader, type StampRow, stampFields } from './reader.ts';
import { RowWriter } from './row-writer.ts';
import { AppRows } from './rows.ts';
import { readPosition, Snapshot } from './snapshot.ts';

interface StoredReceipt {
  id: string;
  digest: string;
  outcome: string;
  position: string | null;
  user_id: string | null;
  replica: string | null;
}

/** Writes of one connection; the caller holds a transaction open around them. */
export class PostgresWriter implements StoreWriter {
  private readonly client: ClientBase;
  private readonly tables: ReadonlyMap<string, AppTable>;
  private readonly reader: PostgresReader;
  private readonly appRows: AppRows;
  private readonly writing: RowWriter;
  private readonly receiptsAhead = new Map<string, Receipt | undefined>();
  /** By replica and origin; null for one that was not applied. */
  private readonly originsAhead = new Map<string, string | null>();
  /** Written together at the end. */
  private readonly newReceipts: Receipt[] = [];
  /** Rows that were looked for to be locked, and those that were there. */
  private readonly soughtRows = new Set<string>();
  private readonly heldRows = new Set<string>();
  /** Rows that had no stamp. Should one be there by now, inserting it says so. */
  private readonly unknownRows = new Set<string>();
  /** Whether a refusal gives up the whole database transaction. */
  private isVenturing = false;
  private reached: Position | undefined;

  constructor(
    client: ClientBase,
    tables: ReadonlyMap<string, AppTable>,
    typed: TypedValues,
    trace: (sql: string, values: readonly unknown[]) => void = () => undefined,
  ) {
    this.client = client;
    this.tables = tables;
    this.reader = new PostgresReader(client, tables, typed);
    this.appRows = new AppRows(client, tables, typed);
    this.writing = new RowWriter(client, this.appRows, trace);
  }

  /** Writes what is still to be written, before the commit. */
  async end(): Promise<void> {
    await this.writeReceipts();
  }

  async lookAhead(
    receipts: readonly string[],
    rows: readonly RowKey[],
    { replica, origins }: ReplicaOrigins,
  ): Promise<void> {
    await this.lock(rows);
    const stamped = new Set(
      (await this.readStamps(rows)).map(({ table_name: table, row_id: id }) => keyOf({ table, id })),
    );
    for (const key of rows) if (!stamped.has(keyOf(key))) this.unknownRows.add(keyOf(key));
    await this.lockIds([...receipts, ...origins]);
    for (const [id, receipt] of await this.receipts(receipts)) this.receiptsAhead.set(id, receipt);
    for (const origin of origins) this.originsAhead.set(`${replica} ${origin}`, null);
    for (const { origin, id } of await this.reader.appliedOrigins(replica, origins))
      this.originsAhead.set(`${replica} ${origin}`, id);
    for (const id of receipts) if (!this.receiptsAhead.has(id)) this.receiptsAhead.set(id, undefined);
  }

  async receipt(id: string): Promise<Receipt | undefined> {
    if (this.receiptsAhead.has(id)) return this.receiptsAhead.get(id);
    await this.lockIds([id]);
    return (await this.receipts([id])).get(id);
  }

  async appliedOrigins(replica: string, origins: readonly string[]): Promise<AppliedOrigin[]> {
    const known = origins.map((origin) => this.originsAhead.get(`${replica} ${origin}`));
    if (!known.includes(undefined)) return known.flatMap((id, i) => (id ? [{ origin: origins[i] as string, id }] : []));
    await this.lockIds(origins);
    await this.writeReceipts();
    return this.reader.appliedOrigins(replica, origins);
  }

  /**
   * Two processes may be given the same transaction at once: the second waits here for the first one's receipt. All lock in one
   * order, so that none waits for another in a circle.
   */
  private async lockIds(ids: readonly string[]): Promise<void> {
    await this.client.query(
      'SELECT pg_advisory_xact_lock(k) FROM (SELECT DISTINCT hashtextextended(id, 0) AS k FROM unnest($1::text[]) id ORDER BY k) locked',
      [ids],
    );
  }

  private async receipts(ids: readonly string[]): Promise<ReadonlyMap<string, Receipt>> {
    const { rows } = await this.client.query<StoredReceipt>(
      'SELECT id, digest, outcome, position, user_id, replica FROM koinon.receipt WHERE id = ANY($1)',
      [ids],
    );
    return new Map(
      rows.map(({ id, digest, outcome, position, user_id: user, replica }) => {
        const became: Receipt['outcome'] =
          outcome === 'applied'
            ? { kind: 'applied', position: Number(position) }
            : { kind: 'rejected', problems: JSON.parse(outcome) as Problem[] };
        return [id, { id, digest, user, replica, outcome: became }];
      }),
    );
  }

  async saveReceipt(receipt: Receipt): Promise<void> {
    this.receiptsAhead.set(receipt.id, receipt);
    this.newReceipts.push(receipt);
    if (receipt.outcome.kind === 'applied')
      for (const origin of receipt.origins ?? [receipt.id])
        this.originsAhead.set(`${receipt.replica} ${origin}`, receipt.id);
  }

  /** Writes the origins of what was applied, and counts it. */
  private async writeOrigins(receipts: readonly Receipt[]): Promise<void> {
    const origins: (readonly [string, string, string])[] = [];
    const counts = new Map<string, number>();
    for (const { id, replica, outcome, origins: given = [] } of receipts) {
      if (outcome.kind !== 'applied' || replica === null) continue;
      counts.set(replica, (counts.get(replica) ?? 0) + 1);
      for (const origin of given) if (origin !== id) origins.push([replica, origin, id]);
    }
    if (origins.length > 0)
      await this.client.query(
        `INSERT INTO koinon.origin SELECT o ->> 0, o ->> 1, o ->> 2, clock_timestamp() FROM jsonb_array_elements($1::jsonb) o
         ON CONFLICT DO NOTHING`,
        [JSON.stringify(origins)],
      );
    for (const [replica, count] of counts)
      await this.client.query(
        'INSERT INTO koinon.upload AS u VALUES ($1, $2) ON CONFLICT (replica) DO UPDATE SET count = u.count + excluded.count',
        [replica, count],
      );
  }

  private async writeReceipts(): Promise<void> {
    if (this.newReceipts.length === 0) return;
    const rows = this.newReceipts.map(({ id, digest, user, replica, outcome }) => {
      const applied = outcome.kind === 'applied';
      const said = applied ? 'applied' : JSON.stringify(outcome.problems);
      return [id, digest, said, applied ? outcome.position : null, user, replica];
    });
    await this.writeOrigins(this.newReceipts.splice(0));
    await this.client.query(
      `INSERT INTO koinon.receipt (id, digest, outcome, position, received_at, user_id, replica)
       SELECT r ->> 0, r ->> 1, r ->> 2, (r ->> 3)::bigint, clock_timestamp(), r ->> 4, r ->> 5 FROM jsonb_array_elements($1::jsonb) r`,
      [JSON.stringify(rows)],
    );
  }

  async savePart(id: string, index: number, changes: readonly WireChange[]): Promise<number> {
    await this.client.query('INSERT INTO koinon.part VALUES ($1, $2, $3, clock_timestamp()) ON CONFLICT DO NOTHING', [
      id,
      index,
      JSON.stringify(changes),
    ]);
    const { rows } = await this.client.query<{ bytes: number }>(
      'SELECT sum(pg_column_size(changes))::float8 AS bytes FROM koinon.part WHERE id = $1',
      [id],
    );
    return rows[0]?.bytes ?? 0;
  }

  async dropParts(id: string): Promise<void> {
    await this.client.query('DELETE FROM koinon.part WHERE id = $1', [id]);
  }

  async takeParts(id: string): Promise<readonly (readonly WireChange[])[]> {
    const { rows } = await this.client.query<{ changes: WireChange[] }>(
      'WITH taken AS (DELETE FROM koinon.part WHERE id = $1 RETURNING *) SELECT changes FROM taken ORDER BY number',
      [id],
    );
    return rows.map(({ changes }) => changes);
  }

  reach(position: Position): Promise<Reach> {
    return this.reader.reach(position);
  }

  async noteContacts(contacts: readonly Contact[]): Promise<void> {
    // In the order of their ids: two processes that note the same replicas do not wait for each other in a circle.
    for (const contact of [...contacts].sort((a, b) => (a.replica < b.replica ? -1 : 1)))
      await this.client.query(
        `INSERT INTO koinon.replica AS r VALUES ($1, $2, $2, $3, $4, $5, $6, false) ON CONFLICT (id) DO UPDATE SET
           last_seen = greatest(r.last_seen, excluded.last_seen), position = coalesce(excluded.position, r.position),
           schema_version = coalesce(excluded.schema_version, r.schema_version),
           rows_down = r.rows_down + excluded.rows_down, rows_up = r.rows_up + excluded.rows_up`,
        [contact.replica, contact.at, contact.position, contact.schemaVersion, contact.rowsDown, contact.rowsUp],
      );
  }

  async claimReplica(replica: string, user: string): Promise<string> {
    // The update that changes nothing locks the row, and so waits for whoever claims it just now.
    const { rows } = await this.client.query<{ user_id: string }>(
      `INSERT INTO koinon.owner AS o VALUES ($1, $2) ON CONFLICT (replica) DO UPDATE SET user_id = o.user_id RETURNING user_id`,
      [replica, user],
    );
    return rows[0]?.user_id as string;
  }

  async dropReplica(id: string, isDropped: boolean): Promise<boolean> {
    const { rowCount } = await this.client.query('UPDATE koinon.replica SET dropped = $2 WHERE id = $1', [
      id,
      isDropped,
    ]);
    return rowCount === 1;
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

  async compact(most: number): Promise<number> {
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
    const parts = await this.client.query(
      `DELETE FROM koinon.part WHERE (id, number) IN (SELECT id, number FROM koinon.part
         WHERE received_at < (SELECT to_timestamp(at / 1000.0) FROM koinon.horizon) LIMIT $1 FOR UPDATE SKIP LOCKED)`,
      [most],
    );
    // What a column held before is asked for from positions behind the horizon only.
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

  async stamps(rows: readonly RowKey[], base: Position | null): Promise<(Stamp | undefined)[]> {
    const known = (base === null ? undefined : readPosition(base)?.known) ?? Snapshot.none;
    if (rows.every((key) => this.unknownRows.has(keyOf(key)))) return rows.map(() => undefined);
    await this.lock(rows.filter((key) => !this.soughtRows.has(keyOf(key))));
    let found = await this.readStamps(rows);
    // One that has come since it was looked for is nobody's to rely on before it is locked.
    const come = found
      .map(({ table_name: table, row_id: id, deleted }) => ({ table, id, deleted }))
      .filter((row) => !row.deleted && !this.heldRows.has(keyOf(row)));
    if (come.length > 0) {
      await this.lock(come);
      found = await this.readStamps(rows);
    }
    const stamps = new Map(found.map((stamp) => [JSON.stringify([stamp.table_name, stamp.row_id]), stamp]));
    const images = await this.appRows.images(found.filter(({ deleted }) => deleted));
    const written = (position: bigint, receipt: string | null): Written => ({ covered: known.sees(position), receipt });
    return rows.map(({ table, id }) => {
      const stamp = stamps.get(JSON.stringify([table, id]));
      if (stamp === undefined) return undefined;
      return {
        deleted: stamp.deleted,
        row: written(BigInt(stamp.row_position), stamp.row_receipt),
        columns: new Map(
          Object.entries(stamp.columns).map(([name, [position, , receipt]]) => [
            name,
            written(BigInt(position), receipt),
          ]),
        ),
        image: images.get(table)?.get(id),
      };
    });
  }

  private async lock(rows: readonly RowKey[]): Promise<void> {
    // In one order, so that nobody waits for another in a circle.
    const tables = [...byTable(rows)].sort(([a], [b]) => (a < b ? -1 : 1));
    for (const [table, wanted] of tables) {
      if (!this.tables.has(table)) continue;
      const { sql, id } = this.table(table);
      const { rows: held } = await this.client.query<{ id: string }>(
        `SELECT r.${id.sql}::text AS id FROM ${sql} r WHERE r.${id.sql} = ANY($1::${id.type}[]) ORDER BY r.${id.sql} FOR UPDATE`,
        [await this.appRows.possible(table, wanted)],
      );
      for (const id of wanted) this.soughtRows.add(keyOf({ table, id }));
      for (const { id } of held) this.heldRows.add(keyOf({ table, id }));
    }
  }

  /** In a statement of its own: only one that begins when the rows are locked sees what their last writers did. */
  private async readStamps(rows: readonly RowKey[]): Promise<StampRow[]> {
    const { rows: found } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s JOIN unnest($1::text[], $2::text[]) AS k (t, i) ON s.table_name = k.t AND s.row_id = k.i`,
      [rows.map(({ table }) => table), rows.map(({ id }) => id)],
    );
    return found;
  }

  async attempt(
    receipt: string,
    editedAt: number,
    work: () => Promise<readonly Problem[]>,
  ): Promise<readonly Problem[]> {
    await this.client.query('SAVEPOINT attempt');
    const problems = await this.writeAs(receipt, editedAt, async () => {
      const found = await work();
      if (found.length > 0) return found;
      // What the database checks at the end of a transaction is asked for now, while there can still be an outcome.
      await this.client.query('SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED');
      await this.author('', '');
      return [];
    });
    if (problems.length > 0) await this.client.query('ROLLBACK TO SAVEPOINT attempt');
    // Others may follow in this database transaction.
    await this.client.query('RELEASE SAVEPOINT attempt; SET CONSTRAINTS ALL DEFERRED');
    return problems;
  }

  async venture(
    receipt: string,
    editedAt: number,
    work: () => Promise<readonly Problem[]>,
  ): Promise<readonly Problem[]> {
    this.isVenturing = true;
    try {
      return await this.writeAs(receipt, editedAt, work);
    } finally {
      this.isVenturing = false;
    }
  }

  private async writeAs(
    receipt: string,
    editedAt: number,
    work: () => Promise<readonly Problem[]>,
  ): Promise<readonly Problem[]> {
    await this.author(receipt, String(editedAt));
    try {
      return await work();
    } catch (error) {
      const problem =
        error instanceof ConstraintError ? error.problem : constraintProblem(error, this.deferred(error), undefined);
      if (problem === undefined) throw error;
      return [problem];
    }
  }

  /** On whose behalf rows are written from here on. */
  private author(receipt: string, editedAt: string): Promise<unknown> {
    return this.client.query(
      "SELECT set_config('koinon.receipt', $1, true), set_config('koinon.edited_at', $2, true)",
      [receipt, editedAt],
    );
  }

  async applyOwn(changes: readonly Change[]): Promise<void> {
    const { rows } = await this.client.query<{ receipt: string; edited: string }>(
      "SELECT current_setting('koinon.receipt', true) AS receipt, current_setting('koinon.edited_at', true) AS edited",
    );
    await this.author('', '');
    await this.apply(changes);
    await this.author(rows[0]?.receipt ?? '', rows[0]?.edited ?? '');
  }

  async query(sql: string, values: readonly unknown[]): Promise<readonly Readonly<Record<string, unknown>>[]> {
    return (await this.client.query<Record<string, unknown>>(sql, [...values])).rows;
  }

  async apply(changes: readonly Change[]): Promise<void> {
    await (this.isVenturing ? this.writing.applyAtOnce(changes) : this.writing.apply(changes));
    for (const change of changes) {
      this.unknownRows.delete(keyOf(change));
      if (change.kind === 'insert') this.heldRows.add(keyOf(change));
    }
  }

  rowsWhere(table: string, where: Condition): Promise<AnyRow[]> {
    return this.appRows.where(table, where);
  }

  async applied(ids: readonly string[], user?: string): Promise<string[]> {
    await this.writeReceipts();
    return this.reader.applied(ids, user);
  }

  tombstones(wanted: WantedTombstones): Promise<Tombstone[]> {
    return this.reader.tombstones(wanted);
  }

  async rows(table: string, ids: readonly string[]): Promise<Map<string, AnyRow>> {
    return this.appRows.byIds(table, ids);
  }

  async referrers(table: string, column: string, ids: readonly string[]): Promise<Map<string, string>> {
    return this.appRows.referrers(table, column, ids);
  }

  async position(): Promise<Position> {
    // The first position that is not seen yet by whoever sees this transaction and all before it: the same for all that it
    // takes up.
    this.reached ??= String(await this.reader.snapshot());
    return this.reached;
  }

  /** The table a constraint that is checked late tells of. */
  private deferred(error: unknown): RowKey {
    const { schema, table } = error as { readonly schema?: string; readonly table?: string };
    const found = [...this.tables.values()].find(({ sql }) => sql === `"${schema}"."${table}"`);
    return { table: found?.name ?? table ?? 'a table', id: '' };
  }

  private table(name: string): AppTable {
    return this.tables.get(name) as AppTable;
  }
}
