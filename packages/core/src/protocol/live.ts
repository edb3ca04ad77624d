import * as v from 'valibot';
import { KoinonError, shown } from '../errors/errors.ts';
import {
  checkAnswer,
  count,
  cursor,
  fits,
  listOf,
  type Message,
  malformed,
  nameOf,
  readRequest,
  requestOf,
  schemaVersion,
  text,
  timestamp,
  uuid,
  yesOrNo,
} from './message.ts';
import { problemDocument } from './problem.ts';
import { partAskedFor, pulledRow, unsupported } from './pull.ts';
import { pushResponse } from './push.ts';

/** The path of the WebSocket, behind the version. */
export const livePath = '/live';

/** Milliseconds after which a side that has heard nothing takes the connection for broken; each says something twice as often. */
export const silence = 40_000;

const only = requestOf(partAskedFor);

/** The part that a replica asks for of what its user may have. */
export type Only = Message<typeof only>;

const counter = v.pipe(v.number('a whole number'), v.safeInteger('a whole number'));

export const joinRequest = requestOf({
  /** Counts up with each; the answer names it. */
  join: counter,
  cursor,
  replica: uuid,
  /** Whose replica it is, where the server asks. */
  token: v.optional(v.string('a token')),
  schemaVersion: v.optional(schemaVersion),
  /** As in a pull: what the replica asks for. */
  only: v.optional(only),
  /** Only changes of these tables call for a window; those of others come along with the next one. All without it. */
  tables: v.optional(listOf(nameOf('a name'), 1_000)),
  /** Tells the replica when contents of files are stored. */
  files: v.optional(yesOrNo),
  /** Tells the replica, by `moved`, when rows of these tables have changed that its user may read: it queries them. */
  queries: v.optional(listOf(nameOf('a name'), 1_000)),
});

/** A message of a replica on its WebSocket: its state, first of all and again after each pull of its own. */
export type JoinRequest = Message<typeof joinRequest>;

export const livePush = requestOf({
  /** Counts up with each; the answer names it. One is under way at a time. */
  push: counter,
  /** A push's body, to be read like one. */
  request: v.optional(v.unknown()),
});

/** A small push, over the connection on which a replica has joined: the same as `POST /v1/push`, without a request's cost. */
export type LivePush = Message<typeof livePush>;

/** Reads what a replica says on its WebSocket; the body of a push is yet to be read. @throws KoinonError `malformed-request`. */
export function readLiveRequest(said: string): JoinRequest | LivePush {
  let message: unknown;
  try {
    message = JSON.parse(said);
  } catch {
    throw malformed('the message', 'JSON', said);
  }
  const isPush = typeof message === 'object' && message !== null && Object.hasOwn(message, 'push');
  return isPush ? readRequest(livePush, message, 'the message') : readRequest(joinRequest, message, 'the message');
}

const liveWindow = v.object({
  /** The cursor that the rows lead away from: a replica at any other pulls instead. */
  from: text,
  /** The cursor that they lead to. */
  cursor: text,
  /** The position as a number for people. */
  position: count,
  rows: v.array(pulledRow),
  /** The transactions whose effect is in these rows. */
  applied: v.array(text),
  /** Set in the first one after a join, as in a pull's header. */
  uploads: v.optional(count),
  /** Set in the first one after a join, as in a pull: what was asked for that the server does not know yet. */
  unsupported: v.optional(unsupported),
  /** The server's clock, RFC 3339. */
  time: timestamp,
});

/** A stretch of the feed, with its rows. */
export type LiveWindow = Message<typeof liveWindow>;

const pushed = { type: v.literal('pushed'), push: count };

export const liveMessage = v.variant('type', [
  /** The answer to a join: what came since its cursor; windows follow from there on. */
  v.object({
    type: v.literal('joined'),
    ...liveWindow.entries,
    join: count,
    /** Bytes that a push over this connection may have; none may go over it without this. */
    pushBytes: v.optional(count),
  }),
  v.object({ type: v.literal('window'), ...liveWindow.entries }),
  /** Too much has come, or too fast: the replica pulls, and joins again. */
  v.object({ type: v.literal('pull-required') }),
  /** Contents of files have been stored since the last one. It names none: those that wait for one ask for it. */
  v.object({ type: v.literal('content-stored') }),
  /** Rows of these tables have changed, of those that the replica queries. */
  v.object({ type: v.literal('moved'), tables: v.array(text) }),
  /** The server is about to stop. Replicas come back at any time within these milliseconds, or at once with an edit. */
  v.object({ type: v.literal('restarting'), within: count }),
  /** Nothing has happened for a while. */
  v.object({ type: v.literal('heartbeat') }),
  /** The answer to a push: as over HTTP, or why there is none. */
  v.object({ ...pushed, ...pushResponse.entries }),
  v.object({ ...pushed, problem: problemDocument }),
  v.object({ type: v.literal('refused'), problem: problemDocument }),
]);

/** A message of the server on a WebSocket. */
export type LiveMessage = Message<typeof liveMessage>;

/** Looks at what a server said on a live connection. @throws KoinonError `server-answer`. */
export function checkLiveMessage(message: unknown): LiveMessage {
  if (!fits(liveMessage, message))
    throw new KoinonError('server-answer', `This is no message of a Koinon server: ${shown(message)}.`);
  return message;
}

export const waitRequest = requestOf({
  cursor,
  replica: v.optional(uuid),
  schemaVersion: v.optional(schemaVersion),
  only: v.optional(only),
  /** Answers as well when rows of these tables have changed that the user may read: the replica queries them. */
  queries: v.optional(listOf(nameOf('a name'), 1_000)),
});

/** `POST /v1/wait`, for those whose network lets no WebSocket through: answers when there is something behind the cursor. */
export type WaitRequest = Message<typeof waitRequest>;

/** Reads a request to be told of changes. @throws KoinonError `malformed-request`. */
export function readWaitRequest(body: unknown): WaitRequest {
  return readRequest(waitRequest, body);
}

export const waitResponse = v.object({ moved: yesOrNo });

/** The answer: whether there is something, or the time was over. */
export type WaitResponse = Message<typeof waitResponse>;

/** Looks at the answer to a request that waits. @throws KoinonError `server-answer`. */
export function checkWaitResponse(body: unknown): WaitResponse {
  return checkAnswer(waitResponse, body, 'a request that waits for changes');
}
