import * as v from 'valibot';
import { protocolVersion } from './http.ts';
import { count, type Message, text } from './message.ts';

export const about = v.object({
  server: v.literal('koinon'),
  protocol: v.literal(protocolVersion),
  feed: text,
  schemaVersion: count,
  tables: v.array(text),
  /** The end of the feed; null where only users are told. */
  position: v.nullable(count),
});

/** `GET /v1/about`: who answers. */
export type About = Message<typeof about>;
