import { KoinonError } from '@koinon/core';
import { shown } from '@koinon/core/internal';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { User } from '../auth/authenticate.ts';
import { Blocklist } from '../auth/blocklist.ts';
import { type Identify, identifyBy } from '../auth/identity.ts';
import { Owners } from '../auth/owners.ts';
import type { Access } from '../pull/pull.ts';
import type { ScopeSet } from '../scope/evaluate.ts';
import { RequestLimiter } from './limiter.ts';
import type { PluginOptions } from './options.ts';
import { hostnameOf } from './origins.ts';

/** The facts of a request about the app and the replica that send it. */
interface Sender {
  readonly replica?: string;
  readonly schemaVersion?: number;
}

type Wanted = Pick<
  PluginOptions,
  'store' | 'authenticate' | 'isOwnHost' | 'minimumSchemaVersion' | 'replicasPerUser' | 'requestsPerMinute'
>;

/** The right to ask: looked at for every request, before and after it is read. */
export class Admission {
  readonly limiter: RequestLimiter;
  readonly blocklist: Blocklist;
  /** Tells who a token belongs to; asked again while something is held open. */
  readonly identify: Identify;
  private readonly scopes: ScopeSet;
  private readonly owners: Owners;
  private readonly users = new WeakMap<object, User>();
  private readonly isOpen: boolean;
  private readonly isOwnHost: (hostname: string) => boolean;
  private readonly minimumSchemaVersion: number;

  constructor(app: FastifyInstance, wanted: Wanted, scopes: ScopeSet) {
    const { store, authenticate, requestsPerMinute = 6_000 } = wanted;
    this.scopes = scopes;
    this.isOpen = authenticate === undefined;
    this.isOwnHost = wanted.isOwnHost ?? (() => true);
    this.minimumSchemaVersion = wanted.minimumSchemaVersion ?? 1;
    this.owners = new Owners(store, wanted.replicasPerUser ?? 100);
    this.blocklist = new Blocklist(store);
    this.identify = identifyBy(authenticate, (reason) => app.log.info({ reason }, 'a token was refused'));
    this.limiter = new RequestLimiter(requestsPerMinute, (address) =>
      app.log.warn({ address, requestsPerMinute }, 'an address sends too many requests'),
    );
  }

  /**
   * Looks at every request of these routes before it is read: how many came from its address, which host it was sent to, and
   * whose token it carries.
   *
   * @param open routes that anybody may ask without a token.
   */
  async guard(app: FastifyInstance, open: ReadonlySet<string>): Promise<void> {
    await this.blocklist.start();
    app.addHook('onClose', async () => this.blocklist.stop());
    // Before anything is done for a request: who asks is told by a token, and tokens can be guessed.
    app.addHook('onRequest', async ({ ip }, reply) => {
      try {
        this.limiter.take(ip);
      } catch (error) {
        reply.header('retry-after', this.limiter.secondsLeft(ip));
        throw error;
      }
    });
    app.addHook('onRequest', async (request) => {
      // As it was sent: a proxy's word for it can be anybody's.
      const hostname = hostnameOf(request.headers.host);
      if (!this.isOwnHost(hostname ?? ''))
        throw new KoinonError(
          'not-loopback',
          `This server answers requests to this machine only, not to ${shown(request.headers.host)}.`,
        );
    });
    app.addHook('onRequest', async (request) => {
      if (this.isOpen || open.has(request.routeOptions.url ?? '')) return;
      const user = await this.identify(tokenOf(request));
      if (user !== undefined) this.users.set(request, user);
    });
  }

  /** Whose request it is; undefined where the server knows no users. */
  userOf(request: FastifyRequest): User | undefined {
    return this.users.get(request);
  }

  /** The access that a user has. */
  accessOf(user: User | undefined): Access {
    return { scopes: this.scopes, user };
  }

  /**
   * Lets in what a replica asks, once it has been read.
   *
   * @throws KoinonError `upgrade-needed`, `other-user`, `too-many-replicas`, `replica-blocked`.
   */
  async admit<R extends Sender>(asked: R, user: User | undefined): Promise<R> {
    const { replica, schemaVersion = 1 } = asked;
    if (schemaVersion < this.minimumSchemaVersion)
      throw new KoinonError(
        'upgrade-needed',
        `This app has schema version ${schemaVersion}; the server takes ${this.minimumSchemaVersion} and newer. Update the app; what is unsent is kept.`,
        { value: schemaVersion },
      );
    if (replica !== undefined && user !== undefined) await this.owners.check(replica, user);
    if (replica !== undefined) this.blocklist.refuse(replica);
    return asked;
  }
}

/** The token that a request carries. */
export const tokenOf = ({ headers }: FastifyRequest): string | undefined =>
  /^Bearer +(\S+)$/i.exec(headers.authorization ?? '')?.[1];
