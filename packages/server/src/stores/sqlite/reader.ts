import {
  type AnyRow,
  columnsToWire,
  type JsonValue,
  type Position,
  quoteName,
  type RowTimes,
  rowDecoder,
  type Schema,
  type SqlValue,
  type Table,
  withOwnTimes,
} from '@koinon/core';
import type { FeedEntry, FeedPage, KnownReplica, Reach, StoreReader, Tombstone, WantedTombstones } from '../store.ts';
import { newestColumns, rowTimes } from '../times.ts';
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

/** Reads of one SQLite connection; the caller holds a transaction open around them, so that they see one snapshot. */
export class SqliteReader implements StoreReader {
  private readonly database: Prepared;
  private readonly schema: Schema;
  private readonly decoders = new Map<string, (raw: unknown) => AnyRow>();

  constructor(database: Prepared, schema: Schema) {
    this.database = database;
    this.schema = schema;
  }

  async position(): Promise<Position> {
    return this.positionAt(this.end());
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

  async rowsAfter(table: string, after: string | null, limit: number): Promise<FeedEntry[]> {
    const rows = this.database.all<AnyRow>(
      `SELECT ${this.columns(table)} FROM ${quoteName(table)} WHERE id ${after === null ? '>=' : '>'} ? ORDER BY id LIMIT ?`,
      after ?? '',
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

  async changesSince(position: Position, limit: number): Promise<FeedPage> {
    const since = readPosition(position).at;
    // A replaced row and its replacement share a position: a page ends behind all rows of its last one.
    const last = this.database.get<{ position: number }>(
      'SELECT position FROM koinon_stamp WHERE position > ? ORDER BY position LIMIT 1 OFFSET ?',
      since,
      limit - 1,
    );
    const end = this.end();
    const to = last?.position ?? end;
    const stamps = this.database.all<StampRow>(
      'SELECT * FROM koinon_stamp WHERE position > ? AND position <= ? ORDER BY position',
      since,
      to,
    );
    return { entries: stamps.flatMap((stamp) => this.entry(stamp, since)), to: this.positionAt(to), more: to < end };
  }

  async counts(since: Position | null): Promise<Record<string, number>> {
    if (since === null)
      return Object.fromEntries(
        Object.keys(this.schema.tables).map((table) => [
          table,
          this.database.get<{ n: number }>(`SELECT count(*) AS n FROM ${quoteName(table)}`)?.n ?? 0,
        ]),
      );
    const rows = this.database.all<{ name: string; n: number }>(
      // The plus keeps SQLite from going through all stamps in the order of their tables.
      'SELECT table_name AS name, count(*) AS n FROM koinon_stamp WHERE position > ? GROUP BY +table_name',
      readPosition(since).at,
    );
    return Object.fromEntries(rows.map(({ name, n }) => [name, n]));
  }

  async receiptsBetween(from: Position, to: Position): Promise<string[]> {
    const rows = this.database.all<{ id: string }>(
      'SELECT id FROM koinon_receipt WHERE position > ? AND position <= ?',
      readPosition(from).at,
      readPosition(to).at,
    );
    return rows.map(({ id }) => id);
  }

  async applied(ids: readonly string[]): Promise<string[]> {
    return ids.filter(
      (id) => this.database.get("SELECT 1 FROM koinon_receipt WHERE id = ? AND outcome = 'applied'", id) !== undefined,
    );
  }

  row(table: string, id: string): AnyRow | null {
    const raw = this.database.get(`SELECT ${this.columns(table)} FROM ${quoteName(table)} WHERE id = ?`, id);
    return raw === undefined ? null : this.decode(table, raw);
  }

  /** The end of the feed. */
  end(): number {
    return (this.database.get('SELECT position FROM koinon_feed') as { position: number }).position;
  }

  private entry(stamp: StampRow, since: number): FeedEntry[] {
    const { table_name: table, row_id: id, position } = stamp;
    if (!Object.hasOwn(this.schema.tables, table)) return [];
    // Inserted and deleted again since: whoever stands at `since` never had it.
    const definition = this.schema.tables[table] as Table;
    if (stamp.deleted) {
      const editedAt = new Date(stamp.row_edited_at).toISOString();
      const columns = this.imageOf(stamp);
      return stamp.born > since ? [] : [{ kind: 'delete', table, id, position, editedAt, ...(columns && { columns }) }];
    }
    const row = this.row(table, id);
    if (row === null) return [];
    const columns = columnsToWire(definition, row);
    const written = JSON.parse(stamp.columns) as Record<string, ColumnStamp>;
    const timesOf = (sent: readonly string[]) =>
      rowTimes(definition, sent, { row: stamp.row_edited_at, column: (name) => written[name]?.[1] });
    if (stamp.row_position > since)
      return [{ kind: 'insert', table, id, position, columns, ...timesOf(definition.names) }];
    const changed: Record<string, JsonValue> = {};
    for (const [name, value] of Object.entries(columns)) if ((written[name]?.[0] ?? 0) > since) changed[name] = value;
    const names = Object.keys(changed);
    return names.length === 0 ? [] : [{ kind: 'update', table, id, position, columns: changed, ...timesOf(names) }];
  }

  async tombstones({ table, id, before, limit }: WantedTombstones): Promise<Tombstone[]> {
    const stamps = this.database.all<StampRow>(
      `SELECT * FROM koinon_stamp WHERE deleted = 1 AND image IS NOT NULL AND table_name = coalesce(?1, table_name)
         AND row_id = coalesce(?2, row_id) AND position < ?3 ORDER BY position DESC LIMIT ?4`,
      table ?? null,
      id ?? null,
      before ?? Number.MAX_SAFE_INTEGER,
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
  private imageOf({ table_name: table, row_id: id, image }: StampRow): Record<string, JsonValue> | undefined {
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
      return rowTimes(table, table.names, { row: stamp.row_edited_at, column: (column) => written[column]?.[1] });
    };
  }

  private columns(table: string): string {
    return ['id', ...Object.keys((this.schema.tables[table] as Table).columns)].map(quoteName).join(', ');
  }

  private decode(table: string, raw: unknown): AnyRow {
    const decoder = this.decoders.get(table) ?? rowDecoder(this.schema.tables[table] as Table);
    this.decoders.set(table, decoder);
    return decoder(withOwnTimes(this.schema.tables[table] as Table, raw));
  }

  private wire(table: string, raw: unknown): Record<string, JsonValue> {
    return columnsToWire(this.schema.tables[table] as Table, this.decode(table, raw));
  }
}
