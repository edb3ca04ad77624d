import type { Outcome, Schema } from '@koinon/core';
import type { Authenticate } from '../auth/authenticate.ts';
import type { UserConnections } from '../auth/connections.ts';
import type { EffectOptions } from '../effects/job.ts';
import type { FileStorage } from '../files/storage.ts';
import type { RuleOptions } from '../rules/rules.ts';
import type { Scopes } from '../scope/scopes.ts';
import type { QueryLimits } from '../store/query.ts';
import type { RetentionOptions } from '../store/retention-job.ts';
import type { Store } from '../store/store.ts';

/** The rows, changes or content that a request, or a live window, has moved. `took` is in milliseconds. */
export type Moved =
  | {
      readonly what: 'pull';
      readonly rows: number;
      readonly bytes: number;
      readonly took: number;
      /** The server that was read: the database itself, or the standby of `readFrom`. */
      readonly from: 'database' | 'standby';
    }
  | {
      readonly what: 'push';
      readonly changes: number;
      readonly outcomes: readonly Outcome['outcome'][];
      /** The actions in it, with what became of their transactions. */
      readonly actions: readonly { readonly name: string; readonly outcome: Outcome['outcome'] }[];
      readonly took: number;
    }
  | { readonly what: 'query'; readonly rows: number; readonly took: number }
  | { readonly what: 'window'; readonly rows: number; readonly replicas: number }
  | { readonly what: 'content'; readonly way: 'up' | 'down'; readonly bytes: number };

/** Options of {@link koinonPlugin}. */
export interface PluginOptions<S extends Schema = Schema> extends RetentionOptions, RuleOptions<S>, EffectOptions {
  readonly store: Store;
  /**
   * The place of the contents of files, for schemas with columns of that type: {@link folderStorage} makes one. Without it no content goes up or
   * comes down.
   */
  readonly files?: FileStorage;
  /** Apps whose schema is older are told to upgrade; they keep working by themselves, and keep what is unsent. */
  readonly minimumSchemaVersion?: number;
  /**
   * Tells whether a host name that a request was sent to is this server's. A page of another origin may point a name of its own
   * at a server that only this machine or network should reach. Default: any name.
   */
  readonly isOwnHost?: (hostname: string) => boolean;
  /**
   * Origins of pages, and of apps in a web view, that may use this server besides those of its own host: as browsers send
   * them, `https://app.example`, without a path.
   */
  readonly origins?: readonly string[];
  /**
   * Replicas that may be connected at once; as many requests may be held open besides: `wait`, and feeds that are followed.
   * Default 10,000.
   */
  readonly connections?: number;
  /**
   * Bytes that the bodies of all requests under way may take in memory, parsed values included; half of them from one
   * address. A request beyond that is told `too-many-requests`. Default 512 MiB, which one largest push of an address fits.
   */
  readonly bodyBytes?: number;
  /**
   * Whose token a request carries (`Authorization: Bearer …`); {@link jwtAuthentication} makes one. Without it whoever
   * reaches the server may do everything.
   */
  readonly authenticate?: Authenticate;
  /**
   * Which rows and columns each user gets, and what he may write, by table: all tables that the server keeps are named. Without it
   * everybody gets everything. They are tried at start with a user called `nobody`.
   */
  readonly scopes?: Scopes<S>;
  /** Told of what each request and each live window has moved: for logs and measurements. */
  readonly observe?: (moved: Moved) => void;
  /**
   * Requests a minute from one address, over which it is told to wait: of every kind and path, and what is said over live
   * connections. Default 6,000. Of IPv6 the addresses of one /64 network count as one.
   */
  readonly requestsPerMinute?: number;
  /** Replicas that one user may have; those not heard of for `keepDays` do not count. Default 100. */
  readonly replicasPerUser?: number;
  /**
   * How much one query by `POST /v1/query` may take: `rows` with those that are joined in (default 10,000), `bytes` that they hold (8,000,000),
   * `time` in milliseconds (2,000), and `cost` by the database's own estimate (2,000,000): on PostgreSQL in the units of its planner, on SQLite
   * the rows that are gone through times the comparisons with each.
   */
  readonly queryLimits?: Partial<QueryLimits>;
  /** Takes in the connections of users, so that they can be ended from outside. {@link startServer} has one of its own. */
  readonly userConnections?: UserConnections;
}
