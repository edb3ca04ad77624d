import type {
  ActionResult,
  AnyRow,
  AppliedOrigin,
  AssignedKey,
  Change,
  Column,
  Condition,
  Position,
  Problem,
  PulledRow,
  RowKey,
  Schema,
  WireChange,
  WireColumns,
  Writer,
} from '@koinon/core';
import { rowKey, type SummaryPlan } from '@koinon/core/internal';
import type { CursorKey, CursorKeys } from '../cursor/keys.ts';
import type { Attempts } from './attempts.ts';
import type { QueryRoom, Selection } from './query.ts';
import type { Receipts } from './receipts.ts';
import type { Standby } from './standby.ts';
import type { StampedTimes } from './times.ts';
import type { TrackingFault } from './tracking.ts';

/** The ids of rows by their table. */
export function byTable(rows: readonly RowKey[]): ReadonlyMap<string, readonly string[]> {
  const ids = new Map<string, string[]>();
  for (const { table, id } of rows) {
    const known = ids.get(table);
    if (known) known.push(id);
    else ids.set(table, [id]);
  }
  return ids;
}

/** The server's memory of one uploaded transaction. Kept for those that are settled for good. */
export interface Receipt {
  readonly id: string;
  /** SHA-256 over the transaction's canonical JSON (its members in the order of their names), base and own transactions aside. */
  readonly digest: string;
  /** The sender, and the replica; null where that is not known. */
  readonly user: string | null;
  readonly replica: string | null;
  /** The origins of what the person did, where they are not the id. */
  readonly origins?: readonly string[];
  /** The results of its actions, where it is to be kept. */
  readonly results?: readonly ActionResult[];
  readonly outcome:
    | { readonly kind: 'applied'; readonly position: number }
    | { readonly kind: 'rejected'; readonly problems: readonly Problem[] };
}

/** The writer of something, as a push compares it with what its replica knew. */
export interface Written {
  /** Tells whether the base covers it: the replica knew. */
  readonly covered: boolean;
  /** The receipt of the transaction that wrote it; null for other programs. */
  readonly receipt: string | null;
}

/** The feed's note on one row, seen from a base. */
export interface Stamp {
  readonly deleted: boolean;
  /** The insert, or the delete of a row that is gone. */
  readonly row: Written;
  /** Columns changed since the insert. */
  readonly columns: ReadonlyMap<string, Written>;
  /** The values that a deleted row held last, where they are kept. */
  readonly image: AnyRow | undefined;
}

/** The changes of one row since a position, whoever may see them. */
export interface Changed extends RowKey {
  readonly position: number;
  /** The row as JSON carries it, its id aside; null: it is gone. */
  readonly row: WireColumns | null;
  /** The values that a row that is gone held last, where they are kept. */
  readonly image: WireColumns | undefined;
  /** Tells whether it was inserted since then: whoever stands there has to get it whole. */
  readonly isInserted: boolean;
  /** Tells whether it was never there before: whoever stands there cannot have it. */
  readonly isNew: boolean;
  /** Tells whether it was ever there at a position, or before. */
  readonly wasMadeBy: (position: Position) => boolean;
  /** Tells whether it was there at a position with the filterable values that it has now. */
  readonly isUnmovedSince: (position: Position) => boolean;
  /** The columns that have changed since. */
  readonly changed: readonly string[];
  /** The values that its filterable columns held since then and hold no more. */
  readonly past: readonly WireColumns[];
  readonly times: StampedTimes;
}

/** A row as JSON carries it. */
export type WholeRow = Extract<PulledRow, { readonly kind: 'insert' }>;

/** How many rows of a table no trigger has seen come or go; counted up to 10,000 each. */
export interface UnfollowedRows {
  readonly unknown: number;
  readonly gone: number;
}

/** A database as an operator looks at it. */
export interface DatabaseFacts {
  /** Its kind and version: `PostgreSQL 16.2`. */
  readonly version: string;
  /** Its clock, in milliseconds since 1970. */
  readonly clock: number;
  /** Rows that are there, and deleted rows that the feed keeps. */
  readonly rows: number;
  readonly deletions: number;
  /** Since when deletions are kept, in milliseconds since 1970; null where all are. */
  readonly keptSince: number | null;
  /** The rights that the server's user lacks, by table. */
  readonly lackingRights: readonly { readonly table: string; readonly rights: readonly string[] }[];
}

/** More of them are not counted. */
export const mostUnfollowed = 10_000;

/**
 * Which keys are asked for: those of provisional ids, or those that transactions were given. They are looked for among those of a user,
 * whichever of his replicas made the rows: a copy of a file is another one.
 */
export type AssignedKeysOf = {
  /** Undefined where there are no users. */
  readonly user: string | undefined;
} & ({ readonly provisional: readonly string[] } | { readonly receipts: readonly string[] });

/** How much is read at once at most; a single row that is larger is read all the same. */
export interface Room {
  readonly rows: number;
  /** The bytes that the rows hold, about. */
  readonly bytes: number;
}

/** Rows by id, as many as there was room for. */
export interface RowPage {
  readonly rows: readonly WholeRow[];
  /** The bytes that they hold, about; of columns that are never large nothing is counted. */
  readonly bytes: number;
  /** Tells whether there may be more. */
  readonly more: boolean;
}

/** Rows in the order of their keys as JSON text, as the database makes it: without an object for each row in between. */
export interface RowText {
  /** The rows, as a block of rows has them. */
  readonly json: string;
  readonly count: number;
  /** The id of the last of them; null where there is none. */
  readonly last: string | null;
  /** Tells whether there may be more. */
  readonly more: boolean;
}

/** Tells whether a value of a column may be so large that rows have to be counted by what they hold. */
export function mayBeLarge({ type, maximumLength = Number.POSITIVE_INFINITY }: Column): boolean {
  return (type === 'text' && maximumLength > 1_000) || type === 'bytes' || type === 'json' || type === 'set';
}

/** The size of a row in columns that may be large, in bytes, about. */
export function heldBytes(columns: WireColumns): number {
  let bytes = 0;
  for (const name in columns) {
    const value = columns[name];
    if (typeof value === 'string') bytes += value.length;
    else if (typeof value === 'object' && value !== null) bytes += JSON.stringify(value).length;
  }
  return bytes;
}

/** A deleted row, while the feed keeps what it held last. */
export interface Tombstone extends RowKey {
  readonly position: number;
  /** RFC 3339. */
  readonly deletedAt: string;
  readonly columns: WireColumns;
}

/** Conditions by table, for those tables of which not all rows are wanted. */
export type Wanted = ReadonlyMap<string, Condition>;

/** How many changes are looked at for one page at most, where few of them are wanted. */
export const mostLooked = 50_000;

/** A stretch of the feed. */
export interface FeedPage {
  readonly changes: readonly Changed[];
  /** How many changes were looked at for them. */
  readonly looked: number;
  /** The bytes that their rows hold, about. */
  readonly bytes: number;
  /** The position they lead to. */
  readonly to: Position;
  /** Tells whether the feed goes on behind it. */
  readonly more: boolean;
}

/**
 * Tells whether a position can be one of this feed's: `forgotten` where deletions behind it are no longer kept, `lost` where
 * the feed has not come that far or has gone on otherwise, its database having been restored from a backup.
 */
export type Reach = 'known' | 'forgotten' | 'lost';

/** A replica as the server has met it. */
export interface KnownReplica {
  readonly id: string;
  /** Whose it is; null where the server knows no users. */
  readonly user: string | null;
  /** When it first and last asked, RFC 3339. */
  readonly firstSeen: string;
  readonly lastSeen: string;
  /** The position its cursor had reached; null before its first pull. */
  readonly position: number | null;
  readonly schemaVersion: number | null;
  /** Rows sent down to it, and changes it sent up. */
  readonly rowsDown: number;
  readonly rowsUp: number;
  /** Tells whether an operator has blocked it. */
  readonly isBlocked: boolean;
}

/** The facts of one request about its replica. */
export interface Contact {
  readonly replica: string;
  /** Milliseconds since 1970. */
  readonly at: number;
  readonly position: number | null;
  readonly schemaVersion: number | null;
  readonly rowsDown: number;
  readonly rowsUp: number;
}

/** Which tombstones are wanted: keys in the order of their deletion, last deleted first. */
export interface WantedTombstones {
  /** Only those that come behind this one: of the same position, they are in the order of table and id. */
  readonly before?: TombstoneKey | undefined;
  /** Which rows of each table are in a scope, by what they held last; a table that is not named has none. */
  readonly scope: ReadonlyMap<string, Condition>;
  /** Tombstones that are looked at. */
  readonly limit: number;
}

/** A place among the tombstones. */
export type TombstoneKey = Pick<Tombstone, 'position' | 'table' | 'id'>;

/** Tombstones without their rows. */
export interface TombstoneKeys {
  /** Those in the scope. */
  readonly found: readonly TombstoneKey[];
  /** The last one that was looked at; undefined where there are no more. */
  readonly last: TombstoneKey | undefined;
}

/** Reads in one snapshot of the database. */
export interface StoreReader {
  /** How a position stands to this feed. */
  reach(position: Position): Promise<Reach>;
  /** The replicas the server has met, last seen first. */
  replicas(): Promise<KnownReplica[]>;
  /** The keys that seal cursors, as they are kept by now. */
  cursorKeys(): Promise<CursorKey[]>;
  /** The ids of those that are blocked. */
  blockedReplicas(): Promise<string[]>;
  /** The end of the feed. */
  position(): Promise<Position>;
  /** Rows by id, from behind `after`: those that fulfil a condition. */
  rowsAfter(table: string, after: string | null, room: Room, where?: Condition): Promise<RowPage>;
  /**
   * The same rows as text: the id, and these columns of each. Undefined where the database cannot make the text of this table's
   * rows, or a value is not of its column's type: {@link rowsAfter} has them.
   */
  rowTextAfter(
    table: string,
    columns: readonly string[],
    after: string | null,
    room: Room,
    where?: Condition,
  ): Promise<RowText | undefined>;
  /**
   * Net changes behind a position, in feed order, at least as many as there is room for while there are that many.
   *
   * @param since an earlier position, where a reader began who reads in pages: what became of each row is told from there.
   * @param wanted conditions by table: changes of rows that have never fulfilled theirs may be left out.
   */
  changesSince(position: Position, room: Room, since?: Position, wanted?: Wanted): Promise<FeedPage>;
  /** Those of these rows that were there at a position with the filterable values that they have now. */
  unmoved(table: string, ids: readonly string[], position: Position): Promise<ReadonlySet<string>>;
  /** How many rows of a table fulfil a condition. */
  countRows(table: string, where?: Condition): Promise<number>;
  /**
   * Rows that the feed does not know of, and rows that it has and that are gone: written while nothing followed the table.
   *
   * @param sample how many rows are looked at, those with the greatest ids; all of them where no number is given.
   */
  unfollowedRows(table: string, sample?: number): Promise<UnfollowedRows>;
  /** The database, as an operator looks at it. */
  facts(): Promise<DatabaseFacts>;
  /** How many rows have changed behind a position, by table. */
  countChanges(since: Position): Promise<Readonly<Record<string, number>>>;
  /** Rows of one table, in an order. @throws KoinonError `query-limit`, `query-invalid`. */
  select(selection: Selection, room: QueryRoom): Promise<readonly AnyRow[]>;
  /** The lines of a summary. @throws KoinonError `query-limit`, `query-invalid`. */
  summarize(plan: SummaryPlan, room: QueryRoom): Promise<readonly Readonly<Record<string, unknown>>[]>;
  /** The rows of a table that fulfil a condition. */
  rowsWhere(table: string, where: Condition): Promise<AnyRow[]>;
  /** Tells whether the earlier values of these tables' filterable columns are remembered from a position on. */
  remembersSince(position: Position, tables: readonly string[]): Promise<boolean>;
  /** Looks for rows that were deleted. */
  tombstoneKeys(wanted: WantedTombstones): Promise<TombstoneKeys>;
  /** The values that deleted rows held last; rows of which nothing is kept are left out. */
  tombstones(keys: readonly RowKey[]): Promise<Tombstone[]>;
  /** The transactions that were applied behind one position and up to another, which is no later than this snapshot. */
  receiptsBetween(from: Position, to: Position): Promise<{ readonly id: string; readonly replica: string | null }[]>;
  /** Those of these transactions that have been applied: of one user where he is named. */
  applied(ids: readonly string[], user?: string): Promise<string[]>;
  /** Those of these origins that were applied for a replica, with the ids of their receipts. */
  appliedOrigins(of: Omit<ReplicaOrigins, 'replica'>): Promise<AppliedOrigin[]>;
  /** The keys that rows of replicas were given. */
  assignedKeys(of: AssignedKeysOf): Promise<AssignedKey[]>;
  /** The results of the actions in these transactions. */
  results(receipts: readonly string[]): Promise<ActionResult[]>;
  /** Effects that are not done, those first that were asked for first. */
  openEffects(most: number): Promise<OpenEffect[]>;
  /** How many transactions of a replica were applied. */
  uploads(replica: string): Promise<number>;
  /** Which columns of rows this replica has written last, by the key of a row. */
  sentBy(replica: string, rows: readonly RowKey[]): Promise<ReadonlyMap<string, (column: string) => boolean>>;
}

/**
 * The origins that a replica says its transactions are of. They are looked for among those of its user: a copy of a file is another replica,
 * and what both hold is done once. Nobody learns of another user's.
 */
export interface ReplicaOrigins {
  readonly replica: string;
  /** Undefined where there are no users. */
  readonly user: string | undefined;
  readonly origins: readonly string[];
}

/** A transaction that comes in parts, of one replica: nobody else adds to it or replaces any of it. */
export interface PartialTransaction {
  readonly replica: string;
  readonly id: string;
}

/**
 * Says that the feed may have gone on.
 *
 * @param isRead tells whether whoever has read the feed up to a position has seen what this is about. Without it nobody knows.
 */
export type Wake = (isRead?: (position: Position) => boolean) => void;

/** The things that a group of transactions will ask for. */
export interface Ahead {
  /** Ids of transactions, and their origins. */
  readonly receipts: readonly string[];
  readonly origins: ReplicaOrigins;
  /** Rows whose stamps are asked for. */
  readonly rows: readonly RowKey[];
  /** Tells whether what they hold is asked for as well. */
  readonly withValues: boolean;
}

/** Writes in one database transaction. */
export interface StoreWriter {
  /** Keys for new rows of a table, as the database gives them; nobody else is given one of them. */
  newKeys(table: string, count: number): Promise<string[]>;
  /** The keys that rows of replicas were given. */
  assignedKeys(of: AssignedKeysOf): Promise<AssignedKey[]>;
  /** Keeps the keys that rows of a user's transaction were given. */
  saveAssignedKeys(user: string | undefined, receipt: string, keys: readonly AssignedKey[]): Promise<void>;
  /** The results of the actions in these transactions. */
  results(receipts: readonly string[]): Promise<ActionResult[]>;
  /** Adds what is to be done after this transaction is committed. */
  addEffects(effects: readonly NewEffect[]): Promise<void>;
  /** Takes effects of these names that are due. */
  takeEffects(names: readonly string[], how: TakingEffects): Promise<DueEffect[]>;
  /** An effect was carried out, or has failed and is tried again. */
  endEffect(id: number, how: 'done' | { readonly error: string; readonly dueAt: number }): Promise<void>;
  /** Looks up, and locks, at once what will be asked for one by one. Changes nothing about the answers. */
  lookAhead(ahead: Ahead): Promise<void>;
  readonly receipts: Receipts;
  readonly attempts: Attempts;
  /**
   * Keeps a part of a replica's transaction until the others are there; the same one again changes nothing. Parts of another
   * transaction of the replica are dropped: it sends one at a time.
   *
   * @returns the bytes of all that are kept of it, about.
   */
  savePart(of: PartialTransaction, index: number, changes: readonly WireChange[]): Promise<number>;
  /** Drops the parts of a replica that are there. */
  dropParts(replica: string): Promise<void>;
  /** Takes the parts out, in order: those that are there. */
  takeParts(of: PartialTransaction): Promise<readonly (readonly WireChange[])[]>;
  /** Locks the rows, in the order of table and id, and reads their stamps; undefined for a row that never was. */
  stamps(rows: readonly RowKey[], base: Position | null): Promise<(Stamp | undefined)[]>;
  /** The next number of a sequence, from 1 on; nobody else takes one of it before this transaction ends. */
  nextInSequence(name: string): Promise<number>;
  /** Runs SQL of the store's own dialect in this transaction: rows of a query. */
  query(sql: string, values: readonly unknown[]): Promise<readonly Readonly<Record<string, unknown>>[]>;
  /**
   * Writes changes into the app's tables; rows may swap unique values.
   *
   * @param by whether an uploaded transaction made them, or the server, such as what a rule fills in.
   * @throws ConstraintError when a table refuses one.
   */
  apply(changes: readonly Change[], by: Writer): Promise<void>;
  /** Writes those whose unique values are free, where more changes of the transaction are to come; returns the others. */
  applyFree(changes: readonly Change[], by: Writer): Promise<readonly Change[]>;
  /** The rows of a table that fulfil a condition. */
  rowsWhere(table: string, where: Condition): Promise<AnyRow[]>;
  /** Those of these transactions that this user has sent and that have been applied. */
  applied(ids: readonly string[], user?: string): Promise<string[]>;
  /** The values that a deleted row held last; undefined where nothing of it is kept. */
  tombstone(table: string, id: string): Promise<Tombstone | undefined>;
  /** Rows by id; those that are not there are left out. */
  rows(table: string, ids: readonly string[]): Promise<ReadonlyMap<string, AnyRow>>;
  /** For each of these rows that any row of the table refers to by this column, the id of one that does. */
  referrers(table: string, column: string, ids: readonly string[]): Promise<ReadonlyMap<string, string>>;
  /** The end of the feed, as this transaction sees it. */
  position(): Promise<Position>;
  /** How a position stands to this feed. */
  reach(position: Position): Promise<Reach>;
  /** Notes what requests told of their replicas. */
  noteContacts(contacts: readonly Contact[]): Promise<void>;
  /**
   * Gives a replica to a user, unless it is somebody's already; returns whose it is.
   *
   * @param most replicas that a user may have; undefined is returned where it would be one more.
   */
  claimReplica(replica: string, user: string, most: number): Promise<string | undefined>;
  /** Blocks a replica, or unblocks it; false if there is none of that id. */
  blockReplica(id: string, isBlocked: boolean): Promise<boolean>;
  /** Keeps a key for cursors no longer. */
  dropCursorKey(number: number): Promise<void>;
  /** Notes where the feed ends now, so that it is known later how old a position is. */
  noteTime(now: number): Promise<void>;
  /**
   * Moves the horizon to the newest position that is as old as this: cursors from before it are refused from now on.
   * Deletes nothing yet.
   */
  moveHorizon(before: number): Promise<void>;
  /**
   * Deletes some of the tombstones, receipts, replicas and earlier values behind the horizon, and of the parts that have waited
   * since before a time, in milliseconds since 1970; returns how many.
   */
  compact(most: number, partsBefore: number): Promise<number>;
}

/** Something to be done outside of the database, as an action asks for it. */
export interface NewEffect {
  /** The same however often it is carried out. */
  readonly key: string;
  readonly name: string;
  /** JSON. */
  readonly payload: string;
}

/** An effect that is to be carried out. */
export interface DueEffect extends NewEffect {
  readonly id: number;
  /** How often it has been tried, this time included. */
  readonly attempt: number;
}

/** An effect that is not done, as an operator looks at it. */
export interface OpenEffect extends DueEffect {
  /** When it was asked for, and when it is tried next: RFC 3339. */
  readonly addedAt: string;
  readonly dueAt: string;
  /** Why it failed last; null where it has not been tried, or is being tried. */
  readonly error: string | null;
}

/** The effects that one process takes at once. Times are in milliseconds since 1970. */
export interface TakingEffects {
  readonly most: number;
  readonly now: number;
  /** They are due again at this time, if they are not ended by then. */
  readonly until: number;
}

/** Tells whether locked rows are waited for. */
export type LockWait = 'some' | 'none';

/** An SQL database that keeps the app's tables, the feed and the receipts. */
export interface Store {
  readonly schema: Schema;
  /** The identity of this feed; cursors of another are refused. */
  readonly feed: string;
  /** The keys that seal cursors; the same for every process on this database. */
  readonly keys: CursorKeys;
  /** A position as a number that grows as the feed does, for people to compare. */
  ordinal(position: Position): number;
  /** The position of whoever knows all that came before such a number. */
  positionAt(ordinal: number): Position;
  /**
   * Reads from one snapshot of the database: whatever is written meanwhile is not seen.
   *
   * @param time milliseconds that one statement may take, where the database can tell.
   */
  read<T>(work: (reader: StoreReader) => Promise<T>, time?: number): Promise<T>;
  /**
   * One writer at a time; a throw rolls everything back.
   *
   * @param lockWait how long rows are waited for that another program has locked; `none` for whoever has waited already.
   */
  write<T>(work: (writer: StoreWriter) => Promise<T>, lockWait?: LockWait): Promise<T>;
  /** The fault that an error of {@link write} shows in what was written; undefined for one that concerns the database as a whole. */
  faultOf(error: unknown): Fault | undefined;
  /** The message of a constraint that the database checks only when a transaction ends; undefined for any other error. */
  refusalOf(error: unknown): Problem | undefined;
  /**
   * Looks whether every table is still followed, and mends it where that can be done; says what it found. With what was found when
   * the store was opened, the first time.
   */
  lookAfterTables(): Promise<readonly TrackingFault[]>;
  /** Tells whether there are views among the tables. */
  readonly hasViews: boolean;
  /**
   * Brings the copies of views up to them, where the database has changed since; says which views have rows that cannot be told apart.
   * Undefined where there was nothing to look at.
   */
  followViews(): Promise<readonly TrackingFault[] | undefined>;
  /** How many requests it works on at once. */
  readonly width: number;
  /** The standby that pulls may be read from. */
  readonly standby: Standby | undefined;
  /** Called where something hints that a table is followed no longer. */
  onUntracked: (() => void) | undefined;
  /**
   * Calls whenever the feed may have gone on, by this process or any other program. Returns a function that ends that.
   */
  watch(wake: Wake): () => void;
  /** Tells all who watch that the feed has gone on: here at once, and in other processes on the same database. */
  announce(): void;
  /** Closes the connections to the database. */
  close(): Promise<void>;
}

/** Rows by their keys, as a transaction sees them; those that are not there are left out. */
export async function rowsByKey(writer: StoreWriter, keys: readonly RowKey[]): Promise<Map<string, AnyRow>> {
  const found = new Map<string, AnyRow>();
  for (const [table, ids] of byTable(keys))
    for (const [id, row] of await writer.rows(table, ids)) found.set(rowKey({ table, id }), row);
  return found;
}

/**
 * The fault that an error shows in what was being written, where it says nothing of the database as a whole, so that others may well
 * be written: another program has locked the rows for longer than is waited for, or the transaction's own writing failed, in
 * a trigger of the app's, say.
 */
export type Fault = 'locked' | 'failed';

/** Tells whether a mistake of the program's own was met with what one transaction holds. */
export function isProgramError(error: unknown): boolean {
  return error instanceof TypeError || error instanceof RangeError;
}

/** A constraint of the database refused a write. */
export class ConstraintError extends Error {
  readonly problem: Problem;
  constructor(problem: Problem) {
    super(problem.message);
    this.problem = problem;
  }
}
