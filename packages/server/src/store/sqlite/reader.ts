import type {
  ActionResult,
  AnyRow,
  AppliedOrigin,
  AssignedKey,
  Condition,
  JsonValue,
  Position,
  RowKey,
  RowTimes,
  Schema,
  SqlValue,
  Table,
} from '@koinon/core';
import { columnsToWire, conditionSql, everything, quoteText, rowKey, type SummaryPlan } from '@koinon/core/internal';
import type { CursorKey } from '../../cursor/keys.ts';
import type { QueryRoom, Selection } from '../query.ts';
import {
  type AssignedKeysOf,
  byTable,
  type Changed,
  type DatabaseFacts,
  type FeedPage,
  heldBytes,
  type KnownReplica,
  mostUnfollowed,
  type OpenEffect,
  type Reach,
  type ReplicaOrigins,
  type Room,
  type RowPage,
  type RowText,
  type StoreReader,
  type Tombstone,
  type TombstoneKeys,
  type UnfollowedRows,
  type WantedTombstones,
} from '../store.ts';
import { newestColumns, rowTimes, type StampedTimes } from '../times.ts';
import { openEffectsOf, resultsOf } from './action-tables.ts';
import type { Prepared } from './driver.ts';
import { storedKeys } from './identity.ts';
import { Queries } from './query.ts';
import { AppRows, type TableReading } from './rows.ts';

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

/** Rows that are read at once with their stamps; fewer than these are read one by one. */
const [rowsAhead, worthReadingAtOnce] = [100, 4];

/** The members that are read of a stamp at once. */
const stampFields =
  'table_name, row_id, position, born, row_position, row_edited_at, row_receipt, deleted, columns, past';

interface StoredReplica {
  id: string;
  user_id: string | null;
  first_seen: number;
  last_seen: number;
  position: number | null;
  schema_version: number | null;
  rows_down: number;
  rows_up: number;
  blocked: 0 | 1;
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
  readonly rows: AppRows;

  private queries: Queries | undefined;

  constructor(database: Prepared, schema: Schema, tables: TableReading) {
    this.rows = new AppRows(database, schema, tables);
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
    return epoch === undefined ? String(at) : `${at} ${epoch.id}`;
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
      isBlocked: row.blocked === 1,
    }));
  }

  async cursorKeys(): Promise<CursorKey[]> {
    return storedKeys(this.database);
  }

  async blockedReplicas(): Promise<string[]> {
    return this.database.all<{ id: string }>('SELECT id FROM koinon_replica WHERE blocked = 1').map(({ id }) => id);
  }

  async rowsAfter(table: string, after: string | null, room: Room, where = everything): Promise<RowPage> {
    const position = this.end();
    const hasTimes = newestColumns(this.schema.tables[table] as Table).length > 0;
    const times = hasTimes ? this.newestTimes(table) : undefined;
    const { rows, ...rest } = this.rows.after(table, after, room, where);
    return {
      rows: rows.map(({ id, columns }) => ({ kind: 'insert', table, id, position, columns, ...times?.(id) })),
      ...rest,
    };
  }

  async rowTextAfter(
    table: string,
    columns: readonly string[],
    after: string | null,
    room: Room,
    where = everything,
  ): Promise<RowText | undefined> {
    // The times of edits of such columns come with the rows.
    if (newestColumns(this.schema.tables[table] as Table).length > 0) return undefined;
    return this.rows.textAfter(table, columns, after, room, where);
  }

  async unmoved(table: string, ids: readonly string[], position: Position): Promise<ReadonlySet<string>> {
    const { at } = readPosition(position);
    const stamps = this.database.all<Pick<StampRow, 'row_id' | 'row_position' | 'past'>>(
      `SELECT row_id, row_position, past FROM koinon_stamp WHERE table_name = ? AND row_id IN (SELECT value FROM json_each(?))`,
      table,
      JSON.stringify(ids),
    );
    return new Set(stamps.flatMap((stamp) => (isUnmoved(stamp, at) ? [stamp.row_id] : [])));
  }

  async changesSince(position: Position, room: Room, from = position): Promise<FeedPage> {
    const known = readPosition(position).at;
    const since = readPosition(from).at;
    // A replaced row and its replacement share a position: a page ends behind all rows of its last one.
    const last = this.database.get<{ position: number }>(
      'SELECT position FROM koinon_stamp WHERE position > ? ORDER BY position LIMIT 1 OFFSET ?',
      known,
      room.rows - 1,
    );
    const end = this.end();
    let to = last?.position ?? end;
    const stamps = this.database.all<Omit<StampRow, 'image'>>(
      `SELECT ${stampFields} FROM koinon_stamp WHERE position > ? AND position <= ? ORDER BY position`,
      known,
      to,
    );
    const changes: Changed[] = [];
    let bytes = 0;
    let ahead = new Map<string, AnyRow>();
    for (const [i, stamp] of stamps.entries()) {
      if (i % rowsAhead === 0) ahead = this.rowsAhead(stamps.slice(i, i + rowsAhead), room.bytes);
      const before = stamps[i - 1];
      if (before && bytes >= room.bytes && before.position < stamp.position) {
        to = before.position;
        break;
      }
      // The values of a deleted row may be large: they are read when its turn comes.
      const image = stamp.deleted ? this.imageOf(stamp) : null;
      const row = ahead.get(rowKey({ table: stamp.table_name, id: stamp.row_id }));
      for (const change of this.changed({ ...stamp, image }, known, since, row)) {
        bytes += heldBytes(change.row ?? change.image ?? {});
        changes.push(change);
      }
    }
    return { changes, looked: changes.length, bytes, to: this.positionAt(to), more: to < end };
  }

  private imageOf({ table_name: table, row_id: id }: Pick<StampRow, 'table_name' | 'row_id'>): string | null {
    const read = 'SELECT image FROM koinon_stamp WHERE table_name = ? AND row_id = ?';
    return this.database.get<Pick<StampRow, 'image'>>(read, table, id)?.image ?? null;
  }

  async countRows(table: string, where = everything): Promise<number> {
    return this.rows.count(table, where);
  }

  async unfollowedRows(table: string, sample?: number): Promise<UnfollowedRows> {
    const relation = this.rows.relation(table);
    const some = (of: string, by: string) =>
      sample === undefined ? of : `(SELECT * FROM ${of} ORDER BY ${by} DESC LIMIT ${sample})`;
    const stamp = 'FROM koinon_stamp s WHERE s.table_name = ?1 AND s.deleted = 0';
    const stamps = some('(SELECT * FROM koinon_stamp WHERE table_name = ?1 AND deleted = 0)', 'row_id');
    const found = this.database.get<UnfollowedRows>(
      `SELECT (SELECT count(*) FROM (SELECT 1 FROM ${some(relation, 'id')} r WHERE NOT EXISTS (SELECT 1 ${stamp} AND s.row_id = r.id) LIMIT ?2)) AS unknown,
         (SELECT count(*) FROM (SELECT 1 FROM ${stamps} s WHERE NOT EXISTS (SELECT 1 FROM ${relation} r WHERE r.id = s.row_id) LIMIT ?2)) AS gone`,
      table,
      mostUnfollowed,
    );
    return { unknown: found?.unknown ?? 0, gone: found?.gone ?? 0 };
  }

  async facts(): Promise<DatabaseFacts> {
    const found = this.database.get<Omit<DatabaseFacts, 'lackingRights' | 'keptSince'> & { at: number }>(
      `SELECT 'SQLite ' || sqlite_version() AS version, CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER) AS clock,
         (SELECT count(*) FROM koinon_stamp WHERE deleted = 0) AS rows, (SELECT count(*) FROM koinon_stamp WHERE deleted = 1) AS deletions,
         (SELECT at FROM koinon_horizon) AS at`,
    );
    const { at, ...facts } = found as NonNullable<typeof found>;
    return { ...facts, keptSince: at === 0 ? null : at, lackingRights: [] };
  }

  /** The queries of this connection: made when the first is asked. */
  private asked(): Queries {
    this.queries ??= new Queries(this.database, this.schema, this.rows);
    return this.queries;
  }

  async select(selection: Selection, room: QueryRoom): Promise<readonly AnyRow[]> {
    return this.asked().select(selection, room);
  }

  async summarize(plan: SummaryPlan, room: QueryRoom): Promise<readonly Readonly<Record<string, unknown>>[]> {
    return this.asked().summarize(plan, room);
  }

  async rowsWhere(table: string, where: Condition): Promise<AnyRow[]> {
    return this.rows.where(table, where);
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
    if (ids.length === 0) return [];
    const found = this.database.all<{ id: string }>(
      `SELECT id FROM koinon_receipt WHERE id IN (SELECT value FROM json_each(?1)) AND outcome = 'applied'
         AND (?2 IS NULL OR coalesce(user_id, ?2) = ?2)`,
      JSON.stringify(ids),
      user ?? null,
    );
    const applied = new Set(found.map(({ id }) => id));
    return ids.filter((id) => applied.has(id));
  }

  async appliedOrigins({ user, origins }: Omit<ReplicaOrigins, 'replica'>): Promise<AppliedOrigin[]> {
    const wanted = 'SELECT value FROM json_each(?2)';
    const isOwn = '(?1 IS NULL OR coalesce(r.user_id, ?1) = ?1)';
    return this.database.all<AppliedOrigin>(
      `SELECT r.id AS origin, r.id FROM koinon_receipt r WHERE r.id IN (${wanted}) AND r.outcome = 'applied' AND ${isOwn}
       UNION SELECT o.origin, r.id FROM koinon_origin o JOIN koinon_receipt r ON r.id = o.receipt WHERE o.origin IN (${wanted}) AND ${isOwn}`,
      user ?? null,
      JSON.stringify(origins),
    );
  }

  async assignedKeys(of: AssignedKeysOf): Promise<AssignedKey[]> {
    const [column, named] = 'receipts' in of ? ['receipt', of.receipts] : ['provisional', of.provisional];
    return this.database.all<AssignedKey>(
      `SELECT table_name AS "table", provisional, row_id AS id FROM koinon_assigned_key
       WHERE ${column} IN (SELECT value FROM json_each(?)) AND user_id = ?`,
      JSON.stringify(named),
      of.user ?? '',
    );
  }

  async results(receipts: readonly string[]): Promise<ActionResult[]> {
    return resultsOf(this.database, receipts);
  }

  async openEffects(most: number): Promise<OpenEffect[]> {
    return openEffectsOf(this.database, most);
  }

  async uploads(replica: string): Promise<number> {
    const found = this.database.get<{ count: number }>('SELECT count FROM koinon_upload WHERE replica = ?', replica);
    return found?.count ?? 0;
  }

  async sentBy(replica: string, rows: readonly RowKey[]): Promise<Map<string, (column: string) => boolean>> {
    const read = 'SELECT row_receipt, columns FROM koinon_stamp WHERE table_name = ? AND row_id = ?';
    const isIts = (receipt: string | null | undefined) =>
      this.database.get('SELECT 1 FROM koinon_receipt WHERE id = ? AND replica = ?', receipt ?? null, replica) !==
      undefined;
    return new Map(
      rows.flatMap(({ table, id }): [string, (column: string) => boolean][] => {
        const stamp = this.database.get<Pick<StampRow, 'row_receipt' | 'columns'>>(read, table, id);
        if (stamp === undefined) return [];
        const written = JSON.parse(stamp.columns) as Record<string, ColumnStamp>;
        const writer = (column: string) => (written[column] ? written[column][2] : stamp.row_receipt);
        return [[rowKey({ table, id }), (column) => isIts(writer(column))]];
      }),
    );
  }

  /** The end of the feed. */
  end(): number {
    return (this.database.get('SELECT position FROM koinon_feed') as { position: number }).position;
  }

  /** The rows of some stamps that are read at once: those of tables where they hold no more than so many bytes together. */
  private rowsAhead(
    stamps: readonly Pick<StampRow, 'table_name' | 'row_id' | 'deleted'>[],
    most: number,
  ): Map<string, AnyRow> {
    const found = new Map<string, AnyRow>();
    const alive = stamps.flatMap(({ table_name: table, row_id: id, deleted }) =>
      !deleted && Object.hasOwn(this.schema.tables, table) ? [{ table, id }] : [],
    );
    for (const [table, ids] of byTable(alive)) {
      if (ids.length < worthReadingAtOnce || this.rows.bytesOf(table, ids) > most) continue;
      for (const row of this.rows.byIds(table, ids)) found.set(rowKey({ table, id: row.id }), row);
    }
    return found;
  }

  /** @param ahead the row, where it has been read already. */
  private changed(stamp: StampRow, known: number, since: number, ahead?: AnyRow): Changed[] {
    const { table_name: table, row_id: id, position } = stamp;
    if (!Object.hasOwn(this.schema.tables, table)) return [];
    const definition = this.schema.tables[table] as Table;
    const row = stamp.deleted ? null : (ahead ?? this.rows.byId(table, id));
    if (row === null && !stamp.deleted) return [];
    const written = JSON.parse(stamp.columns) as Record<string, ColumnStamp>;
    return [
      {
        table,
        id,
        position,
        row: row && columnsToWire(definition, row),
        image: stamp.deleted ? this.rows.imageOf(stamp) : undefined,
        isInserted: stamp.row_position > since,
        isNew: stamp.born > known,
        wasMadeBy: (position) => stamp.born <= readPosition(position).at,
        isUnmovedSince: (position) => isUnmoved(stamp, readPosition(position).at),
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

  /** The values that the filterable columns of a row held after a position, and hold no more. */
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

  async tombstoneKeys({ before, scope, limit }: WantedTombstones): Promise<TombstoneKeys> {
    const values: SqlValue[] = [];
    const cases = [...scope].map(([name, where]) => {
      const definition = this.schema.tables[name] as Table;
      const fits = conditionSql(definition, where, values, (column) => imageSql(definition, column));
      return `WHEN ${quoteText(name)} THEN ${fits}`;
    });
    const rows = this.database.all<Pick<StampRow, 'table_name' | 'row_id' | 'position'> & { fits: 0 | 1 | null }>(
      `SELECT table_name, row_id, position, ${cases.length === 0 ? '0' : `CASE table_name ${cases.join(' ')} END`} AS fits
       FROM (SELECT * FROM koinon_stamp WHERE deleted = 1 AND position <= ?
         AND (position < ? OR (table_name, row_id) > (?, ?))
         ORDER BY position DESC, table_name, row_id LIMIT ?)`,
      ...values,
      before?.position ?? Number.MAX_SAFE_INTEGER,
      before?.position ?? Number.MAX_SAFE_INTEGER,
      before?.table ?? '',
      before?.id ?? '',
      limit,
    );
    const keys = rows.map(({ table_name, row_id, position }) => ({ table: table_name, id: row_id, position }));
    return {
      found: keys.filter((_key, i) => rows[i]?.fits === 1),
      last: keys.length < limit ? undefined : keys.at(-1),
    };
  }

  async tombstones(keys: readonly RowKey[]): Promise<Tombstone[]> {
    return keys.flatMap(({ table, id }) => this.tombstone(table, id) ?? []);
  }

  /** The values that a deleted row held last. */
  tombstone(table: string, id: string): Tombstone | undefined {
    const stamp = this.database.get<StampRow>(
      'SELECT * FROM koinon_stamp WHERE table_name = ? AND row_id = ? AND deleted = 1',
      table,
      id,
    );
    const columns = stamp && Object.hasOwn(this.schema.tables, table) ? this.rows.imageOf(stamp) : undefined;
    if (stamp === undefined || columns === undefined) return undefined;
    return { table, id, position: stamp.position, deletedAt: new Date(stamp.row_edited_at).toISOString(), columns };
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
}

/** Tells whether a row was there at a position with the filterable values that it has now. */
function isUnmoved({ row_position, past }: Pick<StampRow, 'row_position' | 'past'>, at: number): boolean {
  if (row_position > at) return false;
  return past === '{}' || Object.values(JSON.parse(past) as Record<string, number>).every((left) => left <= at);
}

/** A column in the image of a deleted row, as it was in its table: that is JSON, with real numbers as text. */
function imageSql(table: Table, name: string): string {
  if (name === 'id') return 'row_id';
  const member = `json_extract(image, ${quoteText(`$."${name}"`)})`;
  const type = table.columns[name]?.type;
  if (type === 'real') return `CAST(${member} AS REAL)`;
  if (type === 'boolean') return `(${member} <> 0)`;
  return type === 'integer' ? member : `CAST(${member} AS TEXT)`;
}
