import * as v from 'valibot';
import { checkAnswer, count, described, type Message, readRequest, requestOf, schemaVersion, uuid } from './message.ts';

/** A query, whose parts are for the schema of the app to say. */
export const anyQuery: v.GenericSchema<unknown, Readonly<Record<string, unknown>>> = v.custom<
  Readonly<Record<string, unknown>>
>((given) => typeof given === 'object' && given !== null && !Array.isArray(given), 'an object with `from`');

export const queryRequest = requestOf({
  rows: described(
    anyQuery,
    'The rows of a query: `from`, `where`, `order`, `limit`, `offset`, `after`, `columns`, `join`.',
  ),
  count: described(anyQuery, 'How many rows a condition has: `from`, `where`.'),
  summary: described(anyQuery, 'Rows counted and measured by group: `from`, `where`, `by`, `measures`.'),
  replica: v.optional(uuid),
  schemaVersion: v.optional(schemaVersion),
});

/** `POST /v1/query`: one query, answered from the server's database under the scopes of the user. One of the three is given. */
export type QueryRequest = Message<typeof queryRequest>;

/** Reads a query. @throws KoinonError `malformed-request`. */
export function readQueryRequest(body: unknown): QueryRequest {
  return readRequest(queryRequest, body);
}

export const queryResponse = v.object({
  /** The rows of a query, or the lines of a summary: values by column as they travel, and what was joined in by its name. */
  rows: v.optional(v.array(v.record(v.string(), v.unknown()))),
  count: v.optional(count),
});

/** The answer to a query: `count` where that was asked for, else `rows`. */
export type QueryResponse = Message<typeof queryResponse>;

/** Looks at the answer to a query. @throws KoinonError `server-answer`. */
export function checkQueryResponse(body: unknown): QueryResponse {
  return checkAnswer(queryResponse, body, 'a query');
}
