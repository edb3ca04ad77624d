import * as v from 'valibot';
import { described, type Message, readRequest, requestOf } from './message.ts';

export const feedQuery = requestOf({
  after: described(
    v.pipe(
      v.string('a position or a cursor'),
      v.transform((after): number | string => (/^\d{1,15}$/.test(after) ? Number(after) : after)),
    ),
    'A position, or the cursor of the last line; without it, everything.',
  ),
  follow: described(
    v.pipe(
      v.picklist(['true', 'false'], 'true or false'),
      v.transform((follow) => follow === 'true'),
    ),
    'Goes on with what changes later, as server-sent events.',
  ),
  table: described(v.string('one table name'), 'Only changes of this table.'),
  kind: described(
    v.picklist(['insert', 'update', 'delete', 'leave'], 'insert, update, delete or leave'),
    'Only changes of this kind.',
  ),
});

/** `GET /v1/feed`: the changes behind a position, for programs without a replica; parameters of the query. */
export type FeedRequest = Message<typeof feedQuery>;

/** Reads the parameters of a request for the feed. @throws KoinonError `malformed-request`. */
export function readFeedRequest(query: unknown): FeedRequest {
  return readRequest(feedQuery, query ?? {}, 'the query');
}
