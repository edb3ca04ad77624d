import type { ProblemDocument, PulledRow, PullRequest, PushResponse } from './messages.ts';

/** The path of the WebSocket, behind the version. */
export const livePath = '/live';

/** Milliseconds after which a side that has heard nothing takes the connection for broken; each says something twice as often. */
export const silence = 40_000;

/** The part that a replica asks for of what its user may have. */
export type Only = Pick<PullRequest, 'tables' | 'columns' | 'where'>;

/** A message of a replica on its WebSocket: its state, first of all and again after each pull of its own. */
export interface JoinRequest {
  /** Counts up with each; the answer names it. */
  readonly join: number;
  readonly cursor: string;
  readonly replica: string;
  /** Whose replica it is, where the server asks. */
  readonly token?: string;
  readonly schemaVersion?: number;
  /** As in a pull: what the replica asks for. */
  readonly only?: Only;
  /** Only changes of these tables call for a window; those of others come along with the next one. All without it. */
  readonly tables?: readonly string[];
}

/** A small push, over the connection on which a replica has joined: the same as `POST /v1/push`, without a request's cost. */
export interface LivePush {
  /** Counts up with each; the answer names it. One is under way at a time. */
  readonly push: number;
  /** A push's body, to be read like one. */
  readonly request: unknown;
}

/** A stretch of the feed, with its rows. */
export interface LiveWindow {
  /** The cursor that the rows lead away from: a replica at any other pulls instead. */
  readonly from: string;
  /** The cursor that they lead to. */
  readonly cursor: string;
  /** The position as a number for people. */
  readonly position: number;
  readonly rows: readonly PulledRow[];
  /** The transactions whose effect is in these rows. */
  readonly applied: readonly string[];
  /** Set in the first one after a join, as in a pull's header. */
  readonly uploads?: number;
  /** Set in the first one after a join, as in a pull: what was asked for that the server does not know yet. */
  readonly unsupported?: Readonly<Record<string, readonly string[]>>;
  /** The server's clock, RFC 3339. */
  readonly time: string;
}

/** A message of the server on a WebSocket. */
export type LiveMessage =
  /** The answer to a join: what came since its cursor; windows follow from there on. */
  | (LiveWindow & {
      readonly type: 'joined';
      readonly join: number;
      /** Bytes that a push over this connection may have; none may go over it without this. */
      readonly pushBytes?: number;
    })
  | (LiveWindow & { readonly type: 'window' })
  /** Too much has come, or too fast: the replica pulls, and joins again. */
  | { readonly type: 'pull-required' }
  /** Nothing has happened for a while. */
  | { readonly type: 'heartbeat' }
  /** The answer to a push: as over HTTP, or why there is none. */
  | ({ readonly type: 'pushed'; readonly push: number } & (PushResponse | { readonly problem: ProblemDocument }))
  | { readonly type: 'refused'; readonly problem: ProblemDocument };

/** `POST /v1/wait`, for those whose network lets no WebSocket through: answers when there is something behind the cursor. */
export interface WaitRequest {
  readonly cursor: string;
  readonly replica?: string;
  readonly schemaVersion?: number;
  readonly only?: Only;
}

/** The answer: whether there is something, or the time was over. */
export interface WaitResponse {
  readonly moved: boolean;
}
