import { type Change, changeFromWire, changeToWire, type Problem, type Schema, type WireChange } from '@koinon/core';
import type { Database } from '../database/database.ts';

/**
 * Where a transaction of the outbox stands: `pending` may be sent; `attempted` was sent and its outcome is unknown;
 * `confirmed` was applied by the server but the feed has not brought it back yet; `rejected` was refused.
 */
export type TransactionState = 'pending' | 'attempted' | 'confirmed' | 'rejected';

/** A change in the outbox with the transaction it belongs to. */
export interface QueuedChange {
  readonly sequence: number;
  readonly transaction: string;
  readonly state: TransactionState;
  readonly change: Change;
}

/** A transaction of the outbox, with all its changes. */
export interface QueuedTransaction {
  readonly sequence: number;
  readonly id: string;
  readonly state: TransactionState;
  readonly editedAt: string;
  readonly changes: readonly Change[];
  readonly problems: readonly Problem[];
}

interface ChangeRow {
  sequence: number;
  id: string;
  state: TransactionState;
  table_name: string;
  row_id: string;
  kind: Change['kind'];
  columns: string;
  operations: string;
}

/** The durable, ordered list of transactions that the server has not confirmed, or whose effect is not back yet. */
export class Outbox {
  private readonly database: Database;
  private readonly schema: Schema;

  constructor(database: Database, schema: Schema) {
    this.database = database;
    this.schema = schema;
  }

  /** Opens a transaction at the end of the list; says its sequence. */
  begin(id: string, editedAt: string): number {
    const { next } = this.database
      .statement('SELECT coalesce(max(sequence), 0) + 1 AS next FROM koinon_transaction')
      .get() as { next: number };
    this.database.statement("INSERT INTO koinon_transaction VALUES (?, ?, 'pending', ?, NULL)").run(next, id, editedAt);
    return next;
  }

  append(sequence: number, ordinal: number, change: Change): void {
    const wire = changeToWire(this.schema, change);
    this.database
      .statement('INSERT INTO koinon_change VALUES (?, ?, ?, ?, ?, ?, ?)')
      .run(
        sequence,
        ordinal,
        wire.table,
        wire.id,
        wire.kind,
        JSON.stringify(wire.columns ?? {}),
        JSON.stringify(wire.operations ?? {}),
      );
  }

  isEmpty(): boolean {
    return this.database.statement('SELECT 1 FROM koinon_transaction LIMIT 1').get() === undefined;
  }

  /** Changes of one row in order, over all transactions. */
  changesOf(table: string, id: string): QueuedChange[] {
    const rows = this.database
      .statement(
        `SELECT c.*, t.id, t.state FROM koinon_change c JOIN koinon_transaction t USING (sequence)
         WHERE c.row_id = ? AND c.table_name = ? ORDER BY c.sequence, c.ordinal`,
      )
      .all(id, table) as ChangeRow[];
    return rows.map((row) => ({
      sequence: row.sequence,
      transaction: row.id,
      state: row.state,
      change: this.changeOf(row),
    }));
  }

  hasChangesOf(table: string, id: string): boolean {
    return (
      this.database
        .statement('SELECT 1 FROM koinon_change WHERE row_id = ? AND table_name = ? LIMIT 1')
        .get(id, table) !== undefined
    );
  }

  /** Transactions in order, one after the other. */
  *transactions(...states: TransactionState[]): Generator<QueuedTransaction> {
    let last = -1;
    const marks = states.map(() => '?').join(', ');
    for (;;) {
      const head = this.database
        .statement(
          `SELECT * FROM koinon_transaction WHERE sequence > ? AND state IN (${marks}) ORDER BY sequence LIMIT 1`,
        )
        .get(last, ...states) as
        | { sequence: number; id: string; state: TransactionState; edited_at: string; problems: string | null }
        | undefined;
      if (head === undefined) return;
      last = head.sequence;
      const changes = this.database
        .statement('SELECT * FROM koinon_change WHERE sequence = ? ORDER BY ordinal')
        .all(head.sequence) as ChangeRow[];
      yield {
        sequence: head.sequence,
        id: head.id,
        state: head.state,
        editedAt: head.edited_at,
        changes: changes.map((row) => this.changeOf(row)),
        problems: JSON.parse(head.problems ?? '[]') as Problem[],
      };
    }
  }

  /** How many transactions are in a state. */
  count(...states: TransactionState[]): number {
    const marks = states.map(() => '?').join(', ');
    const row = this.database
      .statement(`SELECT count(*) AS count FROM koinon_transaction WHERE state IN (${marks})`)
      .get(...states);
    return (row as { count: number }).count;
  }

  idsOf(state: TransactionState): string[] {
    const rows = this.database
      .statement('SELECT id FROM koinon_transaction WHERE state = ? ORDER BY sequence')
      .all(state);
    return (rows as { id: string }[]).map((row) => row.id);
  }

  setState(id: string, state: TransactionState, problems: readonly Problem[] = []): void {
    this.database
      .statement('UPDATE koinon_transaction SET state = ?, problems = ? WHERE id = ?')
      .run(state, problems.length > 0 ? JSON.stringify(problems) : null, id);
  }

  /** Drops what a transaction did to one row: the feed has brought it back. */
  dropChange(sequence: number, table: string, id: string): void {
    this.database
      .statement('DELETE FROM koinon_change WHERE sequence = ? AND row_id = ? AND table_name = ?')
      .run(sequence, id, table);
  }

  /** The last transaction in the list. */
  last(): { readonly id: string; readonly state: TransactionState } | undefined {
    return this.database.statement('SELECT id, state FROM koinon_transaction ORDER BY sequence DESC LIMIT 1').get() as
      | { id: string; state: TransactionState }
      | undefined;
  }

  /** Gives a transaction whose content changed a new id; one that has nothing left is dropped. */
  renew(sequence: number, id: string): void {
    const left = this.database.statement('SELECT 1 FROM koinon_change WHERE sequence = ? LIMIT 1').get(sequence);
    if (left === undefined) this.database.statement('DELETE FROM koinon_transaction WHERE sequence = ?').run(sequence);
    else
      this.database
        .statement("UPDATE koinon_transaction SET id = ?, state = 'pending', problems = NULL WHERE sequence = ?")
        .run(id, sequence);
  }

  /** The rows a transaction changes, each once. */
  rowsOf(id: string): { readonly table: string; readonly id: string }[] {
    return this.database
      .statement(
        `SELECT DISTINCT table_name AS "table", row_id AS id FROM koinon_change
         WHERE sequence = (SELECT sequence FROM koinon_transaction WHERE id = ?)`,
      )
      .all(id) as { table: string; id: string }[];
  }

  /** Drops a transaction with all its changes. */
  drop(id: string): void {
    this.database
      .statement('DELETE FROM koinon_change WHERE sequence = (SELECT sequence FROM koinon_transaction WHERE id = ?)')
      .run(id);
    this.database.statement('DELETE FROM koinon_transaction WHERE id = ?').run(id);
  }

  private changeOf(row: ChangeRow): Change {
    const wire: WireChange = {
      kind: row.kind,
      table: row.table_name,
      id: row.row_id,
      columns: JSON.parse(row.columns) as NonNullable<WireChange['columns']>,
      operations: JSON.parse(row.operations) as NonNullable<WireChange['operations']>,
    };
    return changeFromWire(this.schema, wire);
  }
}
