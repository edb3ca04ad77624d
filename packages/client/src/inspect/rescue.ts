import { KoinonError, type WireColumns } from '@koinon/core';
import { quoteName } from '@koinon/core/internal';
import { openNodeDriver } from '#node-driver';
import { Database } from '../database/database.ts';
import { type StoredTables, storedTables, wireOf } from '../database/stored-rows.ts';

/** A change that the server has not confirmed, as it could be read. */
export interface RescuedChange {
  /** The transaction that it is part of; changes of one transaction have the same. Null where that could not be read. */
  readonly transaction: string | null;
  readonly state: string | null;
  readonly editedAt: string | null;
  readonly kind: string;
  readonly table: string;
  readonly id: string;
  /** Values as they travel; null where they could not be read. */
  readonly columns: WireColumns | null;
  readonly operations: unknown;
}

/** The rows that could be read of a damaged file. */
export interface Rescue {
  /** The changes that are not confirmed, in order. */
  unsent(): Generator<RescuedChange>;
  /** The rows of every table, as `importRows` takes them line by line. */
  rows(): Generator<{ readonly table: string; readonly row: WireColumns }>;
  /** The parts that could not be read so far, one sentence each. */
  readonly skipped: readonly string[];
  /** Closes the file. */
  close(): void;
}

/**
 * Reads what can be read of a replica file that is damaged, row by row; what cannot be read is skipped, and named. Changes
 * nothing. Works on a sound file as well.
 *
 * @throws KoinonError `storage-damaged` where not even the list of tables can be read, `storage-refused`, `storage-foreign`.
 * @example
 * const rescue = await rescueReplica('phone.db')
 * for (const { table, row } of rescue.rows()) show(table, row)
 * show(rescue.skipped)
 * rescue.close()
 */
export async function rescueReplica(file: string): Promise<Rescue> {
  const database = new Database(await openNodeDriver({ file, readOnly: true }));
  try {
    const tables = database.guarded(() => storedTables(database));
    return new RescueOf(database, tables);
  } catch (error) {
    database.close();
    throw error;
  }
}

type Raw = Readonly<Record<string, unknown>>;

/** Looks for where a table can be read again behind a damaged part, at most: each halves what is left. */
const mostLooks = 64;

class RescueOf implements Rescue {
  readonly skipped: string[] = [];
  private readonly database: Database;
  private readonly tables: StoredTables;

  constructor(database: Database, tables: StoredTables) {
    this.database = database;
    this.tables = tables;
  }

  *unsent(): Generator<RescuedChange> {
    const heads = new Map<unknown, Raw>();
    const changes: Raw[] = [];
    for (const row of this.scan('koinon_outbox'))
      if (row.kind === 'transaction') heads.set(row.place, row);
      else changes.push(row);
    for (const change of changes) {
      const head = heads.get(change.sequence);
      if (head?.state === 'confirmed' || head?.state === 'settled') continue;
      const [table, id] = [String(change.table_name), String(change.row_id)];
      yield {
        transaction: head ? String(head.id ?? head.origin) : null,
        state: head ? String(head.state ?? 'pending') : null,
        editedAt: typeof head?.edited_at === 'number' ? new Date(head.edited_at).toISOString() : null,
        kind: String(change.kind),
        table,
        id,
        // A new row that was not changed since is its own record.
        columns:
          change.columns === null && change.kind === 'insert'
            ? this.row(table, id)
            : (this.parsed(change.columns, `columns of a change of ${table} ${id}`) as WireColumns | null),
        operations: this.parsed(change.operations, `operations of a change of ${table} ${id}`),
      };
    }
  }

  *rows(): Generator<{ readonly table: string; readonly row: WireColumns }> {
    for (const [table, columns] of Object.entries(this.tables))
      for (const raw of this.scan(table)) {
        // A row without its id is of no use to anybody.
        if (typeof raw.id === 'string') yield { table, row: { id: raw.id, ...wireOf(columns, raw) } };
      }
  }

  close(): void {
    this.database.close();
  }

  private row(table: string, id: string): WireColumns | null {
    const columns = Object.hasOwn(this.tables, table) ? this.tables[table] : undefined;
    const read = (): Raw | undefined => {
      const [raw] = this.database.once(`SELECT * FROM ${quoteName(table)} WHERE id = ?`, id);
      return raw as Raw | undefined;
    };
    // The index may be damaged, and the table not.
    const found = columns && (attempted(read) ?? [...this.scan(table)].find((raw) => raw.id === id));
    if (columns && found) return wireOf(columns, found);
    this.skipped.push(`The new row ${table} ${id} could not be read.`);
    return null;
  }

  private parsed(text: unknown, what: string): unknown {
    if (text === null || text === undefined) return null;
    try {
      return JSON.parse(String(text));
    } catch {
      this.skipped.push(`The ${what} could not be read.`);
      return null;
    }
  }

  /** The rows of a table in the order of their place in the file; parts that cannot be read are skipped. */
  private *scan(table: string): Generator<Raw> {
    const name = quoteName(table);
    const last = attempted(() => this.placeOf(`SELECT max(rowid) AS place FROM ${name}`)) ?? Number.MAX_SAFE_INTEGER;
    let from = Number.MIN_SAFE_INTEGER;
    while (from <= last) {
      try {
        // Prepared anew: one that has failed fails once more.
        const rest = this.database.driver.prepare(
          `SELECT rowid AS "rowid", * FROM ${name} WHERE rowid >= ? ORDER BY rowid`,
        );
        for (const raw of rest.iterate(from)) {
          from = Number((raw as Raw).rowid) + 1;
          const { rowid: _, ...row } = raw as Raw;
          yield row;
        }
        return;
      } catch (error) {
        const next = this.readableFrom(name, from, last);
        const where = from === Number.MIN_SAFE_INTEGER ? 'its beginning' : `place ${from}`;
        this.skipped.push(
          `Rows of ${table} from ${where} to ${next === undefined ? 'its end' : `place ${next - 1}`} could not be read: ${(error as Error).message}.`,
        );
        if (next === undefined) return;
        from = next;
      }
    }
  }

  /** The first place behind a damaged part from which on a row can be read; undefined where there is none. */
  private readableFrom(name: string, from: number, last: number): number | undefined {
    const readable = (place: number) =>
      attempted(() => {
        const [raw] = this.database.once(
          `SELECT rowid AS place, * FROM ${name} WHERE rowid >= ? ORDER BY rowid LIMIT 1`,
          place,
        );
        return Number((raw as { place: number }).place);
      });
    if (readable(last) === undefined) return undefined;
    let [bad, good] = [from, last];
    for (let looks = 0; looks < mostLooks && good - bad > 1; looks++) {
      const middle = Math.floor(bad / 2 + good / 2);
      if (readable(middle) === undefined) bad = middle;
      else good = middle;
    }
    return Math.max(good, from + 1);
  }

  private placeOf(sql: string): number {
    const [row] = this.database.once(sql) as { place: number | null }[];
    return row?.place ?? Number.MIN_SAFE_INTEGER;
  }
}

/** The result of work; undefined where it fails. */
function attempted<T>(work: () => T): T | undefined {
  try {
    return work();
  } catch (error) {
    if (error instanceof KoinonError && error.code === 'replica-closed') throw error;
    return undefined;
  }
}
