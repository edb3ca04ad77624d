import * as v from 'valibot';
import { limits } from '../limits.ts';
import {
  checkAnswer,
  columns,
  described,
  type Message,
  malformed,
  readRequest,
  requestOf,
  searchable,
  timestamp,
} from './message.ts';
import { rowPlace } from './pull.ts';

const oneText = searchable('one text');

/** A whole number in the query of an address. */
// @__NO_SIDE_EFFECTS__
const numberInQuery = (most: number) => {
  const expected = `a whole number from 1 to ${most}`;
  return v.pipe(
    v.string(expected),
    v.regex(/^\d{1,16}$/, expected),
    v.transform(Number),
    v.minValue(1, expected),
    v.maxValue(most, expected),
  );
};

export const trashQuery = requestOf({
  table: described(oneText, 'Only rows of this table.'),
  id: described(oneText, 'Only rows of this id.'),
  before: described(numberInQuery(Number.MAX_SAFE_INTEGER), 'The position of the last row of the page before.'),
  beforeTable: described(oneText, 'Its table.'),
  beforeId: described(oneText, 'Its id.'),
  limit: described(numberInQuery(limits.trashedRows), 'At most this many.'),
});

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

/** Reads the parameters of a request for deleted rows. @throws KoinonError `malformed-request`. */
export function readTrashRequest(query: unknown): TrashRequest {
  const { before: position, beforeTable, beforeId, ...asked } = readRequest(trashQuery, query ?? {}, 'the query');
  if ((position ?? beforeTable ?? beforeId) === undefined) return asked;
  if (position === undefined || beforeTable === undefined || beforeId === undefined)
    throw malformed('before', 'a row, with `beforeTable` and `beforeId` as well', position);
  return { ...asked, before: { position, table: beforeTable, id: beforeId } };
}

const trashedRow = v.object({
  ...rowPlace,
  /** RFC 3339. */
  deletedAt: timestamp,
  /** The columns as they were last. */
  columns,
});

/** A deleted row that can be brought back. */
export type TrashedRow = Message<typeof trashedRow>;

export const trashResponse = v.object({
  rows: v.array(trashedRow),
  /** The beginning of the next page, as its `before`; left out where there are no more. */
  next: v.optional(v.object(rowPlace)),
});

/** The answer to `GET /v1/trash`: last deleted first. */
export type TrashResponse = Message<typeof trashResponse>;

/** Looks at the answer to a request for deleted rows. @throws KoinonError `server-answer`. */
export function checkTrashResponse(body: unknown): TrashResponse {
  return checkAnswer(trashResponse, body, 'a request for deleted rows');
}

export const restoreRequest = requestOf({ table: searchable('a table name'), id: searchable('a row id') });

/** `POST /v1/restore`: brings a deleted row back as it was. */
export type RestoreRequest = Message<typeof restoreRequest>;

/** Reads a request to bring a row back. @throws KoinonError `malformed-request`. */
export function readRestoreRequest(body: unknown): RestoreRequest {
  return readRequest(restoreRequest, body);
}
