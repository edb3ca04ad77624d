import {
  type ActionCall,
  type AnyRow,
  type Change,
  type JsonValue,
  type Operations,
  type Problem,
  type Schema,
  type SqlValue,
  tableOf,
  type WireColumns,
} from '@koinon/core';
import {
  changeFromWire,
  columnsFromWire,
  columnsToWire,
  quoteText,
  type TypedOver,
  wholeRow,
} from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { dataVersion } from '../database/read-only.ts';
import { Places } from './places.ts';
import { noPredictions, type Predictions } from './prediction-list.ts';
import { readTypedOver } from './typed-over.ts';

/**
 * The state of a transaction of the outbox: `pending` may be sent; `attempted` was sent and its outcome is unknown;
 * `confirmed` was applied by the server but the feed has not brought it back yet; `rejected` was refused.
 */
export type TransactionState = 'pending' | 'attempted' | 'confirmed' | 'rejected';

/** The identity of a transaction, whatever its changes are. */
export interface TransactionIdentity {
  /** Its place in the outbox. */
  readonly sequence: number;
  /** A UUID that names its content, and changes with it. Transactions with one id go up as one. */
  readonly id: string;
  /** A UUID that names what the person did, and never changes. */
  readonly origin: string;
  readonly state: TransactionState;
  /** When it was made, in milliseconds since 1970, by the server's clock as far as the device knew it. */
  readonly editedAt: number;
}

/** A change in the outbox with the transaction it belongs to. */
export interface QueuedChange extends TransactionIdentity {
  /** The place of the change in the outbox. */
  readonly place: number;
  readonly change: Change;
  /** For a change in conflict: the values it was typed over. */
  readonly typedOver: TypedOver | undefined;
}

/** A transaction of the outbox, with all its changes. */
export interface QueuedTransaction {
  /** Its place in the outbox. */
  readonly sequence: number;
  readonly id: string;
  /** A UUID that names what the person did. It stays when a merge gives the transaction another content and id. */
  readonly origin: string;
  readonly state: TransactionState;
  /** When it was made, in RFC 3339, by the server's clock as far as the device knew it. */
  readonly editedAt: string;
  readonly changes: readonly Change[];
  /** The actions among them. */
  readonly actions: readonly QueuedAction[];
  readonly problems: readonly Problem[];
  /** Tells whether it has ever been sent. */
  readonly wasSent: boolean;
}

/** An action in the outbox. */
export interface QueuedAction extends ActionCall {
  /** Its place in the outbox. */
  readonly place: number;
}

/** The same for all that is done with it here. */
export interface OutboxTransaction extends TransactionIdentity {
  readonly changes: readonly Change[];
  readonly actions: readonly QueuedAction[];
  readonly problems: readonly Problem[];
  readonly wasSent: boolean;
  /** Tells whether one of its changes is in conflict. */
  readonly isConflicted: boolean;
  /** Tells whether one of its changes was typed on top of what an action is expected to do: it waits for the action. */
  readonly isOverPrediction: boolean;
}

/** A row of the table of the outbox: a transaction, or one of its changes and actions with what is known of its transaction. */
export interface StoredChange {
  place: number;
  sequence: number;
  kind: Change['kind'] | 'transaction' | 'action';
  table_name: string;
  row_id: string;
  columns: string | null;
  operations: string | null;
  before: string | null;
  server_values: string | null;
  id: string;
  origin: string;
  edited_at: number;
  state: TransactionState | null;
}

/** A transaction that `undo` has taken back. */
export interface Undone {
  readonly origin: string;
  readonly changes: readonly Change[];
  readonly actions: readonly (QueuedAction & { readonly predicted: readonly Change[] })[];
  /** The writes of other processes until then, as SQLite counts them. */
  readonly version: number;
}

/** The entry that a new transaction writes its changes to. */
export interface OpenOutboxEntry {
  readonly origin: string;
  /** An id, for a transaction with another content than what once had this origin. */
  readonly id?: string;
  /** Milliseconds since 1970, by the server's clock as far as it is known. */
  readonly editedAt: number;
  sequence?: number;
}

/** Changes with the transactions that they belong to. */
export const storedChanges = `SELECT c.place, c.sequence, c.kind, c.table_name, c.row_id, c.columns, c.operations, c.before, c.server_values,
  coalesce(t.id, t.origin) AS id, t.origin, t.edited_at, t.state
  FROM koinon_outbox c JOIN koinon_outbox t ON t.place = c.sequence`;

const kinds: readonly Change['kind'][] = ['insert', 'update', 'delete'];

/** The rows of the tables as they are now, to be written down where a new row is its own record. */
export interface StoredRows {
  get(table: string, id: string): AnyRow | null;
  /** A row as the text of its columns. */
  imageOf(table: string, row: AnyRow): string;
  /** The columns of several rows, by id. */
  columnsOf(table: string, ids: readonly string[]): Map<string, Readonly<Record<string, unknown>>>;
}

/**
 * The durable, ordered list of transactions that the server has not confirmed, or whose effect is not back yet. This folder
 * alone knows how it is stored.
 *
 * A transaction and its changes stand in one table, one after the other: a second table would cost each local write one
 * more page.
 */
export class Outbox {
  readonly database: Database;
  readonly schema: Schema;
  readonly rows: StoredRows;
  /** The places of the changes of each row. */
  readonly places: Places;
  /** The changes that actions are expected to make. */
  readonly predictions: Predictions;
  /** Counted up whenever the list changes. */
  revision = 0;
  /** How many of these changes leave what already waits to be sent as it was: additions to the end, and confirmations. */
  harmless = 0;
  /** The transactions that `undo` has taken back since something was last written, last one last. */
  readonly undone: Undone[] = [];
  /** The place of the first transaction that was not confirmed, and the version of the list of which that was true. */
  firstUnconfirmed = { version: '', place: Number.MIN_SAFE_INTEGER };
  private readonly inserts = new Map<string, string[]>();

  constructor(database: Database, schema: Schema, rows: StoredRows, predictions: Predictions = noPredictions) {
    this.predictions = predictions;
    this.database = database;
    this.schema = schema;
    this.rows = rows;
    this.places = new Places(database);
  }

  /** Puts a change at the end of the list; returns its place. */
  append(entry: OpenOutboxEntry, change: Change): number {
    this.revision++;
    this.harmless++;
    const { kind, table, id } = change;
    // A new row is its own record: its columns are written down here only when the row is about to change.
    const columns =
      kind === 'update' ? JSON.stringify(columnsToWire(tableOf(this.schema, table), change.columns)) : null;
    const operations =
      kind === 'update' && Object.keys(change.operations).length > 0 ? JSON.stringify(change.operations) : null;
    const sequence = entry.sequence ?? this.begin(entry);
    if (this.undone.length > 0) this.undone.length = 0;
    const values: SqlValue[] = [sequence, id, columns];
    if (operations !== null) values.push(operations);
    const insert = this.insertSql(table, kind, operations !== null);
    const place = Number(this.database.statement(insert).run(...values).lastInsertRowid);
    this.places.add(table, id, place);
    return place;
  }

  /** Puts an action at the end of the list; returns its place. */
  appendAction(entry: OpenOutboxEntry, { id, name, input }: Pick<ActionCall, 'id' | 'name' | 'input'>): number {
    this.revision++;
    this.harmless++;
    const sequence = entry.sequence ?? this.begin(entry);
    if (this.undone.length > 0) this.undone.length = 0;
    const text =
      "INSERT INTO koinon_outbox (sequence, kind, table_name, row_id, columns) VALUES (?, 'action', ?, ?, ?)";
    return Number(this.database.statement(text).run(sequence, name, id, JSON.stringify(input)).lastInsertRowid);
  }

  /** Writes the identity of a new transaction. */
  private begin(entry: OpenOutboxEntry): number {
    const { origin, id, editedAt } = entry;
    const insert = "INSERT INTO koinon_outbox (kind, origin, edited_at) VALUES ('transaction', ?, ?)";
    entry.sequence = Number(this.database.statement(insert).run(origin, editedAt).lastInsertRowid);
    if (id !== undefined)
      this.database.statement('UPDATE koinon_outbox SET id = ? WHERE place = ?').run(id, entry.sequence);
    return entry.sequence;
  }

  /**
   * The statement that appends a change. Table and kind stand in its text: the fewer values are bound, the faster a long
   * transaction is written. Made once for each, since putting it together would cost more than that saves.
   */
  private insertSql(table: string, kind: Change['kind'], hasOperations: boolean): string {
    let made = this.inserts.get(table);
    if (made === undefined) {
      made = [];
      this.inserts.set(table, made);
    }
    const shape = kinds.indexOf(kind) * 2 + (hasOperations ? 1 : 0);
    const known = made[shape];
    if (known !== undefined) return known;
    const names = ['sequence', 'row_id', 'columns', ...(hasOperations ? ['operations'] : [])];
    const text = `INSERT INTO koinon_outbox (${names.join(', ')}, table_name, kind) VALUES (${'?, '.repeat(names.length)}${quoteText(table)}, ${quoteText(kind)})`;
    made[shape] = text;
    return text;
  }

  isEmpty(): boolean {
    return this.database.statement('SELECT 1 FROM koinon_outbox LIMIT 1').get() === undefined;
  }

  /** Writes down what an insert in the list put into a row, before the row becomes something else. */
  keepInserted(table: string, id: string): void {
    // Nothing follows on an insert that is not written down.
    const place = this.places.of(table, id).at(-1);
    if (place === undefined) return;
    const found = this.database
      .statement("SELECT 1 FROM koinon_outbox WHERE place = ? AND columns IS NULL AND kind = 'insert'")
      .get(place);
    const row = found === undefined ? null : this.rows.get(table, id);
    if (row)
      this.database
        .statement('UPDATE koinon_outbox SET columns = ? WHERE place = ?')
        .run(this.rows.imageOf(table, row), place);
  }

  /** Changes of one row in order, over all transactions; those the feed has brought back are no longer among them. */
  changesOf(table: string, id: string): QueuedChange[] {
    const read = this.database.statement(`${storedChanges} WHERE c.place = ?`);
    return this.places.of(table, id).map((place) => this.queued(read.get(place) as StoredChange));
  }

  /** Changes of several rows of one table, by id, each in order; rows without any are left out. */
  changesOfAll(table: string, ids: readonly string[]): Map<string, QueuedChange[]> {
    const places = ids.flatMap((id) => this.places.of(table, id));
    if (places.length === 0) return new Map();
    const rows = this.database
      .statement(`${storedChanges} WHERE c.place IN (SELECT value FROM json_each(?)) ORDER BY c.place`)
      .all(JSON.stringify(places)) as StoredChange[];
    const changes = new Map<string, QueuedChange[]>();
    for (const row of rows) {
      const known = changes.get(row.row_id);
      if (known) known.push(this.queued(row));
      else changes.set(row.row_id, [this.queued(row)]);
    }
    return changes;
  }

  /** A change as it stands in the list, as others see it. */
  private queued(row: StoredChange): QueuedChange {
    return {
      place: row.place,
      sequence: row.sequence,
      id: row.id,
      origin: row.origin,
      state: row.state ?? 'pending',
      editedAt: row.edited_at,
      change: withServerValues(this.schema, this.changeOf(row), row.server_values),
      typedOver: row.before === null ? undefined : readTypedOver(this.schema, row.table_name, row.row_id, row.before),
    };
  }

  hasChangesOf(table: string, id: string): boolean {
    return this.places.of(table, id).length > 0;
  }

  /** Tells whether a row has changes that the server has not confirmed. */
  hasUnsentChangesOf(table: string, id: string): boolean {
    return this.changesOf(table, id).some(({ state }) => state !== 'confirmed');
  }

  /** Tells whether a row shows anything else than what the server last gave: it has a base then, if the server has it. */
  isOverlaid(table: string, id: string): boolean {
    return this.hasChangesOf(table, id) || this.predictions.has(table, id);
  }

  /** How many transactions are in one of these states. */
  count(...states: TransactionState[]): number {
    const wanted = states.map(quoteText).join();
    const row = this.database
      .statement(
        `SELECT count(*) AS count FROM koinon_outbox WHERE kind = 'transaction' AND coalesce(state, 'pending') IN (${wanted})`,
      )
      .get();
    return (row as { count: number }).count;
  }

  /** Tells whether there are more changes in the list than these, whatever their state. */
  isLongerThan(length: number): boolean {
    return this.database.statement('SELECT 1 FROM koinon_outbox LIMIT 1 OFFSET ?').get(length) !== undefined;
  }

  /** Tells whether the server has refused anything that is still here. */
  hasRejected(): boolean {
    const text = "SELECT 1 FROM koinon_outbox WHERE state = 'rejected' LIMIT 1";
    return this.database.statement(text).get() !== undefined;
  }

  /**
   * As long as this is the same, nothing has happened to what already stands in the list but that it was sent, or confirmed. A
   * file that another process has written may hold anything.
   */
  version(): string {
    return [dataVersion(this.database), this.revision - this.harmless, this.database.rolledBack].join();
  }

  /** Decodes a stored change. @param own the columns of an insert that is its own record, where they have been read already. */
  changeOf(
    { kind: stored, table_name: table, row_id: id, columns, operations }: StoredChange,
    own?: Readonly<Record<string, unknown>>,
  ): Change {
    const kind = stored as Change['kind'];
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

/** Tells whether anything in a file's outbox was sent at some time. */
export function wasSent(database: Database): boolean {
  return database.once('SELECT 1 FROM koinon_outbox WHERE state IS NOT NULL LIMIT 1').length > 0;
}
