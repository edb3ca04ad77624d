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
  Table,
} from '@koinon/core';
import { everything, quoteText, rowKey, type SummaryPlan } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import type { CursorKey } from '../../cursor/keys.ts';
import type { CheapStatements, QueryRoom, Selection } from '../query.ts';
import {
  type AssignedKeysOf,
  byTable,
  type Changed,
  type DatabaseFacts,
  type FeedPage,
  type KnownReplica,
  mostLooked,
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
  type Wanted,
  type WantedTombstones,
  type WholeRow,
} from '../store.ts';
import { newestColumns, rowTimes, type StampedTimes } from '../times.ts';
import { together } from '../together.ts';
import type { TypedValues } from '../typed-values.ts';
import { openEffectsOf, resultsOf } from './action-tables.ts';
import { aliveSql } from './columns.ts';
import { storedKeys } from './identity.ts';
import { idSql, keySql } from './key.ts';
import type { AppTable } from './layout.ts';
import { selectRows, summarize } from './query.ts';
import { AppRows } from './rows.ts';
import { readPosition, Snapshot, writePosition } from './snapshot.ts';

/** When and by whom a column was last written: position, edit time in milliseconds, receipt. */
export type ColumnStamp = readonly [position: number, editedAt: number, receipt: string | null];

/** How far the feed reaches back, and its end. */
export interface Extent {
  readonly horizon: string;
  readonly now: string;
}

/** Reads an {@link Extent}. */
export const extentSql = 'SELECT position::text AS horizon, pg_current_snapshot()::text AS now FROM koinon.horizon';

/** How a position stands to a feed of this extent. */
export function reachOf(position: Position, { horizon, now }: Extent): Reach {
  const known = readPosition(position)?.known;
  if (known === undefined || known.xmax > (Snapshot.parse(now) as Snapshot).xmax) return 'lost';
  // A deletion before the horizon may be gone: whoever does not know all that came before it cannot go on.
  return known.xmin < BigInt(horizon) ? 'forgotten' : 'known';
}

/** A stamp as it is read. */
export interface StampRow {
  table_name: string;
  row_id: string;
  position: string;
  born: string;
  row_position: string;
  row_edited_at: string;
  row_receipt: string | null;
  deleted: boolean;
  columns: Record<string, ColumnStamp>;
  past: Record<string, number>;
}

/** The members that are read of a stamp. */
export const stampFields =
  'table_name, row_id, position::text, born::text, row_position::text, row_edited_at, row_receipt, deleted, columns, past';

const isOwn = '($1::text IS NULL OR coalesce(r.user_id, $1) = $1)';

/** Those of some origins that were applied: the user, and the origins. */
export const appliedOriginsSql = `SELECT r.id AS origin, r.id FROM koinon.receipt r WHERE r.id = ANY($2::text[]) AND r.outcome = 'applied' AND ${isOwn}
  UNION SELECT o.origin, r.id FROM koinon.origin o JOIN koinon.receipt r ON r.id = o.receipt WHERE o.origin = ANY($2::text[]) AND ${isOwn}`;

interface StoredReplica {
  id: string;
  user_id: string | null;
  first_seen: string;
  last_seen: string;
  position: string | null;
  schema_version: number | null;
  rows_down: string;
  rows_up: string;
  blocked: boolean;
}

/** Reads of one connection; the caller holds a transaction open around them, so that they see one snapshot. */
export class PostgresReader implements StoreReader {
  readonly client: ClientBase;
  private readonly tables: ReadonlyMap<string, AppTable>;
  readonly rows: AppRows;
  readonly cheap: CheapStatements;
  private readonly known: Snapshot | undefined;

  /**
   * @param cheap statements of the whole store.
   * @param known the snapshot of the transaction, where it is known already; on a standby it is another than the database says.
   */
  constructor(
    client: ClientBase,
    tables: ReadonlyMap<string, AppTable>,
    typed: TypedValues,
    cheap: CheapStatements,
    known?: Snapshot,
  ) {
    this.known = known;
    this.cheap = cheap;
    this.client = client;
    this.tables = tables;
    this.rows = new AppRows(client, tables, typed);
  }

  async position(): Promise<Position> {
    return String(await this.snapshot());
  }

  async reach(position: Position): Promise<Reach> {
    const { horizon, now } = await this.one<Extent>(extentSql);
    return reachOf(position, { horizon, now: this.known === undefined ? now : String(this.known) });
  }

  async replicas(): Promise<KnownReplica[]> {
    const { rows } = await this.client.query<StoredReplica>(
      'SELECT r.*, o.user_id FROM koinon.replica r LEFT JOIN koinon.owner o ON o.replica = r.id ORDER BY last_seen DESC, id',
    );
    return rows.map((row) => ({
      id: row.id,
      user: row.user_id,
      firstSeen: new Date(Number(row.first_seen)).toISOString(),
      lastSeen: new Date(Number(row.last_seen)).toISOString(),
      position: row.position === null ? null : Number(row.position),
      schemaVersion: row.schema_version,
      rowsDown: Number(row.rows_down),
      rowsUp: Number(row.rows_up),
      isBlocked: row.blocked,
    }));
  }

  async cursorKeys(): Promise<CursorKey[]> {
    return storedKeys(this.client);
  }

  async blockedReplicas(): Promise<string[]> {
    const { rows } = await this.client.query<{ id: string }>('SELECT id FROM koinon.replica WHERE blocked');
    return rows.map(({ id }) => id);
  }

  async rowsAfter(table: string, after: string | null, room: Room, where = everything): Promise<RowPage> {
    const { key, sql } = this.rows.table(table);
    const values: unknown[] = after === null ? [room.rows] : [room.rows, after];
    const behind = after === null ? 'true' : `${keySql(key, 'r')} > $2::${key.type}`;
    const from = `FROM ${sql} r WHERE ${behind} AND ${this.rows.fulfils(table, where, values)} ORDER BY ${keySql(key, 'r')} LIMIT $1`;
    const { most, bytes } = await this.rows.fitting(table, from, values, room);
    const { rows } = await this.client.query<unknown[]>({
      text: `SELECT ${this.rows.fields(table)} ${from}`,
      values: [most, ...values.slice(1)],
      rowMode: 'array',
    });
    const position = ordinalOf(await this.snapshot());
    const decoded = rows.map((raw) => this.rows.decode(table, raw));
    const times = await this.newestTimes(
      table,
      decoded.map((row) => row.id),
    );
    const found = decoded.map(
      (row): WholeRow => ({
        kind: 'insert',
        table,
        id: row.id,
        position,
        columns: this.rows.wire(table, row),
        ...times.get(row.id),
      }),
    );
    return { rows: found, bytes, more: found.length === most };
  }

  async unmoved(table: string, ids: readonly string[], position: Position): Promise<ReadonlySet<string>> {
    const known = readPosition(position)?.known ?? Snapshot.none;
    const { rows } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s WHERE table_name = $1 AND row_id = ANY($2)`,
      [table, ids],
    );
    return new Set(rows.flatMap((stamp) => (isUnmoved(stamp, known) ? [stamp.row_id] : [])));
  }

  async rowTextAfter(
    table: string,
    columns: readonly string[],
    after: string | null,
    room: Room,
    where = everything,
  ): Promise<RowText | undefined> {
    // The times of edits of such columns come with the rows.
    if (newestColumns(this.rows.table(table).table).length > 0) return undefined;
    return this.rows.textAfter(table, columns, after, room, where);
  }

  async changesSince(position: Position, room: Room, from = position, wanted: Wanted = new Map()): Promise<FeedPage> {
    const { known, within } = readPosition(position) ?? { known: Snapshot.none };
    const since = readPosition(from)?.known ?? Snapshot.none;
    const now = await this.snapshot();
    const values: unknown[] = [room.rows + 1, String(known.xmin), String(known)];
    if (within) values.push(String(within.position), within.table, within.id);
    // Whatever is visible to this statement and not in what is known, however late it was committed.
    const behind = `FROM koinon.stamp s WHERE s.position >= $2::xid8 AND NOT pg_visible_in_snapshot(s.position, $3::pg_snapshot)
       ${within ? 'AND NOT (s.position = $4::xid8 AND (s.table_name, s.row_id) <= ($5, $6))' : ''}`;
    const order = 'ORDER BY s.position, s.table_name, s.row_id';
    const read = `${stampFields}, pg_column_size(image) AS image_size`;
    const { rows } = await this.client.query<StampRow & { image_size: number | null; looked?: string }>(
      wanted.size === 0
        ? `SELECT ${read} ${behind} ${order} LIMIT $1`
        : // The last one that is looked at and the next one are always among them: they say how far the page leads.
          `SELECT ${read}, looked FROM (SELECT s.*, row_number() OVER (${order}) AS looked ${behind} ${order} LIMIT ${mostLooked + 1}) s
           WHERE looked >= ${mostLooked} OR deleted OR past <> '{}' OR ${this.rows.stampFulfils(wanted, values)} ${order} LIMIT $1`,
      values,
    );
    const { most, bytes } = await this.rows.fittingOf(rows, room);
    const stamps = rows.slice(0, most).filter((row) => Number(row.looked ?? 0) <= mostLooked);
    const changes = await this.changes(stamps, known, since);
    const last = stamps.at(-1);
    const next = rows[stamps.length];
    const looked = Number(last?.looked ?? stamps.length);
    if (next === undefined || last === undefined) return { changes, looked, bytes, to: String(now), more: false };
    const at = BigInt(last.position);
    const isCut = next.position === last.position;
    const to = isCut
      ? writePosition({
          known: known.with(now, at - 1n),
          within: { position: at, table: last.table_name, id: last.row_id },
        })
      : String(known.with(now, at));
    return { changes, looked, bytes, to, more: true };
  }

  countRows(table: string, where = everything): Promise<number> {
    return this.rows.count(table, where);
  }

  async unfollowedRows(name: string, sample?: number): Promise<UnfollowedRows> {
    const { sql: relation, key, softDelete } = this.rows.table(name);
    const some = (of: string, by: string) =>
      sample === undefined ? of : `(SELECT * FROM ${of} ORDER BY ${by} DESC LIMIT ${sample})`;
    const sql = some(`${relation} r`, keySql(key, 'r'));
    const stamps = some('(SELECT * FROM koinon.stamp WHERE table_name = $1 AND NOT deleted) s', 's.row_id');
    const alive = softDelete ? aliveSql(softDelete, 'r') : 'true';
    const stamp = 'FROM koinon.stamp s WHERE s.table_name = $1 AND NOT s.deleted';
    const { rows } = await this.client.query<UnfollowedRows>(
      `SELECT (SELECT count(*)::int FROM (SELECT FROM ${sample === undefined ? sql : `${sql} r`} WHERE ${alive} AND NOT EXISTS (SELECT ${stamp} AND s.row_id = ${idSql(key, 'r')}) LIMIT $2) u) AS unknown,
         (SELECT count(*)::int FROM (SELECT FROM ${sample === undefined ? stamps : `${stamps} s`} WHERE NOT EXISTS (SELECT FROM ${relation} r WHERE ${idSql(key, 'r')} = s.row_id AND ${alive}) LIMIT $2) g) AS gone`,
      [name, mostUnfollowed],
    );
    return rows[0] as UnfollowedRows;
  }

  async facts(): Promise<DatabaseFacts> {
    const found = await this.one<Omit<DatabaseFacts, 'lackingRights' | 'keptSince'> & { at: number }>(
      `SELECT 'PostgreSQL ' || current_setting('server_version') AS version, (extract(epoch FROM clock_timestamp()) * 1000)::float8 AS clock,
         (SELECT count(*) FROM koinon.stamp WHERE NOT deleted)::int AS rows, (SELECT count(*) FROM koinon.stamp WHERE deleted)::int AS deletions,
         (SELECT at FROM koinon.horizon)::float8 AS at`,
    );
    const lackingRights: { table: string; rights: string[] }[] = [];
    for (const { name, sql, copies, table } of this.tables.values()) {
      const wanted = table.readOnly ? ['SELECT'] : ['SELECT', 'INSERT', 'UPDATE', 'DELETE'];
      const { rows } = await this.client.query<{ lacking: string }>(
        'SELECT wanted AS lacking FROM unnest($1::text[]) wanted WHERE NOT has_table_privilege($2, wanted)',
        [wanted, copies?.view ?? sql],
      );
      if (rows.length > 0) lackingRights.push({ table: name, rights: rows.map(({ lacking }) => lacking) });
    }
    const { at, ...facts } = found;
    return { ...facts, keptSince: at === 0 ? null : at, lackingRights };
  }

  select(selection: Selection, room: QueryRoom): Promise<readonly AnyRow[]> {
    return selectRows(this, selection, room);
  }

  summarize(plan: SummaryPlan, room: QueryRoom): Promise<readonly Readonly<Record<string, unknown>>[]> {
    return summarize(this, plan, room);
  }

  rowsWhere(table: string, where: Condition): Promise<AnyRow[]> {
    return this.rows.where(table, where);
  }

  async remembersSince(position: Position, tables: readonly string[]): Promise<boolean> {
    const known = readPosition(position)?.known ?? Snapshot.none;
    const { rows } = await this.client.query<{ position: string }>(
      'SELECT position::text FROM koinon.filterable WHERE table_name = ANY($1)',
      [tables],
    );
    return rows.every(({ position }) => known.sees(BigInt(position)));
  }

  async countChanges(since: Position): Promise<Record<string, number>> {
    const counts: Record<string, number> = {};
    const { known } = readPosition(since) ?? { known: Snapshot.none };
    const { rows } = await this.client.query<{ name: string; n: string }>(
      `SELECT table_name AS name, count(*) AS n FROM koinon.stamp
       WHERE position >= $1::xid8 AND NOT pg_visible_in_snapshot(position, $2::pg_snapshot) GROUP BY table_name`,
      [String(known.xmin), String(known)],
    );
    for (const { name, n } of rows) counts[name] = Number(n);
    return counts;
  }

  async receiptsBetween(from: Position, to: Position): Promise<{ id: string; replica: string | null }[]> {
    const [known, reached] = [from, to].map((position) => readPosition(position)?.known ?? Snapshot.none);
    const { rows } = await this.client.query<{ id: string; replica: string | null }>(
      `SELECT id, replica FROM koinon.receipt WHERE outcome = 'applied' AND written >= $1::xid8
       AND NOT pg_visible_in_snapshot(written, $2::pg_snapshot) AND pg_visible_in_snapshot(written, $3::pg_snapshot)`,
      [String(known?.xmin), String(known), String(reached)],
    );
    return rows;
  }

  async applied(ids: readonly string[], user?: string): Promise<string[]> {
    if (ids.length === 0) return [];
    const { rows } = await this.client.query<{ id: string }>(
      "SELECT id FROM koinon.receipt WHERE id = ANY($1) AND outcome = 'applied' AND ($2::text IS NULL OR coalesce(user_id, $2) = $2)",
      [ids, user ?? null],
    );
    return rows.map(({ id }) => id);
  }

  async appliedOrigins({ user, origins }: Omit<ReplicaOrigins, 'replica'>): Promise<AppliedOrigin[]> {
    const { rows } = await this.client.query<AppliedOrigin>(appliedOriginsSql, [user ?? null, origins]);
    return rows;
  }

  async assignedKeys(of: AssignedKeysOf): Promise<AssignedKey[]> {
    const [column, named] = 'receipts' in of ? ['receipt', of.receipts] : ['provisional', of.provisional];
    const { rows } = await this.client.query<AssignedKey>(
      `SELECT table_name AS "table", provisional, row_id AS id FROM koinon.assigned_key WHERE ${column} = ANY($1) AND user_id = $2`,
      [named, of.user ?? ''],
    );
    return rows;
  }

  results(receipts: readonly string[]): Promise<ActionResult[]> {
    return resultsOf(this.client, receipts);
  }

  openEffects(most: number): Promise<OpenEffect[]> {
    return openEffectsOf(this.client, most);
  }

  async uploads(replica: string): Promise<number> {
    const { rows } = await this.client.query<{ count: string }>('SELECT count FROM koinon.upload WHERE replica = $1', [
      replica,
    ]);
    return Number(rows[0]?.count ?? 0);
  }

  async sentBy(replica: string, rows: readonly RowKey[]): Promise<Map<string, (column: string) => boolean>> {
    const { rows: stamps } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s JOIN unnest($1::text[], $2::text[]) AS k (t, i) ON s.table_name = k.t AND s.row_id = k.i`,
      [rows.map(({ table }) => table), rows.map(({ id }) => id)],
    );
    const writers = (stamp: StampRow) => [stamp.row_receipt, ...Object.values(stamp.columns).map(([, , by]) => by)];
    const { rows: receipts } = await this.client.query<{ id: string }>(
      'SELECT id FROM koinon.receipt WHERE id = ANY($1) AND replica = $2',
      [[...new Set(stamps.flatMap(writers))].filter((id) => id !== null), replica],
    );
    const its = new Set<string | null>(receipts.map(({ id }) => id));
    return new Map(
      stamps.map((stamp) => [
        rowKey({ table: stamp.table_name, id: stamp.row_id }),
        (column) => its.has(stamp.columns[column] ? stamp.columns[column][2] : stamp.row_receipt),
      ]),
    );
  }

  /** The snapshot of this transaction. */
  async snapshot(): Promise<Snapshot> {
    if (this.known !== undefined) return this.known;
    const { now } = await this.one<{ now: string }>('SELECT pg_current_snapshot()::text AS now');
    return Snapshot.parse(now) as Snapshot;
  }

  private async changes(stamps: readonly StampRow[], known: Snapshot, since: Snapshot): Promise<Changed[]> {
    const wanted = byTable(
      stamps.flatMap(({ table_name: table, row_id: id, deleted }) =>
        !deleted && this.tables.has(table) ? [{ table, id }] : [],
      ),
    );
    const found = new Map<string, Map<string, AnyRow>>();
    // None of them waits for another.
    const [images, users] = await together(
      this.rows.images(stamps),
      this.usersOf(stamps),
      ...[...wanted].map(async ([table, ids]) => void found.set(table, await this.rows.byIds(table, ids))),
    );
    return stamps.flatMap((stamp) => {
      const row = (stamp.deleted ? images : found).get(stamp.table_name)?.get(stamp.row_id);
      return this.changed(stamp, row, known, since, users);
    });
  }

  async tombstoneKeys({ before, scope, limit }: WantedTombstones): Promise<TombstoneKeys> {
    const values: unknown[] = [
      before === undefined ? null : String(before.position),
      before?.table ?? null,
      before?.id ?? null,
      limit,
    ];
    const cases = [...scope].map(
      ([name, where]) => `WHEN ${quoteText(name)} THEN ${this.rows.imageFulfils(name, where, values)}`,
    );
    const { rows } = await this.client.query<Pick<StampRow, 'table_name' | 'row_id' | 'position'> & { fits: boolean }>(
      `SELECT table_name, row_id, position, ${cases.length === 0 ? 'false' : `CASE table_name ${cases.join(' ')} ELSE false END`} AS fits
       FROM (SELECT * FROM koinon.stamp WHERE deleted
         AND ($1::text IS NULL OR position < $1::text::xid8 OR (position = $1::text::xid8 AND (table_name, row_id) > ($2, $3)))
         ORDER BY position DESC, table_name, row_id LIMIT $4) r
       ORDER BY r.position DESC, r.table_name, r.row_id`,
      values,
    );
    const keys = rows.map(({ table_name, row_id, position }) => ({
      table: table_name,
      id: row_id,
      position: Number(position),
    }));
    return { found: keys.filter((_key, i) => rows[i]?.fits), last: keys.length < limit ? undefined : keys.at(-1) };
  }

  async tombstones(keys: readonly RowKey[]): Promise<Tombstone[]> {
    const { rows: stamps } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s JOIN unnest($1::text[], $2::text[]) WITH ORDINALITY AS k (t, i, place)
         ON s.table_name = k.t AND s.row_id = k.i WHERE deleted ORDER BY place`,
      [keys.map(({ table }) => table), keys.map(({ id }) => id)],
    );
    const images = await this.rows.images(stamps);
    return stamps.flatMap(({ table_name: table, row_id: id, position, row_edited_at }) => {
      const row = images.get(table)?.get(id);
      if (row === undefined) return [];
      const deletedAt = new Date(Number(row_edited_at)).toISOString();
      return [{ table, id, position: Number(position), deletedAt, columns: this.rows.wire(table, row) }];
    });
  }

  /** The edit times of rows whose table has columns that are merged by them. */
  private async newestTimes(name: string, ids: readonly string[]): Promise<Map<string, RowTimes>> {
    const { table } = this.rows.table(name);
    if (newestColumns(table).length === 0) return new Map();
    const { rows } = await this.client.query<StampRow>(
      `SELECT ${stampFields} FROM koinon.stamp s WHERE table_name = $1 AND row_id = ANY($2)`,
      [name, ids],
    );
    const users = await this.usersOf(rows);
    return new Map(rows.map((stamp) => [stamp.row_id, rowTimes(table, table.names, stampedTimes(stamp, users))]));
  }

  /** The users who sent the transactions that wrote these rows last, by receipt. */
  private async usersOf(stamps: readonly StampRow[]): Promise<ReadonlyMap<string, string>> {
    const receipts = new Set(
      stamps.flatMap(({ row_receipt, columns }) => [
        row_receipt,
        ...Object.values(columns).map(([, , receipt]) => receipt),
      ]),
    );
    receipts.delete(null);
    if (receipts.size === 0) return new Map();
    const { rows } = await this.client.query<{ id: string; user_id: string }>(
      'SELECT id, user_id FROM koinon.receipt WHERE id = ANY($1) AND user_id IS NOT NULL',
      [[...receipts]],
    );
    return new Map(rows.map(({ id, user_id }) => [id, user_id]));
  }

  private changed(
    stamp: StampRow,
    row: AnyRow | undefined,
    known: Snapshot,
    since: Snapshot,
    users: ReadonlyMap<string, string>,
  ): Changed[] {
    const { table_name: table, row_id: id, deleted } = stamp;
    if (!this.tables.has(table) || (row === undefined && !deleted)) return [];
    const columns = row && this.rows.wire(table, row);
    const definition = this.rows.table(table).table;
    const isSince = (position: string | number) => !since.sees(BigInt(position));
    return [
      {
        table,
        id,
        position: Number(stamp.position),
        row: deleted ? null : (columns ?? null),
        image: deleted ? columns : undefined,
        isInserted: isSince(stamp.row_position),
        isNew: !known.sees(BigInt(stamp.born)),
        wasMadeBy: (position) => knownAt(position).sees(BigInt(stamp.born)),
        isUnmovedSince: (position) => isUnmoved(stamp, knownAt(position)),
        changed: definition.names.filter((name) => {
          const written = stamp.columns[name];
          return written !== undefined && isSince(written[0]);
        }),
        past: Object.entries(stamp.past).flatMap(([values, left]) =>
          isSince(left) ? [heldValues(definition, JSON.parse(values) as Record<string, JsonValue>)] : [],
        ),
        times: stampedTimes(stamp, users),
      },
    ];
  }

  private async one<Row extends object>(sql: string): Promise<Row> {
    return (await this.client.query<Row>(sql)).rows[0] as Row;
  }
}

const knownAt = (position: Position): Snapshot => readPosition(position)?.known ?? Snapshot.none;

/** Tells whether a row was there with the filterable values that it has now. */
function isUnmoved({ row_position, past }: StampRow, known: Snapshot): boolean {
  return [row_position, ...Object.values(past)].every((position) => known.sees(BigInt(position)));
}

/** The values that filterable columns held, as JSON carries them: in the database they may be of other types. */
function heldValues(table: Table, raw: Readonly<Record<string, JsonValue>>): Record<string, JsonValue> {
  return Object.fromEntries(
    Object.entries(raw).map(([name, value]) => {
      const column = table.columns[name];
      if (column === undefined || value === null) return [name, value];
      const isText = column.type !== 'boolean' && column.type !== 'integer';
      const text = column.type === 'date' ? String(value).slice(0, 10) : String(value);
      return [name, isText ? text : column.type === 'boolean' ? Boolean(value) : Number(value)];
    }),
  );
}

function stampedTimes(
  { row_edited_at, row_receipt, columns }: StampRow,
  users: ReadonlyMap<string, string>,
): StampedTimes {
  const userOf = (receipt: string | null | undefined) => (receipt ? (users.get(receipt) ?? null) : null);
  return {
    row: Number(row_edited_at),
    column: (name) => columns[name]?.[1],
    by: (name) => userOf(name === null ? row_receipt : columns[name]?.[2]),
  };
}

/** A number that grows as the feed does: the first transaction that a snapshot does not see. */
export function ordinalOf({ xmax }: Snapshot): number {
  return Number(xmax);
}
