import {
  type AnyRow,
  type Column,
  type Condition,
  columnsFromWire,
  columnsToWire,
  conditionSql,
  everything,
  type JsonValue,
  type Position,
  quoteName,
  type RowTimes,
  rowDecoder,
  type Schema,
  type SqlValue,
  type Table,
  toSql,
  wholeRow,
  wireFromSql,
  withOwnTimes,
} from '@koinon/core';
import type {
  Changed,
  FeedPage,
  KnownReplica,
  Reach,
  StoreReader,
  Tombstone,
  WantedTombstones,
  WholeRow,
} from '../store.ts';
import { newestColumns, rowTimes, type StampedTimes } from '../times.ts';
import type { TypedValues } from '../typed-values.ts';
import type { Prepared } from './driver.ts';

/** When and by whom a column was last written: position, edit time in milliseconds, receipt. */
export type ColumnStamp = readonly [position: number, editedAt: number, receipt: string | null];

/** A stamp as it stands in the database. */
export interface StampRow {
  table_name: string;
  row_id: string;
  position: number;
  born: number;
  row_position: number;
  row_edited_at: number;
  row_receipt: string | null;
  deleted: 0 | 1;
  columns: string;
  image: string | null;
  past: string;
}

interface StoredReplica {
  id: string;
  user_id: string | null;
  first_seen: number;
  last_seen: number;
  position: number | null;
  schema_version: number | null;
  rows_down: number;
  rows_up: number;
  dropped: 0 | 1;
}

/** A position in the feed: how far it had come, in which epoch; one that a person names has no epoch. */
export function readPosition(position: Position): { readonly at: number; readonly epoch: string | undefined } {
  const [at, epoch] = position.split(' ');
  return { at: Number(at), epoch };
}

/** How the app's tables are read. */
export interface TableReading {
  /** The quoted name by which a table is read. */
  readonly relation: (table: string) => string;
  /** The columns that nothing holds to their types, by table. */
  readonly unenforced: ReadonlyMap<string, ReadonlySet<string>>;
  readonly typed: TypedValues;
}

/** Reads of one SQLite connection; the caller holds a transaction open around them, so that they see one snapshot. */
export class SqliteReader implements StoreReader {
  private readonly database: Prepared;
  private readonly schema: Schema;
  private readonly tables: TableReading;
  private readonly decoders = new Map<string, (raw: unknown) => AnyRow>();
  private readonly fieldLists = new Map<string, string>();

  constructor(database: Prepared, schema: Schema, tables: TableReading) {
    this.tables = tables;
    this.database = database;
    this.schema = schema;
  }

  async position(): Promise<Position> {
    const { position, epoch } = this.database.get(
      'SELECT position, (SELECT id FROM koinon_epoch ORDER BY place DESC LIMIT 1) AS epoch FROM koinon_feed',
    ) as { position: number; epoch: string };
    return `${position} ${epoch}`;
  }

  async reach(position: Position): Promise<Reach> {
    const { at, epoch } = readPosition(position);
    if (!Number.isSafeInteger(at) || at < 0 || at > this.end()) return 'lost';
    const { horizon } = this.database.get<{ horizon: number }>('SELECT position AS horizon FROM koinon_horizon') ?? {
      horizon: 0,
    };
    if (at < horizon) return 'forgotten';
    if (epoch === undefined) return 'known';
    const given = this.database.get<{ place: number }>('SELECT place FROM koinon_epoch WHERE id = ?', epoch);
    if (given === undefined) return 'lost';
    const next = this.database.get<{ position: number }>(
      'SELECT position FROM koinon_epoch WHERE place > ? ORDER BY place LIMIT 1',
      given.place,
    );
    return next !== undefined && at > next.position ? 'lost' : 'known';
  }

  /** A position of the epoch that the feed is in. */
  private positionAt(at: number): Position {
    const epoch = this.database.get<{ id: string }>('SELECT id FROM koinon_epoch ORDER BY place DESC LIMIT 1');
    return `${at} ${epoch?.id}`;
  }

  async replicas(): Promise<KnownReplica[]> {
    const rows = this.database.all<StoredReplica>(
      'SELECT r.*, o.user_id FROM koinon_replica r LEFT JOIN koinon_owner o ON o.replica = r.id ORDER BY last_seen DESC, id',
    );
    return rows.map((row) => ({
      id: row.id,
      user: row.user_id,
      firstSeen: new Date(row.first_seen).toISOString(),
      lastSeen: new Date(row.last_seen).toISOString(),
      position: row.position,
      schemaVersion: row.schema_version,
      rowsDown: row.rows_down,
      rowsUp: row.rows_up,
      isDropped: row.dropped === 1,
    }));
  }

  async droppedReplicas(): Promise<string[]> {
    return this.database.all<{ id: string }>('SELECT id FROM koinon_replica WHERE dropped = 1').map(({ id }) => id);
  }

  async rowsAfter(table: string, after: string | null, limit: number, where = everything): Promise<WholeRow[]> {
    const { text, values } = this.condition(table, where);
    const rows = this.database.all<AnyRow>(
      `SELECT ${this.fields(table)} FROM ${this.tables.relation(table)} WHERE id ${after === null ? '>=' : '>'} ? AND ${text} ORDER BY id LIMIT ?`,
      after ?? '',
      ...values,
      limit,
    );
    const position = this.end();
    if (newestColumns(this.schema.tables[table] as Table).length === 0)
      return rows.map((raw) => ({ kind: 'insert', table, id: raw.id, position, columns: this.wire(table, raw) }));
    const times = this.newestTimes(table);
    return rows.map((raw) => ({
      kind: 'insert',
      table,
      id: raw.id,
      position,
      columns: this.wire(table, raw),
      ...times(raw.id),
    }));
  }

  async changesSince(position: Position, limit: number, from = position): Promise<FeedPage> {
    const known = readPosition(position).at;
    const since = readPosition(from).at;
    // A replaced row and its replacement share a position: a page ends behind all rows of its last one.
    const last = this.database.get<{ position: number }>(
      'SELECT position FROM koinon_stamp WHERE position > ? ORDER BY position LIMIT 1 OFFSET ?',
      known,
      limit - 1,
    );
    const end = this.end();
    const to = last?.position ?? end;
    const stamps = this.database.all<StampRow>(
      'SELECT * FROM koinon_stamp WHERE position > ? AND position <= ? ORDER BY position',
      known,
      to,
    );
    const changes = stamps.flatMap((stamp) => this.changed(stamp, known, since));
    return { changes, to: this.positionAt(to), more: to < end };
  }

  async countRows(table: string, where = everything): Promise<number> {
    const { text, values } = this.condition(table, where);
    const sql = `SELECT count(*) AS n FROM ${this.tables.relation(table)} WHERE ${text}`;
    return (this.database.get(sql, ...values) as { n: number }).n;
  }

  async rowsWhere(table: string, where: Condition): Promise<AnyRow[]> {
    const { text, values } = this.condition(table, where);
    const rows = this.database.all(
      `SELECT ${this.fields(table)} FROM ${this.tables.relation(table)} WHERE ${text} ORDER BY id`,
      ...values,
    );
    return rows.map((raw) => this.decode(table, raw));
  }

  async remembersSince(position: Position, tables: readonly string[]): Promise<boolean> {
    const { at } = readPosition(position);
    return tables.every((table) => {
      const noted = this.database.get<{ position: number }>(
        'SELECT position FROM koinon_filterable WHERE table_name = ?',
        table,
      );
      return noted === undefined || noted.position <= at;
    });
  }

  async countChanges(since: Position): Promise<Record<string, number>> {
    const rows = this.database.all<{ name: string; n: number }>(
      // The plus keeps SQLite from going through all stamps in the order of their tables.
      'SELECT table_name AS name, count(*) AS n FROM koinon_stamp WHERE position > ? GROUP BY +table_name',
      readPosition(since).at,
    );
    return Object.fromEntries(rows.map(({ name, n }) => [name, n]));
  }

  async receiptsBetween(from: Position, to: Position): Promise<{ id: string; replica: string | null }[]> {
    return this.database.all<{ id: string; replica: string | null }>(
      'SELECT id, replica FROM koinon_receipt WHERE position > ? AND position <= ?',
      readPosition(from).at,
      readPosition(to).at,
    );
  }

  async applied(ids: readonly string[], user?: string): Promise<string[]> {
    const sql =
      "SELECT 1 FROM koinon_receipt WHERE id = ?1 AND outcome = 'applied' AND (?2 IS NULL OR coalesce(user_id, ?2) = ?2)";
    return ids.filter((id) => this.database.get(sql, id, user ?? null) !== undefined);
  }

  row(table: string, id: string): AnyRow | null {
    const raw = this.database.get(`SELECT ${this.fields(table)} FROM ${this.tables.relation(table)} WHERE id = ?`, id);
    return raw === undefined ? null : this.decode(table, raw);
  }

  /** The end of the feed. */
  end(): number {
    return (this.database.get('SELECT position FROM koinon_feed') as { position: number }).position;
  }

  /** The end of a condition's SQL in this table. */
  private condition(table: string, where: Condition): { readonly text: string; readonly values: readonly SqlValue[] } {
    const values: SqlValue[] = [];
    return { text: conditionSql(this.schema.tables[table] as Table, where, values), values };
  }

  private changed(stamp: StampRow, known: number, since: number): Changed[] {
    const { table_name: table, row_id: id, position } = stamp;
    if (!Object.hasOwn(this.schema.tables, table)) return [];
    const definition = this.schema.tables[table] as Table;
    const row = stamp.deleted ? null : this.row(table, id);
    if (row === null && !stamp.deleted) return [];
    const written = JSON.parse(stamp.columns) as Record<string, ColumnStamp>;
    return [
      {
        table,
        id,
        position,
        row: row && columnsToWire(definition, row),
        image: stamp.deleted ? this.imageOf(stamp) : undefined,
        isInserted: stamp.row_position > since,
        isNew: stamp.born > known,
        changed: definition.names.filter((name) => (written[name]?.[0] ?? 0) > since),
        past: this.pastOf(definition, stamp, since),
        times: this.timesOf(stamp, written),
      },
    ];
  }

  private timesOf(stamp: StampRow, written: Readonly<Record<string, ColumnStamp>>): StampedTimes {
    return {
      row: stamp.row_edited_at,
      column: (name) => written[name]?.[1],
      by: (name) => this.userOf(name === null ? stamp.row_receipt : (written[name]?.[2] ?? null)),
    };
  }

  /** The user who sent a transaction; null for other programs, and where the server knows no users. */
  private userOf(receipt: string | null): string | null {
    if (receipt === null) return null;
    const found = this.database.get<{ user_id: string | null }>(
      'SELECT user_id FROM koinon_receipt WHERE id = ?',
      receipt,
    );
    return found?.user_id ?? null;
  }

  /** What the filterable columns of a row held after a position, and hold no more. */
  private pastOf(table: Table, { past }: StampRow, since: number): Record<string, JsonValue>[] {
    if (past === '{}') return [];
    return Object.entries(JSON.parse(past) as Record<string, number>).flatMap(([values, left]) => {
      if (left <= since) return [];
      const held = JSON.parse(values) as Record<string, JsonValue>;
      for (const [name, value] of Object.entries(held))
        if (table.columns[name]?.type === 'boolean' && value !== null) held[name] = value === 1;
      return [held];
    });
  }

  async tombstones({ table, id, before, limit }: WantedTombstones): Promise<Tombstone[]> {
    const stamps = this.database.all<StampRow>(
      `SELECT * FROM koinon_stamp WHERE deleted = 1 AND image IS NOT NULL AND table_name = coalesce(?1, table_name)
         AND row_id = coalesce(?2, row_id) AND (position < ?3 OR (position = ?3 AND (table_name, row_id) > (?4, ?5)))
         ORDER BY position DESC, table_name, row_id LIMIT ?6`,
      table ?? null,
      id ?? null,
      before?.position ?? Number.MAX_SAFE_INTEGER,
      before?.table ?? '',
      before?.id ?? '',
      limit,
    );
    return stamps.flatMap((stamp) => {
      const { table_name, row_id, position, row_edited_at } = stamp;
      const columns = Object.hasOwn(this.schema.tables, table_name) ? this.imageOf(stamp) : undefined;
      const deletedAt = new Date(row_edited_at).toISOString();
      return columns ? [{ table: table_name, id: row_id, position, deletedAt, columns }] : [];
    });
  }

  /** What a deleted row held last, as JSON carries it. */
  imageOf({ table_name: table, row_id: id, image }: StampRow): Record<string, JsonValue> | undefined {
    if (image === null) return undefined;
    const raw = JSON.parse(image) as Record<string, SqlValue>;
    // The trigger writes bytes as hexadecimal digits, and reals as text with all of theirs.
    for (const [name, { type }] of (this.schema.tables[table] as Table).entries) {
      const value = raw[name];
      if (type === 'bytes' && typeof value === 'string') raw[name] = Buffer.from(value, 'hex');
      else if (type === 'real' && typeof value === 'string') raw[name] = Number(value);
    }
    const whole = Object.fromEntries(
      (this.schema.tables[table] as Table).names.map((name) => [name, raw[name] ?? null]),
    );
    return this.wire(table, { id, ...whole });
  }

  /** The same as a row. */
  lastOf(stamp: StampRow): AnyRow | undefined {
    const columns = this.imageOf(stamp);
    const table = this.schema.tables[stamp.table_name] as Table;
    return columns && wholeRow(table, stamp.row_id, columnsFromWire(table, columns));
  }

  /** The edit times of rows whose table has columns that are merged by them. */
  private newestTimes(name: string): (id: string) => RowTimes {
    const table = this.schema.tables[name] as Table;
    return (id) => {
      const stamp = this.database.get<StampRow>(
        'SELECT * FROM koinon_stamp WHERE table_name = ? AND row_id = ?',
        name,
        id,
      );
      if (stamp === undefined) return {};
      const written = JSON.parse(stamp.columns) as Record<string, ColumnStamp>;
      return rowTimes(table, table.names, this.timesOf(stamp, written));
    };
  }

  /** What is selected of a row, `id` first. */
  private fields(table: string): string {
    const known = this.fieldLists.get(table);
    if (known) return known;
    const unenforced = this.tables.unenforced.get(table);
    const fields = (this.schema.tables[table] as Table).entries.map(([name, column]) => {
      const quoted = quoteName(name);
      return unenforced?.has(name) ? `${readableSql(column, quoted)} AS ${quoted}` : quoted;
    });
    const made = ['id', ...fields].join(', ');
    this.fieldLists.set(table, made);
    return made;
  }

  private decode(table: string, raw: unknown): AnyRow {
    const decoder = this.decoders.get(table) ?? rowDecoder(this.schema.tables[table] as Table);
    this.decoders.set(table, decoder);
    return decoder(this.typed(table, raw));
  }

  private wire(table: string, raw: unknown): Record<string, JsonValue> {
    const definition = this.schema.tables[table] as Table;
    return wireFromSql(definition, this.typed(table, raw));
  }

  /** A row as it was selected, with values of its columns' types. */
  private typed(table: string, raw: unknown): Record<string, unknown> {
    const definition = this.schema.tables[table] as Table;
    const row = withOwnTimes(definition, raw) as Record<string, unknown>;
    for (const name of this.tables.unenforced.get(table) ?? []) {
      const column = definition.columns[name] as Column;
      const found = { table, id: row.id as string, column: name };
      row[name] = toSql(column, this.tables.typed.read(found, column, storedValue(column, row[name])));
    }
    return row;
  }
}

/** A column that may hold anything, selected so that no driver stumbles over it: whole numbers may be too large for JavaScript. */
function readableSql({ type }: Column, name: string): string {
  const whole = (read: string) => `CASE typeof(${name}) WHEN 'integer' THEN ${read} ELSE ${name} END`;
  if (type === 'real') return whole(`CAST(${name} AS REAL)`);
  if (type === 'boolean') return whole(`${name} <> 0`);
  if (type !== 'integer' && type !== 'counter') return whole(`CAST(${name} AS TEXT)`);
  return whole(`iif(${name} BETWEEN -9007199254740991 AND 9007199254740991, ${name}, CAST(${name} AS TEXT))`);
}

/** What is stored in such a column, as a value; undefined where it cannot be one. */
function storedValue(column: Column, stored: unknown): unknown {
  if (stored === null || stored === undefined) return null;
  switch (column.type) {
    case 'boolean':
      return typeof stored === 'number' ? stored !== 0 : undefined;
    case 'json':
    case 'set':
      try {
        return JSON.parse(stored as string) as unknown;
      } catch {
        return undefined;
      }
    case 'integer':
    case 'counter':
    case 'real':
    case 'bytes':
      return stored;
    default:
      // The id of a row whose key is a number, say.
      return typeof stored === 'number' ? String(stored) : stored;
  }
}
