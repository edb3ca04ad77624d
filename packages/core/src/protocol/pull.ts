import * as v from 'valibot';
import { KoinonError, shown } from '../errors/errors.ts';
import { limits } from '../limits.ts';
import type { JsonValue } from '../table/column.ts';
import { checkId } from '../values/check.ts';
import {
  columns,
  conditions,
  count,
  cursor,
  described,
  fits,
  listOf,
  type Message,
  nameOf,
  noAnswer,
  readRequest,
  recordOf,
  requestOf,
  rowId,
  schemaVersion,
  text,
  timestamp,
  uuid,
  wholeNumber,
  yesOrNo,
} from './message.ts';

const names = listOf(nameOf('a name'), 1_000);

/** The part that a replica asks for of what its user may have: the same in a pull, on a live connection and in a wait. */
export const partAskedFor = {
  /** Only rows of these tables; all that the user may have without it. */
  tables: v.optional(names),
  /**
   * The columns that the app knows, by table: nothing is sent of others, nor of tables that are not named. Without it
   * everything the user may have.
   */
  columns: v.optional(recordOf(names)),
  /** Only rows that fulfil this, by table: as in a query, over columns that are filterable. */
  where: v.optional(conditions),
};

export const pullRequest = requestOf({
  cursor: v.optional(cursor),
  /** Rows at most. */
  limit: v.optional(wholeNumber(1)),
  /** Confirmed transactions of this replica that its cursor does not include yet. */
  unacknowledged: v.optional(listOf(uuid, limits.ownTransactions)),
  /** The replica that asks, where it has an id. */
  replica: v.optional(uuid),
  /** The version of the schema the app has. */
  schemaVersion: v.optional(schemaVersion),
  ...partAskedFor,
  /** Tells whether large bytes that `replica` has sent itself may be left out; what they must be is said by {@link KnownBytes}. */
  omitKnownBytes: described(yesOrNo, 'Whether large bytes that the replica has sent may be left out.'),
  /** Tells whether the answer may be of a state some seconds ago, which is never behind `cursor`. Without it the answer is of the moment of the request. */
  mayBeBehind: described(yesOrNo, 'Whether the answer may be of a state some seconds ago.'),
  /** Tells whether rows of a first download may come as {@link RowBlock}s, where the server can make them. */
  rowBlocks: described(yesOrNo, 'Whether rows of a first download may come as RowBlocks.'),
});

/** `POST /v1/pull`. Without a cursor: everything. */
export type PullRequest = Message<typeof pullRequest>;

/** Reads a pull request. @throws KoinonError `malformed-request`. */
export function readPullRequest(body: unknown): PullRequest {
  return readRequest(pullRequest, body ?? {});
}

/** Columns by table that were asked for and that the server does not know. */
export const unsupported = recordOf(v.array(text));

export const pullHeader = v.object({
  kind: v.picklist(['snapshot', 'changes']),
  /** The position the rows lead away from; null for the first page of a snapshot. */
  from: v.nullable(count),
  /** The position they lead to. */
  to: count,
  /** The cursor to send next time. */
  cursor,
  /** The newest position of the feed. */
  newest: count,
  /** Rows to come by this and later pages, by table: of a snapshot on its first page, of changes on every page. */
  remaining: v.optional(recordOf(count)),
  /** About how many bytes those rows are, as they travel before compression. */
  remainingBytes: v.optional(recordOf(count)),
  /** How many rows follow. Fewer arriving means the answer was cut off. */
  rows: count,
  /** Tells whether another pull would bring more at once. */
  more: yesOrNo,
  /** Tells whether the first download is complete with this page. Changes come before that where its scope was changed in the middle. */
  last: yesOrNo,
  /** Whose replica this is, where the server knows users. */
  user: v.optional(text),
  /** Tells whether there may be rows on the server that are not this user's, or were not asked for. */
  partial: v.optional(yesOrNo),
  /**
   * The server's schema: its version, and a digest of the types of those of the columns asked for that it knows. Where the
   * versions are the same and the digests are not, or it knows none of the tables, it is the server of another app.
   */
  schema: v.optional(v.object({ version: count, digest: text })),
  /**
   * Columns that were asked for and that this server does not know, by table: it is older than the app, or so much newer that
   * they have another name. Once they are no longer named, what they hold is to be fetched.
   */
  unsupported: v.optional(unsupported),
  /** Those of the request's `unacknowledged` transactions whose effect is in these rows, and in all sent before. */
  acknowledged: v.array(text),
  /** The server's clock, RFC 3339. */
  time: timestamp,
  /**
   * How many transactions of this replica the server has applied. A replica that counts another number was put back to an
   * earlier state, or copied: it asks which of its origins were applied before it merges anything.
   */
  uploads: v.optional(count),
});

/** The first line of a pull's answer; the rows follow, one in a line, or many as a {@link RowBlock}. */
export type PullHeader = Message<typeof pullHeader>;

const rowTimes = v.object({
  /** The last edit of any of the columns sent; left out in a first download. */
  editedAt: v.optional(timestamp),
  /** The user who edited all of them, where it was one, the server knows users, and it came from a device. */
  editedBy: v.optional(text),
  /** The last edit of each column that is merged by `newest`, where it differs. */
  times: v.optional(recordOf(timestamp)),
});

/** When a row was edited; RFC 3339, by the server's clock. */
export type RowTimes = Message<typeof rowTimes>;

const knownBytes = v.object({
  /** Their SHA-256 in hexadecimal, by column. Whoever has no such bytes any more asks without `omitKnownBytes`. */
  digests: v.optional(recordOf(text)),
});

/** For a row: large bytes that its reader has sent itself and that are left out. */
export type KnownBytes = Message<typeof knownBytes>;

/** A row in the feed. */
export const rowPlace = { table: text, id: rowId, position: count };

export const pulledRow = v.variant('kind', [
  v.object({
    kind: v.literal('insert'),
    ...rowPlace,
    /** All columns. */
    columns,
    ...knownBytes.entries,
    ...rowTimes.entries,
  }),
  v.object({
    kind: v.literal('update'),
    ...rowPlace,
    /** Only the columns that changed. */
    columns,
    ...knownBytes.entries,
    ...rowTimes.entries,
  }),
  v.object({
    kind: v.literal('delete'),
    ...rowPlace,
    /** The columns that the row held last, where that is known. */
    columns: v.optional(columns),
    ...rowTimes.entries,
  }),
  /** The row is no longer one of this user's: it leaves the device, and is not deleted for that. */
  v.object({ kind: v.literal('leave'), ...rowPlace }),
]);

/** One row of a pull: what became of it between `from` and `to`. */
export type PulledRow = Message<typeof pulledRow>;

export const rowBlock = v.object({
  kind: v.literal('rows'),
  table: text,
  position: count,
  columns: v.array(text),
  /** Each row is its id, and then a value for each of the columns. */
  rows: v.array(v.custom<readonly JsonValue[]>(Array.isArray)),
});

/**
 * Rows of one table that are new to their reader, in one line: the names of their columns stand once. It says the same as that
 * many rows of kind `insert`.
 */
export type RowBlock = Message<typeof rowBlock>;

/** One page of a pull, read whole. */
export interface PulledPage {
  readonly header: PullHeader;
  readonly rows: readonly PulledRow[];
  /** Rows that came as blocks, where the request allowed them. */
  readonly blocks?: readonly RowBlock[];
}

/** The rows that a pull would bring, by table. */
export type ToCome = Readonly<Record<string, { readonly rows: number; readonly bytes: number }>>;

const isBlock = (line: unknown) => (line as Partial<RowBlock> | null)?.kind === 'rows';

/** Reads the lines of a pull's answer, which are still to be looked at. @throws KoinonError `server-answer` when it was cut off. */
export function readPulledPage(body: string): PulledPage {
  let parsed: unknown[];
  try {
    // A line break can only stand between two values; read at once, they take a fraction of the time.
    parsed = JSON.parse(`[${body.trimEnd().replaceAll('\n', ',')}]`) as unknown[];
  } catch {
    throw new KoinonError(
      'server-answer',
      `The server's answer was cut off or is not JSON Lines, at ${shown(body.slice(-60))}; try again.`,
    );
  }
  const lines = parsed.slice(1);
  const blocks = lines.filter(isBlock);
  if (blocks.length === 0) return { header: parsed[0] as PullHeader, rows: lines as PulledRow[] };
  const rows = lines.filter((line) => !isBlock(line));
  return { header: parsed[0] as PullHeader, rows: rows as PulledRow[], blocks: blocks as RowBlock[] };
}

/** Looks at a page of a pull. @throws KoinonError `server-answer` when it is none. */
export function checkPulledPage(page: unknown): PulledPage {
  const { header, rows, blocks = [] } = (page ?? {}) as Partial<Record<keyof PulledPage, unknown>>;
  if (!fits(pullHeader, header) || !Array.isArray(rows) || !Array.isArray(blocks)) throw noAnswer('a pull', header);
  const made = blocks.filter(isRowBlock);
  if (made.length < blocks.length) throw noAnswer('a pull', 'a block of rows that is none');
  const arrived = made.reduce((sum, block) => sum + block.rows.length, rows.length);
  if (arrived !== header.rows)
    throw new KoinonError(
      'server-answer',
      `The server's answer was cut off: ${arrived} of ${header.rows} rows arrived; try again.`,
    );
  const pulled = rows.filter((row) => fits(pulledRow, row));
  if (pulled.length < rows.length)
    throw noAnswer(
      'a pull',
      rows.find((row) => !fits(pulledRow, row)),
    );
  return { header, rows: pulled, ...(made.length > 0 && { blocks: made }) };
}

function isRowBlock(block: unknown): block is RowBlock {
  if (!fits(rowBlock, block)) return false;
  const width = block.columns.length + 1;
  return block.rows.every((row) => row.length === width && checkId(row[0]) === undefined);
}
