import {
  type AppliedRequest,
  type AppliedResponse,
  type JoinRequest,
  KoinonError,
  type LiveMessage,
  type PulledPage,
  type PullRequest,
  type PushResponse,
  type QueryRequest,
  type QueryResponse,
  type Schema,
  type TrashRequest,
  type TrashResponse,
} from '@koinon/core';
import {
  readAppliedRequest,
  readPulledPage,
  readPullRequest,
  readPushRequest,
  readQueryRequest,
} from '@koinon/core/internal';
import type { User } from '../auth/authenticate.ts';
import { EffectJob, type EffectOptions } from '../effects/job.ts';
import { cursorOf, linesOf, pull, unsupported } from '../pull/pull.ts';
import { appliedBefore } from '../push/assigned-keys.ts';
import { push } from '../push/push.ts';
import { answerQuery, defaultQueryLimits } from '../query/answer.ts';
import { Hub } from '../realtime/hub.ts';
import { type RuleOptions, ruleSet } from '../rules/rules.ts';
import { scopeSet } from '../scope/evaluate.ts';
import type { Scopes } from '../scope/scopes.ts';
import type { QueryLimits } from '../store/query.ts';
import type { Store } from '../store/store.ts';
import { trash } from '../trash/trash.ts';

/** Options of {@link serveInProcess}. */
export interface InProcessOptions<S extends Schema = Schema> extends RuleOptions<S>, EffectOptions {
  /** The store that is served. */
  readonly store: Store;
  /** The rows that each user has; every row for everybody, where it is left out. */
  readonly scopes?: Scopes<S>;
  /** How much one query may take. */
  readonly queryLimits?: Partial<QueryLimits>;
}

/** The listener of what the server says by itself. */
export interface InProcessListener {
  /** The connection is open. */
  open(): void;
  /** The server says something. */
  message(message: LiveMessage): void;
  /** The connection is closed. */
  closed(): void;
}

/** The connection that a replica takes for its `server`: the protocol without a network. */
export interface InProcessConnection {
  /** One page of the feed. */
  pull(request: PullRequest): Promise<PulledPage>;
  /** Applies the transactions of a request, given as its text. */
  push(body: string): Promise<PushResponse>;
  /** Tells which of these transactions the server has applied. */
  applied(request: AppliedRequest): Promise<AppliedResponse>;
  /** A page of the deleted rows that the user may see. */
  trash(request: TrashRequest): Promise<TrashResponse>;
  /** Answers one query of tables that the server keeps. */
  query(request: QueryRequest): Promise<QueryResponse>;
  /** Opens a live connection. */
  live(listener: InProcessListener): InProcessChannel;
}

/** The device's end of a live connection to an {@link InProcessServer}. */
export interface InProcessChannel {
  /** Asks for what happens from a cursor on. */
  say(request: JoinRequest): void;
  /** Closes the connection. */
  close(): void;
}

/** A server in the process that uses it. */
export interface InProcessServer {
  /** The way to it for a user; without one, for whoever asks. */
  connect(user?: User): InProcessConnection;
  /** Something outside this server has written to the database. */
  wake(): void;
  /** Ends what follows the feed. The store stays open: it is the caller's. */
  close(): Promise<void>;
}

/**
 * Serves a store without HTTP, for tests and simulations: requests and answers are read and written as on the network, and
 * nothing is sent.
 *
 * @example
 * const server = serveInProcess({ store })
 * const replica = await openReplica({ schema, server: server.connect() })
 */
export function serveInProcess<S extends Schema = Schema>({
  store,
  scopes: given,
  queryLimits,
  ...options
}: InProcessOptions<S>): InProcessServer {
  const scopes = scopeSet(store.schema as S, given);
  const ruled = ruleSet(options, () => undefined);
  const hub = new Hub(store);
  const limits = { ...defaultQueryLimits, ...queryLimits };
  const effects = new EffectJob(store, ruled.effects, options);
  effects.start();
  return {
    connect: (user) => ({
      async pull(request) {
        const asked = readPullRequest(JSON.parse(JSON.stringify(request)));
        return readPulledPage(linesOf(await pull(store, asked, { scopes, user })));
      },
      async push(body) {
        const answer = await push(store, readPushRequest(JSON.parse(body)), { ...ruled, user }, scopes);
        hub.wake();
        effects.wake();
        return JSON.parse(JSON.stringify(answer)) as PushResponse;
      },
      async applied(request) {
        const { origins } = readAppliedRequest(JSON.parse(JSON.stringify(request)));
        return appliedBefore(store, user?.id, origins);
      },
      async trash(request) {
        return JSON.parse(JSON.stringify(await trash(store, request, { scopes, user }))) as TrashResponse;
      },
      async query(request) {
        const asked = readQueryRequest(JSON.parse(JSON.stringify(request)));
        return JSON.parse(JSON.stringify(await answerQuery(store, asked, { scopes, user }, limits))) as QueryResponse;
      },
      live(listener) {
        let leave: (() => void) | undefined;
        let isOver = false;
        const hear = (text: string) => {
          if (!isOver) listener.message(JSON.parse(text));
        };
        queueMicrotask(() => !isOver && listener.open());
        return {
          say(request) {
            leave?.();
            try {
              const cursor = cursorOf(store, request.cursor, user);
              const lacking = unsupported(store.schema, { ...request, ...request.only });
              const joined = {
                type: 'joined',
                join: request.join,
                unsupported: lacking.unsupported ?? {},
              } as const;
              leave = hub.follow(
                {
                  joined: (window, uploads) =>
                    hear(`${JSON.stringify({ ...joined, uploads }).slice(0, -1)},${window.json}}`),
                  window: ({ json }) => hear(`{"type":"window",${json}}`),
                  behind: () => hear('{"type":"pull-required"}'),
                  moved: (tables) => hear(JSON.stringify({ type: 'moved', tables } satisfies LiveMessage)),
                  access: { scopes, user },
                  ...(request.queries && {
                    queried: new Set(
                      Object.keys(store.schema.tables).filter((name) => request.queries?.includes(name)),
                    ),
                  }),
                  asked: request.only,
                  replica: request.replica,
                },
                cursor,
                request.cursor,
              );
            } catch (error) {
              if (!(error instanceof KoinonError)) throw error;
              isOver = true;
              listener.closed();
            }
          },
          close() {
            isOver = true;
            leave?.();
          },
        };
      },
    }),
    wake: () => hub.wake(),
    close: async () => {
      await effects.stop();
      await hub.close();
    },
  };
}
