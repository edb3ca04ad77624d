import type { WireChange } from '../change/change.ts';
import type { Problem } from '../errors/errors.ts';
import type { JsonValue } from '../schema/column.ts';
import type { WireColumns } from '../values/wire.ts';

/** The version of the protocol; it stands in every path. */
export const protocolVersion = 1;

/** The media type of JSON Lines answers: one JSON value per line. */
export const jsonLines = 'application/jsonl';

/** The media type of server-sent events. */
export const eventStream = 'text/event-stream';

/** The media type of an error (RFC 9457). */
export const problemJson = 'application/problem+json';

/** Limits both sides keep to. */
export const limits = {
  /** Transactions in one push. */
  transactions: 500,
  /** Changes in one push, over all its transactions. */
  changes: 100_000,
  /** Changes in one transaction, over all its parts. */
  transactionChanges: 1_000_000,
  /** Parts of one transaction, and the bytes of all of them, about: it is in memory as a whole when it is applied. */
  parts: 10_000,
  transactionBytes: 256 * 1024 * 1024,
  /** Bytes of one push. */
  requestBytes: 64 * 1024 * 1024,
  /** Bytes of a request that asks for something: a pull, say. */
  questionBytes: 4 * 1024 * 1024,
  /** Bytes of the name of a table or column, as PostgreSQL has them. */
  nameBytes: 63,
  /** Characters of an id of a row. */
  idLength: 200,
  /** Bytes of one change of one row, as JSON carries it: it goes up in one request, and comes down in one answer. */
  changeBytes: 32 * 1024 * 1024,
  /** Bytes of one answer, before compression. */
  answerBytes: 128 * 1024 * 1024,
  /** Rows in one page of a pull; a request may ask for fewer. */
  pageRows: 5_000,
  /** Deleted rows in one answer. */
  trashedRows: 1_000,
  /** Transactions that a pull may ask about, and that one pushed transaction may depend on. */
  ownTransactions: 10_000,
  /** Origins that one request names. */
  origins: 10_000,
} as const;

/** `GET /v1/about`: who answers. */
export interface About {
  readonly server: 'koinon';
  readonly protocol: number;
  readonly feed: string;
  readonly schemaVersion: number;
  readonly tables: readonly string[];
  /** The end of the feed; null where only users are told. */
  readonly position: number | null;
}

/** `POST /v1/pull`. Without a cursor: everything. */
export interface PullRequest {
  readonly cursor?: string;
  /** Rows at most. */
  readonly limit?: number;
  /** The replica that asks, where it has an id. */
  readonly replica?: string;
  /** Confirmed transactions of this replica that its cursor does not include yet. */
  readonly unacknowledged?: readonly string[];
  /** The version of the schema the app has. */
  readonly schemaVersion?: number;
  /** Only rows of these tables; all that the user may have without it. */
  readonly tables?: readonly string[];
  /**
   * The columns that the app knows, by table: nothing is sent of others, nor of tables that are not named. Without it
   * everything the user may have.
   */
  readonly columns?: Readonly<Record<string, readonly string[]>>;
  /** Only rows that fulfil this, by table: as in a query, over columns that are filterable. */
  readonly where?: Readonly<Record<string, unknown>>;
  /** Tells whether large bytes that `replica` has sent itself may be left out; what they must be is said by {@link KnownBytes}. */
  readonly omitKnownBytes?: boolean;
  /** Tells whether rows of a first download may come as {@link RowBlock}s, where the server can make them. */
  readonly rowBlocks?: boolean;
}

/** The first line of a pull's answer; the rows follow, one in a line, or many as a {@link RowBlock}. */
export interface PullHeader {
  readonly kind: 'snapshot' | 'changes';
  /** The position the rows lead away from; null for the first page of a snapshot. */
  readonly from: number | null;
  /** The position they lead to. */
  readonly to: number;
  /** The cursor to send next time. */
  readonly cursor: string;
  /** The newest position of the feed. */
  readonly newest: number;
  /** Rows to come by this and later pages, by table: of a snapshot on its first page, of changes on every page. */
  readonly remaining?: Readonly<Record<string, number>>;
  /** About how many bytes those rows are, as they travel before compression. */
  readonly remainingBytes?: Readonly<Record<string, number>>;
  /** How many rows follow. Fewer arriving means the answer was cut off. */
  readonly rows: number;
  /** Tells whether another pull would bring more at once. */
  readonly more: boolean;
  /** For a snapshot: whether this is its last page. Always true of changes. */
  readonly last: boolean;
  /** Whose replica this is, where the server knows users. */
  readonly user?: string;
  /** Tells whether there may be rows on the server that are not this user's, or were not asked for. */
  readonly partial?: boolean;
  /**
   * The server's schema: its version, and a digest of the types of those of the columns asked for that it knows. Where the
   * versions are the same and the digests are not, or it knows none of the tables, it is the server of another app.
   */
  readonly schema?: { readonly version: number; readonly digest: string };
  /**
   * Columns that were asked for and that this server does not know, by table: it is older than the app, or so much newer that
   * they have another name. Once they are no longer named, what they hold is to be fetched.
   */
  readonly unsupported?: Readonly<Record<string, readonly string[]>>;
  /** Those of the request's `unacknowledged` transactions whose effect is in these rows, and in all sent before. */
  readonly acknowledged: readonly string[];
  /** The server's clock, RFC 3339. */
  readonly time: string;
  /**
   * How many transactions of this replica the server has applied. A replica that counts another number was put back to an
   * earlier state, or copied: it asks which of its origins were applied before it merges anything.
   */
  readonly uploads?: number;
}

/** When a row was edited; RFC 3339, by the server's clock. */
export interface RowTimes {
  /** The last edit of any of the columns sent; left out in a first download. */
  readonly editedAt?: string;
  /** The user who edited all of them, where it was one, the server knows users, and it came from a device. */
  readonly editedBy?: string;
  /** The last edit of each column that is merged by `newest`, where it differs. */
  readonly times?: Readonly<Record<string, string>>;
}

/** For a row: large bytes that its reader has sent itself and that are left out. */
export interface KnownBytes {
  /** Their SHA-256 in hexadecimal, by column. Whoever has no such bytes any more asks without `omitKnownBytes`. */
  readonly digests?: Readonly<Record<string, string>>;
}

/** One row of a pull: what became of it between `from` and `to`. */
export type PulledRow =
  | (KnownBytes &
      RowTimes & {
        readonly kind: 'insert';
        readonly table: string;
        readonly id: string;
        readonly position: number;
        /** All columns. */
        readonly columns: WireColumns;
      })
  | (KnownBytes &
      RowTimes & {
        readonly kind: 'update';
        readonly table: string;
        readonly id: string;
        readonly position: number;
        /** Only the columns that changed. */
        readonly columns: WireColumns;
      })
  | (RowTimes & {
      readonly kind: 'delete';
      readonly table: string;
      readonly id: string;
      readonly position: number;
      /** The columns that the row held last, where that is known. */
      readonly columns?: WireColumns;
    })
  /** The row is no longer one of this user's: it leaves the device, and is not deleted for that. */
  | { readonly kind: 'leave'; readonly table: string; readonly id: string; readonly position: number };

/**
 * Rows of one table that are new to their reader, in one line: the names of their columns stand once. It says the same as that
 * many rows of kind `insert`.
 */
export interface RowBlock {
  readonly kind: 'rows';
  readonly table: string;
  readonly position: number;
  readonly columns: readonly string[];
  /** Each row is its id, and then a value for each of the columns. */
  readonly rows: readonly (readonly JsonValue[])[];
}

/** One page of a pull, read whole. */
export interface PulledPage {
  readonly header: PullHeader;
  readonly rows: readonly PulledRow[];
  /** Rows that came as blocks, where the request allowed them. */
  readonly blocks?: readonly RowBlock[];
}

/** A transaction as it travels up. */
export interface UploadedTransaction {
  /** A UUID of its own. */
  readonly id: string;
  /** When the person did it: RFC 3339, already corrected by the device clock's known offset. */
  readonly editedAt: string;
  /**
   * UUIDs of what the person did: of several transactions, where they are joined in this one. Unlike the id they stay when a
   * merge gives the transaction another content. What was applied under one is not applied again. Without it: the id.
   */
  readonly origins?: readonly string[];
  /** The replica's own transactions that the base does not include and that wrote what this one writes. */
  readonly dependsOn: readonly string[];
  readonly changes: readonly WireChange[];
  /** Which of its parts this is, where a transaction is too large for one request; it is taken up with the last. */
  readonly part?: Part;
}

/** One of the parts that a large transaction goes up in. */
export interface Part {
  /** From 0. */
  readonly index: number;
  readonly count: number;
}

/** `POST /v1/push`. */
export interface PushRequest {
  readonly replica: string;
  /** The cursor whose positions the replica knew when it formed these transactions; null before its first pull. */
  readonly base: string | null;
  /** The version of the schema the app has. */
  readonly schemaVersion?: number;
  readonly transactions: readonly UploadedTransaction[];
}

/** A row that kept a transaction from being applied. */
export interface StaleRow {
  readonly table: string;
  readonly id: string;
  /** The columns that others changed; empty where the row was inserted or deleted by others. */
  readonly columns: readonly string[];
}

/** Columns of one row to which the server gave other values than were sent. */
export interface ServerValues {
  readonly table: string;
  readonly id: string;
  readonly columns: WireColumns;
}

/** The outcome of one uploaded transaction. */
export type Outcome =
  | {
      readonly id: string;
      readonly outcome: 'applied';
      readonly position: number;
      /** The values that the server's hooks filled in or corrected. */
      readonly values?: readonly ServerValues[];
    }
  /** Nothing was done: some or all of its origins were applied before, under these ids. The others may be sent by themselves. */
  | { readonly id: string; readonly outcome: 'applied-before'; readonly receipts: readonly AppliedOrigin[] }
  | { readonly id: string; readonly outcome: 'stale'; readonly rows: readonly StaleRow[] }
  /** Nothing was done, since a transaction that it depends on was not applied. */
  | { readonly id: string; readonly outcome: 'blocked'; readonly blockedBy: string }
  /** Nothing was done, since the server cannot apply it now. It may be sent again. */
  | { readonly id: string; readonly outcome: 'deferred' }
  | { readonly id: string; readonly outcome: 'rejected'; readonly problems: readonly Problem[] }
  /** A part was taken in, and others are to follow. */
  | { readonly id: string; readonly outcome: 'part-stored' }
  /** The last part came, but not all before it are there: it begins anew. */
  | { readonly id: string; readonly outcome: 'parts-missing' };

/** The origin of something that was applied, and the id of the transaction that did it. */
export interface AppliedOrigin {
  readonly origin: string;
  readonly id: string;
}

/** `POST /v1/applied`: which of these origins of a replica were applied. */
export interface AppliedRequest {
  readonly replica: string;
  readonly origins: readonly string[];
}

/** The answer to {@link AppliedRequest}. */
export interface AppliedResponse {
  readonly receipts: readonly AppliedOrigin[];
}

/** The answer to a push: one outcome per transaction, in order. */
export interface PushResponse {
  readonly outcomes: readonly Outcome[];
  readonly time: string;
}

/** `GET /v1/trash`: which deleted rows are asked for, as parameters of the query. */
export interface TrashRequest {
  readonly table?: string;
  readonly id?: string;
  /**
   * The last row of the page before: the next one begins behind it. Many may have been deleted at one position. In the
   * query: `before`, `beforeTable` and `beforeId`.
   */
  readonly before?: Pick<TrashedRow, 'position' | 'table' | 'id'>;
  /** At most this many; 100 by default, 1,000 at most. */
  readonly limit?: number;
}

/** A deleted row that can be brought back. */
export interface TrashedRow {
  readonly table: string;
  readonly id: string;
  readonly position: number;
  /** RFC 3339. */
  readonly deletedAt: string;
  /** The columns as they were last. */
  readonly columns: WireColumns;
}

/** The answer to `GET /v1/trash`: last deleted first. */
export interface TrashResponse {
  readonly rows: readonly TrashedRow[];
  /** The beginning of the next page, as its `before`; left out where there are no more. */
  readonly next?: Pick<TrashedRow, 'position' | 'table' | 'id'>;
}

/** `POST /v1/restore`: brings a deleted row back as it was. */
export interface RestoreRequest {
  readonly table: string;
  readonly id: string;
}

/** `GET /v1/feed`: the changes behind a position, for programs without a replica; parameters of the query. */
export interface FeedRequest {
  /** A position, or a cursor that an earlier answer gave. Without it: from the beginning. */
  readonly after?: number | string;
  /** Goes on with what changes later, as server-sent events. */
  readonly follow?: boolean;
  /** Only changes of this table. */
  readonly table?: string;
  readonly kind?: PulledRow['kind'];
}

/** The rows that a pull would bring, by table. */
export type ToCome = Readonly<Record<string, { readonly rows: number; readonly bytes: number }>>;

/** An error as it travels (RFC 9457). */
export interface ProblemDocument {
  readonly type: string;
  readonly title: string;
  readonly status: number;
  readonly code: string;
  readonly detail: string;
  readonly table?: string;
  readonly column?: string;
}
