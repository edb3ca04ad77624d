import type { AnyRow, Change, Condition, Position, RowKey, Writer } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { Attempts } from '../attempts.ts';
import { CheapStatements } from '../query.ts';
import {
  byTable,
  ConstraintError,
  type Reach,
  type ReplicaOrigins,
  type Stamp,
  type StoreWriter,
  type Tombstone,
  type Written,
} from '../store.ts';
import type { TypedValues } from '../typed-values.ts';
import { constraintProblem } from './constraints.ts';
import { catchUpRows } from './copies.ts';
import { idSql, keySql } from './key.ts';
import type { AppTable } from './layout.ts';
import { PostgresReader, type StampRow, stampFields } from './reader.ts';
import { ReceiptTables } from './receipts.ts';
import { RowWriter } from './row-writer.ts';
import { AppRows } from './rows.ts';
import { readPosition, Snapshot } from './snapshot.ts';

/** Writes of one connection; the caller holds a transaction open around them. */
/** How often keys are asked for, a hundred at a time, before it is given up that one is free. */
const mostKeyRounds = 100;

export class PostgresWriter extends ReceiptTables implements StoreWriter {
  private readonly tables: ReadonlyMap<string, AppTable>;
  private readonly appRows: AppRows;
  private readonly writing: RowWriter;
  /** Rows that were looked for to be locked, and those that were there. */
  private readonly soughtRows = new Set<string>();
  private readonly heldRows = new Set<string>();
  /** Rows that had no stamp. Should one be there by now, inserting it says so. */
  private readonly unknownRows = new Set<string>();
  readonly attempts = new Attempts({
    writeAs: async (receipt, editedAt) => void (await this.author(receipt, String(editedAt))),
    setSavepoint: async () => void (await this.client.query('SAVEPOINT attempt')),
    check: async () => {
      await this.client.query('SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED');
      await this.author('', '');
    },
    takeBack: async () => {
      this.inserted = undefined;
      await this.client.query('ROLLBACK TO SAVEPOINT attempt');
    },
    // Others may follow in this database transaction.
    releaseSavepoint: async () =>
      void (await this.client.query('RELEASE SAVEPOINT attempt; SET CONSTRAINTS ALL DEFERRED')),
    problemOf: (error) =>
      error instanceof ConstraintError ? error.problem : constraintProblem(error, ...this.deferred(error)),
  });
  private reached: Position | undefined;
  /** The row that was inserted last. */
  private inserted: RowKey | undefined;

  constructor(
    client: ClientBase,
    tables: ReadonlyMap<string, AppTable>,
    typed: TypedValues,
    trace: (sql: string, values: readonly unknown[]) => void = () => undefined,
  ) {
    super(client, new PostgresReader(client, tables, typed, new CheapStatements()));
    this.tables = tables;
    this.appRows = new AppRows(client, tables, typed);
    this.writing = new RowWriter(client, this.appRows, trace);
  }

  /** Writes what is still to be written, before the commit. */
  async end(): Promise<void> {
    await this.receipts.write();
  }

  async lookAhead(receipts: readonly string[], rows: readonly RowKey[], origins: ReplicaOrigins): Promise<void> {
    await this.lock(rows);
    const stamped = new Set(
      (await this.readStamps(rows)).map(({ table_name: table, row_id: id }) => rowKey({ table, id })),
    );
    for (const key of rows) if (!stamped.has(rowKey(key))) this.unknownRows.add(rowKey(key));
    await this.receipts.lookUp(receipts, origins);
  }

  /** Tells whether the row that was inserted last has its stamp; undefined where none was. */
  async hasStamped(): Promise<boolean | undefined> {
    if (this.inserted === undefined) return undefined;
    const { table, id } = this.inserted;
    const { rowCount } = await this.client.query('SELECT 1 FROM koinon.stamp WHERE table_name = $1 AND row_id = $2', [
      table,
      id,
    ]);
    return rowCount === 1;
  }

  reach(position: Position): Promise<Reach> {
    return this.reader.reach(position);
  }

  async stamps(rows: readonly RowKey[], base: Position | null): Promise<(Stamp | undefined)[]> {
    const known = (base === null ? undefined : readPosition(base)?.known) ?? Snapshot.none;
    if (rows.every((key) => this.unknownRows.has(rowKey(key)))) return rows.map(() => undefined);
    await this.lock(rows.filter((key) => !this.soughtRows.has(rowKey(key))));
    let found = await this.readStamps(rows);
    // One that has come since it was looked for is nobody's to rely on before it is locked.
    const come = found
      .map(({ table_name: table, row_id: id, deleted }) => ({ table, id, deleted }))
      .filter((row) => !row.deleted && !this.heldRows.has(rowKey(row)));
    if (come.length > 0) {
      await this.lock(come);
      found = await this.readStamps(rows);
    }
    const stamps = new Map(found.map((stamp) => [rowKey({ table: stamp.table_name, id: stamp.row_id }), stamp]));
    const images = await this.appRows.images(found.filter(({ deleted }) => deleted));
    const written = (position: bigint, receipt: string | null): Written => ({ covered: known.sees(position), receipt });
    return rows.map(({ table, id }) => {
      const stamp = stamps.get(rowKey({ table, id }));
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
      const { sql, key } = this.table(table);
      await this.lookAtView(table, wanted);
      const { rows: held } = await this.client.query<{ id: string }>(
        `SELECT ${idSql(key, 'r')} AS id FROM ${sql} r WHERE ${keySql(key, 'r')} = ANY($1::${key.type}[]) ORDER BY ${keySql(key, 'r')} FOR UPDATE`,
        [await this.appRows.possible(table, wanted)],
      );
      for (const id of wanted) this.soughtRows.add(rowKey({ table, id }));
      for (const { id } of held) this.heldRows.add(rowKey({ table, id }));
    }
  }

  /** Brings the copy of a view up to it, for rows that are about to be compared: other programs may have written behind the view. */
  private async lookAtView(name: string, ids: readonly string[]): Promise<void> {
    const table = this.table(name);
    if (table.copies === undefined || table.table.readOnly) return;
    await this.writeBy('server', () => catchUpRows(this.client, table, ids));
  }

  /** In a statement of its own: only one that begins when the rows are locked sees what their last writers did. */
  private async readStamps(rows: readonly RowKey[]): Promise<StampRow[]> {
    const { rows: found } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s JOIN unnest($1::text[], $2::text[]) AS k (t, i) ON s.table_name = k.t AND s.row_id = k.i`,
      [rows.map(({ table }) => table), rows.map(({ id }) => id)],
    );
    return found;
  }

  /** On whose behalf rows are written from here on. */
  private author(receipt: string, editedAt: string): Promise<unknown> {
    return this.client.query(
      "SELECT set_config('koinon.receipt', $1, true), set_config('koinon.edited_at', $2, true)",
      [receipt, editedAt],
    );
  }

  async newKeys(name: string, count: number): Promise<string[]> {
    const { sql, key, nextKey } = this.tables.get(name) as AppTable;
    const keys: string[] = [];
    // Somebody may have written a number that the sequence had yet to come to.
    for (let rounds = 0; keys.length < count; rounds++) {
      if (rounds === mostKeyRounds) throw new Error(`the keys that the database gives for ${name} are taken`);
      const { rows } = await this.client.query<{ key: string; taken: boolean }>(
        `SELECT key::text AS key, EXISTS (SELECT FROM ${sql} t WHERE ${keySql(key, 't')} = key) AS taken
         FROM (SELECT (${nextKey})::${key.type} AS key FROM generate_series(1, $1) OFFSET 0) given`,
        [Math.max(count - keys.length, rounds === 0 ? 1 : 100)],
      );
      keys.push(...rows.flatMap(({ key, taken }) => (taken ? [] : [key])));
    }
    return keys.slice(0, count);
  }

  async nextInSequence(name: string): Promise<number> {
    const { rows } = await this.client.query<{ last: string }>(
      `INSERT INTO koinon.sequence AS s VALUES ($1, 1) ON CONFLICT (name) DO UPDATE SET last = s.last + 1 RETURNING last`,
      [name],
    );
    return Number(rows[0]?.last);
  }

  async query(sql: string, values: readonly unknown[]): Promise<readonly Readonly<Record<string, unknown>>[]> {
    // It may write as well.
    this.unknownRows.clear();
    return (await this.client.query<Record<string, unknown>>(sql, [...values])).rows;
  }

  async apply(changes: readonly Change[], by: Writer): Promise<void> {
    // A function of the app that writes may expect a refusal, and go on after it.
    const isAtOnce = this.attempts.isOptimistic && by === 'device';
    await this.writeBy(by, () => (isAtOnce ? this.writing.applyAtOnce(changes) : this.writing.apply(changes)));
    this.noteApplied(changes);
  }

  async applyFree(changes: readonly Change[], by: Writer): Promise<readonly Change[]> {
    if (this.attempts.isOptimistic) {
      await this.apply(changes, by);
      return [];
    }
    const left = await this.writeBy(by, () => this.writing.applyFree(changes));
    this.noteApplied(changes.filter((change) => !left.includes(change)));
    return left;
  }

  private async writeBy<T>(by: Writer, work: () => Promise<T>): Promise<T> {
    if (by === 'device') return work();
    const { rows } = await this.client.query<{ receipt: string; edited: string }>(
      "SELECT current_setting('koinon.receipt', true) AS receipt, current_setting('koinon.edited_at', true) AS edited",
    );
    const restore = () => this.author(rows[0]?.receipt ?? '', rows[0]?.edited ?? '');
    await this.author('', '');
    const done = await work().catch(async (error: unknown) => {
      // A rule that expects a refusal goes on after it. After other errors the database transaction is given up.
      if (error instanceof ConstraintError) await restore();
      throw error;
    });
    await restore();
    return done;
  }

  private noteApplied(changes: readonly Change[]): void {
    for (const change of changes) {
      if (change.kind === 'insert') this.inserted = change;
      this.unknownRows.delete(rowKey(change));
      if (change.kind === 'insert') this.heldRows.add(rowKey(change));
    }
  }

  rowsWhere(table: string, where: Condition): Promise<AnyRow[]> {
    return this.appRows.where(table, where);
  }

  async tombstone(table: string, id: string): Promise<Tombstone | undefined> {
    return (await this.reader.tombstones([{ table, id }]))[0];
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
  private deferred(error: unknown): [RowKey, AppTable | undefined] {
    const { schema, table } = error as { readonly schema?: string; readonly table?: string };
    const found = [...this.tables.values()].find(({ sql }) => sql === `"${schema}"."${table}"`);
    return [{ table: found?.name ?? table ?? 'a table', id: '' }, found];
  }

  private table(name: string): AppTable {
    return this.tables.get(name) as AppTable;
  }
}
