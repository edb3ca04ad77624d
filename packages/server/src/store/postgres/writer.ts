import type { AnyRow, Change, Condition, Position, RowKey, Writer } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { Attempts } from '../attempts.ts';
import { CheapStatements } from '../query.ts';
import {
  type Ahead,
  byTable,
  ConstraintError,
  type Reach,
  type Stamp,
  type StoreWriter,
  type Tombstone,
  type Written,
} from '../store.ts';
import { together } from '../together.ts';
import type { TypedValues } from '../typed-values.ts';
import { constraintProblem } from './constraints.ts';
import { catchUpRows } from './copies.ts';
import { idSql, keySql } from './key.ts';
import type { AppTable } from './layout.ts';
import { type Extent, PostgresReader, reachOf, type StampRow, stampFields } from './reader.ts';
import { ReceiptTables } from './receipts.ts';
import { RowWriter } from './row-writer.ts';
import { AppRows } from './rows.ts';
import { readPosition, Snapshot } from './snapshot.ts';

/** So many rows are kept as they were read: a push may name many, and each may be large. */
const mostRead = 8;

const keyOf = ({ table_name: table, row_id: id }: StampRow) => rowKey({ table, id });

/** How often keys are asked for, a hundred at a time, before it is given up that one is free. */
const mostKeyRounds = 100;

/** Writes of one connection; the caller holds a transaction open around them. */
export class PostgresWriter extends ReceiptTables implements StoreWriter {
  private readonly tables: ReadonlyMap<string, AppTable>;
  private readonly appRows: AppRows;
  private readonly writing: RowWriter;
  /** Rows that were looked for to be locked, and those that were there; with those that were inserted since. */
  private readonly soughtRows = new Set<string>();
  private readonly lockedRows = new Set<string>();
  private readonly heldRows = new Set<string>();
  /** Rows that had no stamp. Should one be there by now, inserting it says so. */
  private readonly unknownRows = new Set<string>();
  /** Locked rows as they were read, and their stamps: nobody changes them but this transaction, and it has not written since. */
  private readonly readRows = new Map<string, AnyRow>();
  private readonly readStamps = new Map<string, StampRow>();
  /** The number of this transaction, once it has begun to write something of a device. */
  private authored: Promise<bigint> | undefined;
  readonly attempts = new Attempts({
    // The writes follow at once: the database takes them behind it.
    writeAs: (receipt, editedAt) => {
      this.authored = this.author(receipt, String(editedAt));
      this.authored.catch(() => undefined);
    },
    setSavepoint: async () => void (await this.client.query('SAVEPOINT attempt')),
    check: async () => {
      await this.client.query('SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED');
      await this.author('', '');
    },
    takeBack: async () => {
      this.inserted = undefined;
      this.forgetRead();
      await this.client.query('ROLLBACK TO SAVEPOINT attempt');
    },
    // Others may follow in this database transaction.
    releaseSavepoint: async () =>
      void (await this.client.query('RELEASE SAVEPOINT attempt; SET CONSTRAINTS ALL DEFERRED')),
    problemOf: (error) =>
      error instanceof ConstraintError ? error.problem : constraintProblem(error, ...this.deferred(error)),
  });
  private readonly extent: Extent;
  /** The row that was inserted last. */
  private inserted: RowKey | undefined;

  constructor(
    client: ClientBase,
    tables: ReadonlyMap<string, AppTable>,
    typed: TypedValues,
    extent: Extent,
    trace: (sql: string, values: readonly unknown[]) => void = () => undefined,
  ) {
    super(client, new PostgresReader(client, tables, typed, new CheapStatements()));
    this.tables = tables;
    this.appRows = new AppRows(client, tables, typed);
    this.extent = extent;
    this.writing = new RowWriter(client, this.appRows, {
      read: async (table, id) => (await this.rows(table, [id])).get(id),
      writing: () => this.forgetRead(),
      wrote: trace,
    });
  }

  /** Writes what is still to be written, before the commit. The last statement is on its way when this returns its promise. */
  async end(): Promise<void> {
    await this.receipts.write();
  }

  async lookAhead({ receipts, origins, rows, withValues }: Ahead): Promise<void> {
    // The database answers one statement after the other, so that none need wait here for the answer to the one before.
    const locked = this.receipts.lookUp(receipts, origins);
    const isPlain = [...byTable(rows).keys()].every((table) => this.isPlain(table));
    if (!isPlain) await locked;
    const locking = this.lock(rows);
    if (!isPlain) await locking;
    const [, , stamps] = await together(
      locked,
      locking,
      rows.length === 0 ? [] : this.stampsOf(rows),
      ...(withValues && rows.length <= mostRead ? this.readAhead(rows, locking) : []),
    );
    const stamped = new Map(stamps.map((stamp) => [keyOf(stamp), stamp]));
    for (const row of rows) {
      const [key, stamp] = [rowKey(row), stamped.get(rowKey(row))];
      if (stamp === undefined) this.unknownRows.add(key);
      else if (this.lockedRows.has(key)) this.readStamps.set(key, stamp);
    }
  }

  /** Tells whether the rows of a table can be asked for by any text, and nothing is to be done before. */
  private isPlain(name: string): boolean {
    const table = this.tables.get(name);
    return table === undefined || (table.key.type === 'text' && table.copies === undefined);
  }

  /** Reads rows behind the statements that lock them. */
  private readAhead(rows: readonly RowKey[], locking: Promise<void>): readonly Promise<void>[] {
    return [...byTable(rows)].flatMap(([table, ids]) =>
      this.tables.has(table)
        ? [
            this.appRows.byIds(table, ids).then(async (found) => {
              await locking;
              this.keepRead(table, found);
            }),
          ]
        : [],
    );
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

  async reach(position: Position): Promise<Reach> {
    return reachOf(position, this.extent);
  }

  async stamps(rows: readonly RowKey[], base: Position | null): Promise<(Stamp | undefined)[]> {
    const known = (base === null ? undefined : readPosition(base)?.known) ?? Snapshot.none;
    if (rows.every((key) => this.unknownRows.has(rowKey(key)))) return rows.map(() => undefined);
    const stamps = new Map((await this.lockedStamps(rows)).map((stamp) => [keyOf(stamp), stamp]));
    const images = await this.appRows.images([...stamps.values()].filter(({ deleted }) => deleted));
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

  /** Locks rows, and reads their stamps. */
  private async lockedStamps(rows: readonly RowKey[]): Promise<readonly StampRow[]> {
    const read = rows.flatMap((key) => this.readStamps.get(rowKey(key)) ?? []);
    if (read.length === rows.length) return read;
    await this.lock(rows.filter((key) => !this.soughtRows.has(rowKey(key))));
    const found = await this.stampsOf(rows);
    // One that has come since it was looked for is nobody's to rely on before it is locked.
    const come = found
      .map(({ table_name: table, row_id: id, deleted }) => ({ table, id, deleted }))
      .filter((row) => !row.deleted && !this.heldRows.has(rowKey(row)));
    if (come.length === 0) return found;
    await this.lock(come);
    return this.stampsOf(rows);
  }

  private async lock(rows: readonly RowKey[]): Promise<void> {
    // In one order, so that nobody waits for another in a circle.
    const tables = [...byTable(rows)].sort(([a], [b]) => (a < b ? -1 : 1));
    const locking: Promise<void>[] = [];
    for (const [table, wanted] of tables) {
      if (!this.tables.has(table)) continue;
      const isPlain = this.isPlain(table);
      if (!isPlain) await together(...locking);
      locking.push(this.lockIn(table, wanted));
      if (!isPlain) await together(...locking);
    }
    await together(...locking);
  }

  private async lockIn(table: string, wanted: readonly string[]): Promise<void> {
    const { sql, key } = this.table(table);
    if (!this.isPlain(table)) await this.lookAtView(table, wanted);
    const { rows: held } = await this.client.query<{ id: string }>(
      `SELECT ${idSql(key, 'r')} AS id FROM ${sql} r WHERE ${keySql(key, 'r')} = ANY($1::${key.type}[]) ORDER BY ${keySql(key, 'r')} FOR UPDATE`,
      [this.isPlain(table) ? wanted : await this.appRows.possible(table, wanted)],
    );
    for (const id of wanted) this.soughtRows.add(rowKey({ table, id }));
    for (const { id } of held) {
      this.lockedRows.add(rowKey({ table, id }));
      this.heldRows.add(rowKey({ table, id }));
    }
  }

  /** Brings the copy of a view up to it, for rows that are about to be compared: other programs may have written behind the view. */
  private async lookAtView(name: string, ids: readonly string[]): Promise<void> {
    const table = this.table(name);
    if (table.copies === undefined || table.table.readOnly) return;
    await this.writeBy('server', () => catchUpRows(this.client, table, ids));
  }

  /** In a statement of its own: only one that begins when the rows are locked sees what their last writers did. */
  private async stampsOf(rows: readonly RowKey[]): Promise<StampRow[]> {
    const { rows: found } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s JOIN unnest($1::text[], $2::text[]) AS k (t, i) ON s.table_name = k.t AND s.row_id = k.i`,
      [rows.map(({ table }) => table), rows.map(({ id }) => id)],
    );
    return found;
  }

  /** Says on whose behalf rows are written from here on. Returns the number of the database transaction. */
  private async author(receipt: string, editedAt: string): Promise<bigint> {
    const { rows } = await this.client.query<{ number: string }>(
      "SELECT set_config('koinon.receipt', $1, true), set_config('koinon.edited_at', $2, true), pg_current_xact_id()::text AS number",
      [receipt, editedAt],
    );
    return BigInt(rows[0]?.number ?? 0);
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
    this.forgetRead();
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
    const read = ids.flatMap((id) => this.readRows.get(rowKey({ table, id })) ?? []);
    if (read.length === ids.length) return new Map(read.map((row) => [row.id, row]));
    const found = await this.appRows.byIds(table, ids);
    this.keepRead(table, found);
    return found;
  }

  private keepRead(table: string, found: ReadonlyMap<string, AnyRow>): void {
    // Behind a view other programs write rows that are not locked here.
    if (this.tables.get(table)?.copies !== undefined) return;
    if (this.readRows.size + found.size > mostRead) this.readRows.clear();
    if (found.size > mostRead) return;
    for (const [id, row] of found)
      if (this.lockedRows.has(rowKey({ table, id }))) this.readRows.set(rowKey({ table, id }), row);
  }

  /** Something is being written: what was read before may be another thing now. */
  private forgetRead(): void {
    this.readRows.clear();
    this.readStamps.clear();
  }

  async referrers(table: string, column: string, ids: readonly string[]): Promise<Map<string, string>> {
    return this.appRows.referrers(table, column, ids);
  }

  async position(): Promise<Position> {
    if (this.authored === undefined) return this.reader.position();
    // The first position that is not seen yet by whoever sees this transaction and all before it.
    const end = (await this.authored) + 1n;
    return `${end}:${end}:`;
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
