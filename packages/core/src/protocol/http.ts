/** The version of the protocol; it stands in every path. */
export const protocolVersion = 1;

/** The media type of JSON Lines answers: one JSON value per line. */
export const jsonLines = 'application/jsonl';

/** The media type of server-sent events. */
export const eventStream = 'text/event-stream';

/** The media type of an error (RFC 9457). */
export const problemJson = 'application/problem+json';
