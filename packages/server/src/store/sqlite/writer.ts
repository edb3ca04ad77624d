import type {
  AnyRow,
  Change,
  Column,
  Condition,
  Position,
  RowKey,
  Schema,
  SqlValue,
  Table,
  Writer,
} from '@koinon/core';
import { applyOperation, quoteName, rowKey, toSql } from '@koinon/core/internal';
import { Attempts } from '../attempts.ts';
import type { MappedTable, Mapping } from '../mapping.ts';
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
import { type Applying, applyFree, applyInWorkableOrder } from '../swap.ts';
import { constraintProblem } from './constraints.ts';
import { catchUpRowsSql, standingTables } from './copies.ts';
import type { Prepared } from './driver.ts';
import { PlainInserts } from './inserts.ts';
import { type ColumnStamp, readPosition, SqliteReader, type StampRow } from './reader.ts';
import { ReceiptTables } from './receipts.ts';
import type { TableReading } from './rows.ts';
import type { Stamping } from './stamping.ts';
import type { StoredTimes } from './stored-times.ts';
import { keyDefaultOf, trackedTable } from './tracking.ts';
import type { Filled } from './views.ts';

/** How tables stand, for whoever writes them. */
interface TableWriting extends TableReading {
  /** The columns that the database fills in, by table. */
  readonly filled: ReadonlyMap<string, ReadonlyMap<string, Filled>>;
}

/** Writes of the one write connection; the caller holds a transaction open around them. */
export class SqliteWriter extends ReceiptTables implements StoreWriter {
  private readonly schema: Schema;
  private readonly mapped: ReadonlyMap<string, MappedTable>;
  /** The statements that bring copies of views up to them, for some rows: a list of ids. */
  private readonly views: ReadonlyMap<string, readonly string[]>;
  private readonly times: StoredTimes;
  private readonly filled: TableWriting['filled'];
  private readonly relation: (table: string) => string;
  private readonly trace: (sql: string, values: readonly unknown[]) => void;
  private readonly inserts: PlainInserts;
  private readonly stamping: Stamping;
  /** The epoch that the feed is in, once it has been asked for in this transaction. */
  private epoch: string | undefined;
  private readonly applying: Applying = {
    table: (name) => this.schema.tables[name] as Table,
    apply: (change) => this.applyOne(change),
  };
  readonly attempts = new Attempts({
    writeAs: (receipt, editedAt) => void this.stamping.writeAs(receipt, editedAt),
    setSavepoint: () => {
      this.savepoint = { inserts: this.inserts.count, isSet: false };
    },
    check: () => undefined,
    takeBack: () => {
      // A row of it that was put off and is refused is the reason, and not what a handler said who did not look.
      this.writePutOff();
      this.database.run('ROLLBACK TO attempt');
      this.stamping.takenBack();
      // What was seen of views was written, and is gone with the rest.
      if (this.views.size > 0) this.stampsAhead.clear();
    },
    releaseSavepoint: () => {
      if (this.savepoint?.isSet) this.database.run('RELEASE attempt');
      this.savepoint = undefined;
      this.stamping.writeAs(null, null);
    },
    problemOf: (error) => (error instanceof ConstraintError ? error.problem : undefined),
  });
  /** The savepoint of the uploaded transaction that is being written: set when the database is first asked, with what was put off before it. */
  private savepoint: { readonly inserts: number; readonly isSet: boolean } | undefined;
  /** Null for a row that has none. */
  private readonly stampsAhead = new Map<string, StampRow | null>();

  constructor(
    database: Prepared,
    schema: Schema,
    tables: TableWriting,
    mapping: Mapping,
    stamping: Stamping,
    trace: (sql: string, values: readonly unknown[]) => void = () => undefined,
  ) {
    super(database, new SqliteReader(database, schema, tables));
    this.trace = trace;
    this.stamping = stamping;
    const standing = standingTables(database, schema, mapping);
    this.mapped = new Map(standing.map((mapped) => [mapped.name, mapped]));
    this.views = new Map(
      standing.flatMap((mapped) =>
        mapped.view === undefined || mapped.table.readOnly
          ? []
          : [[mapped.name, catchUpRowsSql(database, mapped, trackedTable(database, mapped, mapping))]],
      ),
    );
    this.times = tables.times;
    this.filled = tables.filled;
    this.relation = tables.relation;
    this.schema = schema;
    this.inserts = new PlainInserts(schema, stamping, (...given) => this.run(...given));
  }

  /** Begins a database transaction; one before it may have been taken back. */
  begin(): void {
    this.stamping.begin();
    this.inserts.forget();
    this.savepoint = undefined;
    this.epoch = undefined;
    this.stampsAhead.clear();
    this.receipts.forget();
  }

  /** Writes what is still to be written, before the commit. */
  end(): void {
    this.writePutOff();
    this.stamping.settle();
    this.receipts.write();
  }

  async lookAhead({ receipts, rows, origins }: Ahead): Promise<void> {
    await this.receipts.lookUp(receipts, origins);
    this.lookAtViews(rows);
    for (const [table, ids] of byTable(rows)) {
      const stamps = this.database.all<StampRow>(
        'SELECT * FROM koinon_stamp WHERE table_name = ? AND row_id IN (SELECT value FROM json_each(?))',
        table,
        JSON.stringify(ids),
      );
      for (const id of ids) this.stampsAhead.set(rowKey({ table, id }), null);
      for (const stamp of stamps) this.stampsAhead.set(rowKey({ table, id: stamp.row_id }), stamp);
    }
  }

  reach(position: Position): Promise<Reach> {
    return this.reader.reach(position);
  }

  async stamps(rows: readonly RowKey[], base: Position | null): Promise<(Stamp | undefined)[]> {
    // One writer at a time: there is nothing to lock.
    this.lookAtViews(rows.filter((key) => !this.stampsAhead.has(rowKey(key))));
    const known = base === null ? -1 : readPosition(base).at;
    return rows.map((key) => {
      const found = this.stampOf(key);
      if (found === null) return undefined;
      const written = (position: number, receipt: string | null): Written => ({ covered: position <= known, receipt });
      const columns = Object.entries(JSON.parse(found.columns) as Record<string, ColumnStamp>);
      return {
        deleted: found.deleted === 1,
        row: written(found.row_position, found.row_receipt),
        columns: new Map(columns.map(([name, [position, , receipt]]) => [name, written(position, receipt)])),
        image: found.deleted === 1 ? this.reader.rows.lastOf(found) : undefined,
      };
    });
  }

  /** Before the database is asked or written: what was put off is inserted, inside the savepoint of its own transaction. */
  private writePutOff(): void {
    const { savepoint } = this;
    if (savepoint !== undefined && !savepoint.isSet) {
      this.inserts.write(savepoint.inserts);
      this.stamping.before(this.inserts.count, () => this.database.run('SAVEPOINT attempt'));
      this.savepoint = { inserts: 0, isSet: true };
    }
    this.inserts.write();
  }

  /** Brings copies of views up to them, for rows that are about to be compared: other programs may have written behind the views. */
  private lookAtViews(rows: readonly RowKey[]): void {
    if (this.views.size === 0) return;
    for (const [table, ids] of byTable(rows)) {
      const statements = this.views.get(table);
      if (statements === undefined) continue;
      this.writePutOff();
      const { receipt, editedAt } = this.stamping.writeAs(null, null);
      this.stamping.byTriggers();
      for (const sql of statements) this.database.run(sql, JSON.stringify(ids));
      this.stamping.writeAs(receipt, editedAt);
    }
  }

  private stampOf(key: RowKey): StampRow | null {
    const text = rowKey(key);
    const known = this.stampsAhead.get(text);
    if (known !== undefined) return known;
    this.writePutOff();
    const read = 'SELECT * FROM koinon_stamp WHERE table_name = ? AND row_id = ?';
    const found = this.database.get<StampRow>(read, key.table, key.id) ?? null;
    this.stampsAhead.set(text, found);
    return found;
  }

  async newKeys(name: string, count: number): Promise<string[]> {
    this.writePutOff();
    const { relation, keyNames } = this.mapped.get(name) as MappedTable;
    const [key] = keyNames as [string];
    const [T, K] = [relation, key].map(quoteName) as [string, string];
    const next = keyDefaultOf(this.database, relation, key);
    if (next !== 'number')
      return this.database
        .all<{ key: string }>(
          `WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) SELECT CAST(${next} AS TEXT) AS key FROM n`,
          count,
        )
        .map(({ key }) => key);
    // One writer at a time. A number that a row of a device had is not given again, also where that row is gone.
    const hasSequence = this.database.get("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'") !== undefined;
    const counted = hasSequence ? '(SELECT seq FROM sqlite_sequence WHERE name = ?1)' : '?1 * 0';
    const found = this.database.get<{ last: number }>(
      `SELECT max(coalesce((SELECT max(${K}) FROM ${T}), 0), coalesce(${counted}, 0),
         coalesce((SELECT last FROM koinon_sequence WHERE name = ?2), 0)) AS last`,
      relation,
      `key of ${name}`,
    );
    const last = found?.last ?? 0;
    this.database.run(
      'INSERT INTO koinon_sequence VALUES (?, ?) ON CONFLICT DO UPDATE SET last = excluded.last',
      `key of ${name}`,
      last + count,
    );
    return Array.from({ length: count }, (_, n) => String(last + n + 1));
  }

  async nextInSequence(name: string): Promise<number> {
    this.writePutOff();
    this.database.run('INSERT INTO koinon_sequence VALUES (?, 1) ON CONFLICT DO UPDATE SET last = last + 1', name);
    return this.database.get<{ last: number }>('SELECT last FROM koinon_sequence WHERE name = ?', name)?.last ?? 1;
  }

  async query(sql: string, values: readonly unknown[]): Promise<readonly Readonly<Record<string, unknown>>[]> {
    // It may write as well.
    this.writePutOff();
    this.stamping.byTriggers();
    this.stampsAhead.clear();
    return this.database.all(sql, ...(values as SqlValue[]));
  }

  apply(changes: readonly Change[], by: Writer): Promise<void> {
    return this.writeBy(by, () => applyInWorkableOrder(changes, this.applying));
  }

  applyFree(changes: readonly Change[], by: Writer): Promise<readonly Change[]> {
    return this.writeBy(by, () => applyFree(changes, this.applying));
  }

  private async writeBy<T>(by: Writer, work: () => Promise<T>): Promise<T> {
    if (by === 'device') return work();
    const { receipt, editedAt } = this.stamping.writeAs(null, null);
    try {
      return await work();
    } finally {
      this.stamping.writeAs(receipt, editedAt);
    }
  }

  rowsWhere(table: string, where: Condition): Promise<AnyRow[]> {
    this.writePutOff();
    return this.reader.rowsWhere(table, where);
  }

  async tombstone(table: string, id: string): Promise<Tombstone | undefined> {
    this.writePutOff();
    return this.reader.tombstone(table, id);
  }

  async rows(table: string, ids: readonly string[]): Promise<Map<string, AnyRow>> {
    this.writePutOff();
    return new Map(
      ids.flatMap((id): [string, AnyRow][] => {
        const row = this.reader.rows.byId(table, id);
        return row ? [[id, row]] : [];
      }),
    );
  }

  async referrers(table: string, column: string, ids: readonly string[]): Promise<Map<string, string>> {
    this.writePutOff();
    const text = `SELECT id FROM ${this.relation(table)} WHERE ${quoteName(column)} = ? LIMIT 1`;
    return new Map(
      ids.flatMap((id): [string, string][] => {
        const found = this.database.get<{ id: string }>(text, id);
        return found ? [[id, found.id]] : [];
      }),
    );
  }

  async position(): Promise<Position> {
    const { end } = this.stamping;
    if (end === undefined) return this.reader.position();
    this.epoch ??= readPosition(await this.reader.position()).epoch;
    return `${end} ${this.epoch}`;
  }

  private applyOne(change: Change): void {
    const table = this.schema.tables[change.table] as Table;
    if (change.kind === 'insert' && this.isPutOff(change)) return;
    // A change that was put off and is refused now is not this change's fault: the database transaction is given up.
    this.writePutOff();
    try {
      if (change.kind === 'insert' && this.stamping.canStamp(change.table)) {
        this.insertPlain(change);
        return;
      }
      this.stamping.byTriggers();
      // Triggers and cascades may reach any row.
      this.stampsAhead.clear();
      if (change.kind === 'insert') this.insert(table, change);
      else if (change.kind === 'update') this.update(table, change);
      else this.run(`DELETE FROM ${this.relation(change.table)} WHERE id = ?`, change.id);
    } catch (error) {
      const problem = constraintProblem(error, change, table, this.mapped.get(change.table)?.columnNames);
      throw problem ? new ConstraintError(problem) : error;
    }
  }

  /** Puts an insert off, where it needs no trigger, the row is new, and a refusal may come later. */
  private isPutOff({ table, id, columns }: Extract<Change, { kind: 'insert' }>): boolean {
    if (!this.attempts.isOptimistic || !this.stamping.canStamp(table)) return false;
    const row = rowKey({ table, id });
    if (this.stampsAhead.get(row) !== null) return false;
    this.stamping.byItself();
    this.inserts.putOff(table, id, columns);
    this.stampsAhead.delete(row);
    return true;
  }

  /** Inserts a row that needs no trigger. */
  private insertPlain({ table, id, columns }: Extract<Change, { kind: 'insert' }>): void {
    this.stampsAhead.delete(rowKey({ table, id }));
    this.stamping.byItself();
    this.inserts.insert(table, id, columns);
    this.stamping.insertStamp(table, this.stamping.stamp(id));
  }

  private run(sql: string, ...values: SqlValue[]): void {
    this.database.run(sql, ...values);
    this.trace(sql, values);
  }

  private insert(table: Table, change: Extract<Change, { kind: 'insert' }>): void {
    const { columns } = table;
    const filled = this.filled.get(change.table);
    const names = table.names.filter((name) => filled?.get(name) !== 'always');
    const given = names.map((name) => {
      const how = filled?.get(name);
      return how === undefined || how === 'always' ? '?' : `coalesce(?, ${how.default})`;
    });
    this.run(
      `INSERT INTO ${this.relation(change.table)} (${['id', ...names].map(quoteName).join(', ')}) VALUES (${['?', ...given].join(', ')})`,
      change.id,
      ...names.map((name) => this.stored(change.table, name, columns[name] as Column, change.columns[name])),
    );
  }

  /** A value in the form that its column has. */
  private stored(table: string, name: string, column: Column, value: unknown): SqlValue {
    const form = value === null || value === undefined ? undefined : this.times.get(table)?.get(name);
    return form === undefined ? toSql(column, value) : form.write(value as string);
  }

  private update(table: Table, change: Extract<Change, { kind: 'update' }>): void {
    const present = Object.keys(change.operations).length > 0 ? this.reader.rows.byId(change.table, change.id) : null;
    const operated = Object.entries(change.operations).map(([name, operation]) => [
      name,
      applyOperation(present?.[name] ?? null, operation),
    ]);
    const columns: Record<string, unknown> = { ...change.columns, ...Object.fromEntries(operated) };
    const filled = this.filled.get(change.table);
    const names = Object.keys(columns).filter((name) => filled?.get(name) !== 'always');
    if (names.length === 0) return;
    const values: SqlValue[] = names.map((name) =>
      this.stored(change.table, name, table.columns[name] as Column, columns[name]),
    );
    this.run(
      `UPDATE ${this.relation(change.table)} SET ${names.map((name) => `${quoteName(name)} = ?`).join(', ')} WHERE id = ?`,
      ...values,
      change.id,
    );
  }
}
