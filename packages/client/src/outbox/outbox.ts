import {
  type Change,
  changeFromWire,
  columnsFromWire,
  columnsToWire,
  type JsonValue,
  type Operations,
  type Problem,
  quoteText,
  type Schema,
  type SqlValue,
  tableOf,
  type WireColumns,
  wholeRow,
} from '@koinon/core';
import type { Database } from '../database/database.ts';
import type { Rows } from '../tables/rows.ts';
import { Places } from './places.ts';

/**
 * Where a transaction of the outbox stands: `pending` may be sent; `attempted` was sent and its outcome is unknown;
 * `confirmed` was applied by the server but the feed has not brought it back yet; `rejected` was refused.
 */
export type TransactionState = 'pending' | 'attempted' | 'confirmed' | 'rejected';

/** A change in the outbox with the transaction it belongs to. */
export interface QueuedChange {
  /** Where the change stands in the outbox. */
  readonly place: number;
  readonly sequence: number;
  readonly transaction: string;
  readonly state: TransactionState;
  /** When it was made, in milliseconds since 1970, by the server's clock as far as the device knew it. */
  readonly editedAt: number;
  readonly change: Change;
}

/** A transaction of the outbox, with all its changes. */
export interface QueuedTransaction {
  /** Its place in the outbox. */
  readonly sequence: number;
  readonly id: string;
  readonly state: TransactionState;
  /** When it was made, in RFC 3339, by the server's clock as far as the device knew it. */
  readonly editedAt: string;
  readonly changes: readonly Change[];
  readonly problems: readonly Problem[];
  /** Whether it has ever been sent as it is. */
  readonly wasSent: boolean;
}

/** The same for all that is done with it here: a time is only put into words where somebody reads it. */
export interface OutboxTransaction extends Omit<QueuedTransaction, 'editedAt'> {
  /** As {@link QueuedChange.editedAt}. */
  readonly editedAt: number;
}

/** A change as it stands in the file, with what is known of its transaction. */
export interface StoredChange {
  place: number;
  sequence: number;
  table_name: string;
  row_id: string;
  kind: Change['kind'];
  columns: string | null;
  operations: string | null;
  id: string | null;
  edited_at: number | null;
  state: TransactionState | null;
  server_values: string | null;
}

/** Where a new transaction writes its changes; the first also tells its id and time. */
export interface OpenOutboxEntry {
  readonly id: string;
  /** Milliseconds since 1970, by the device's clock. */
  readonly editedAt: number;
  sequence?: number;
}

/** Changes with the transactions that they belong to. */
export const joined = `SELECT c.place, coalesce(c.sequence, c.place) AS sequence, c.table_name, c.row_id, c.kind, c.columns, c.operations,
  coalesce(s.id, c.id, (SELECT f.id FROM koinon_change f WHERE f.place = c.sequence)) AS id, coalesce(s.edited_at, c.edited_at, (SELECT f.edited_at FROM koinon_change f WHERE f.place = c.sequence)) AS edited_at, s.state, c.server_values
  FROM koinon_change c LEFT JOIN koinon_sent s ON s.sequence = coalesce(c.sequence, c.place)`;

const kinds: readonly Change['kind'][] = ['insert', 'update', 'delete'];

/**
 * The durable, ordered list of transactions that the server has not confirmed, or whose effect is not back yet.
 *
 * A local write adds one row to `koinon_change` and nothing else: each further table or index would cost every write a
 * page. The first change of a transaction carries its id; a row in `koinon_sent` is made when it is first sent.
 */
export class Outbox {
  readonly database: Database;
  readonly schema: Schema;
  readonly rows: Rows;
  /** Where the changes of each row stand. */
  readonly places: Places;
  /** Counted up whenever the list changes. */
  revision = 0;
  /** How many of these changes leave what already waits to be sent as it was: additions to the end, and confirmations. */
  harmless = 0;
  private readonly inserts = new Map<string, string[]>();

  constructor(database: Database, schema: Schema, rows: Rows) {
    this.database = database;
    this.schema = schema;
    this.rows = rows;
    this.places = new Places(database);
  }

  /** Puts a change at the end of the list. */
  append(entry: OpenOutboxEntry, change: Change): void {
    this.revision++;
    this.harmless++;
    const { kind, table, id } = change;
    // A new row is its own record: its columns are written down here only when the row is about to change.
    const columns =
      kind === 'update' ? JSON.stringify(columnsToWire(tableOf(this.schema, table), change.columns)) : null;
    const operations =
      kind === 'update' && Object.keys(change.operations).length > 0 ? JSON.stringify(change.operations) : null;
    const isFirst = entry.sequence === undefined;
    const values: SqlValue[] = isFirst
      ? [entry.id, entry.editedAt, id, columns]
      : [entry.sequence as number, id, columns];
    if (operations !== null) values.push(operations);
    const insert = this.insertSql(table, kind, isFirst, operations !== null);
    const place = Number(this.database.statement(insert).run(...values).lastInsertRowid);
    if (isFirst) entry.sequence = place;
    this.places.add(table, id, place);
  }

  /**
   * The statement that appends a change. Table and kind stand in its text: the fewer values are bound, the faster a long
   * transaction is written. Made once for each, since putting it together would cost more than that saves.
   */
  private insertSql(table: string, kind: Change['kind'], isFirst: boolean, hasOperations: boolean): string {
    let made = this.inserts.get(table);
    if (made === undefined) {
      made = [];
      this.inserts.set(table, made);
    }
    const shape = kinds.indexOf(kind) * 4 + (isFirst ? 2 : 0) + (hasOperations ? 1 : 0);
    const known = made[shape];
    if (known !== undefined) return known;
    const names = [
      ...(isFirst ? ['id', 'edited_at'] : ['sequence']),
      'row_id',
      'columns',
      ...(hasOperations ? ['operations'] : []),
    ];
    const text = `INSERT INTO koinon_change (${names.join(', ')}, table_name, kind) VALUES (${'?, '.repeat(names.length)}${quoteText(table)}, ${quoteText(kind)})`;
    made[shape] = text;
    return text;
  }

  isEmpty(): boolean {
    return this.database.statement('SELECT 1 FROM koinon_change LIMIT 1').get() === undefined;
  }

  /** Writes down what an insert in the list put into a row, before the row becomes something else. */
  keepInserted(table: string, id: string): void {
    // Nothing follows on an insert that is not written down.
    const place = this.places.of(table, id).at(-1);
    if (place === undefined) return;
    const found = this.database
      .statement("SELECT 1 FROM koinon_change WHERE place = ? AND columns IS NULL AND kind = 'insert'")
      .get(place);
    const row = found === undefined ? null : this.rows.get(table, id);
    if (row)
      this.database
        .statement('UPDATE koinon_change SET columns = ? WHERE place = ?')
        .run(this.rows.imageOf(table, row), place);
  }

  /** Changes of one row in order, over all transactions; those the feed has brought back are no longer among them. */
  changesOf(table: string, id: string): QueuedChange[] {
    const read = this.database.statement(`${joined} WHERE c.place = ?`);
    return this.places.of(table, id).map((place) => this.queued(read.get(place) as StoredChange));
  }

  /** A change as it stands in the list, as others see it. */
  queued(row: StoredChange): QueuedChange {
    return {
      place: row.place,
      sequence: row.sequence,
      transaction: row.id ?? '',
      state: row.state ?? 'pending',
      editedAt: row.edited_at as number,
      change: withServerValues(this.schema, this.changeOf(row), row.server_values),
    };
  }

  hasChangesOf(table: string, id: string): boolean {
    return this.places.of(table, id).length > 0;
  }

  /** How many transactions are in one of these states. */
  count(...states: TransactionState[]): number {
    const marks = states.map(() => '?').join(', ');
    const row = this.database
      .statement(
        `SELECT count(DISTINCT sequence) AS count FROM (${joined}) WHERE coalesce(state, 'pending') IN (${marks})`,
      )
      .get(...states);
    return (row as { count: number }).count;
  }

  /** Whether the server has refused anything that is still here. */
  hasRejected(): boolean {
    return this.database.statement("SELECT 1 FROM koinon_sent WHERE state = 'rejected' LIMIT 1").get() !== undefined;
  }

  /** What a stored change does. @param own the columns of an insert that is its own record, where they have been read already. */
  changeOf(
    { kind, table_name: table, row_id: id, columns, operations }: StoredChange,
    own?: Readonly<Record<string, unknown>>,
  ): Change {
    if (kind === 'insert' && columns === null) {
      if (own) return { kind, table, id, columns: own };
      const { id: _, ...held } = this.rows.get(table, id) ?? wholeRow(tableOf(this.schema, table), id, {});
      return { kind, table, id, columns: held };
    }
    return changeFromWire(this.schema, {
      kind,
      table,
      id,
      columns: JSON.parse(columns ?? '{}') as Record<string, JsonValue>,
      operations: JSON.parse(operations ?? '{}') as Operations,
    });
  }
}

/** A confirmed change with what the server made of it: shown until the feed brings the row. */
function withServerValues(schema: Schema, change: Change, values: string | null): Change {
  if (values === null || change.kind === 'delete') return change;
  const given = columnsFromWire(tableOf(schema, change.table), JSON.parse(values) as WireColumns);
  const columns = { ...change.columns, ...given };
  if (change.kind === 'insert') return { ...change, columns };
  const operations = Object.entries(change.operations).filter(([name]) => !Object.hasOwn(given, name));
  return { ...change, columns, operations: Object.fromEntries(operations) };
}
