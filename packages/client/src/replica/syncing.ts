import {
  KoinonError,
  type Only,
  type Schema,
  type ToCome,
  type TrashedRow,
  type TrashRequest,
  tableOf,
} from '@koinon/core';
import { askedColumns, noteColumns } from '../database/asked-columns.ts';
import { emptyLog, isErasedInLog } from '../database/erasure.ts';
import { awaitedRows } from '../database/holding-list.ts';
import { dropMeta, meta, setMeta } from '../database/layout.ts';
import type { Engine } from '../engine/steps.ts';
import type { UnlinkChoices, UnlinkReport } from '../link/unlink.ts';
import type { Result } from '../live/result.ts';
import type { ServerQueries } from '../on-server/queries.ts';
import type { Question } from '../on-server/question.ts';
import { refuseInconsistent } from '../outbox/consistency.ts';
import { forgetKept, keepFor } from '../outbox/history.ts';
import { hasUnsent } from '../outbox/sending.ts';
import { attemptedBody } from '../sync/attempt.ts';
import { type CheckedTransport, checked } from '../sync/checked.ts';
import {
  askedWith,
  asksFor,
  callsForPull,
  hold,
  letGo,
  partOf,
  refuseUnfilterable,
  storedHoldings,
} from '../sync/holdings.ts';
import { noteRun } from '../sync/journal.ts';
import { endLease, refuseOthers, takeLease } from '../sync/lease.ts';
import { Live, type LiveParts } from '../sync/live.ts';
import { SyncLoop } from '../sync/loop.ts';
import { type Direction, type SyncOptions, type SyncReason, syncDefaults, type Upload } from '../sync/state.ts';
import { type SyncReport, syncStep } from '../sync/step.ts';
import { Traffic } from '../sync/traffic.ts';
import type { Transport } from '../sync/transport.ts';
import { joinStateOf, takeWindow } from '../sync/window.ts';
import { type Doing, type StateSnapshot, type SyncPart, stateSnapshot } from './sync-part.ts';

/** Pages of deleted rows without a row that are gone on from. */
const mostEmptyPages = 1_000;

/** Milliseconds between two tellings of the state. */
const tellEvery = 50;

/** Changes in the outbox up to which each commit is told at once: counting more of them would hold up the next write. */
const mostCountedAtOnce = 2_000;

/** Milliseconds between two looks for what need not be kept any more: each looks at all that is kept. */
const forgetEvery = 3_600_000;

/** The sync of one open replica: its loop, its runs, and what is told of them. */
export class Syncing implements SyncPart {
  private readonly engine: Omit<Engine, 'commit'>;
  private readonly doing: Doing;
  private readonly transport: CheckedTransport;
  private readonly loop: SyncLoop;
  private readonly uploading: { readonly upload: Upload; readonly requestBytes: number };
  private readonly only: Only;
  private readonly live: Live | undefined;
  /** Queries that the server answers, once there was one. */
  private queries: ServerQueries | undefined;
  /** This opening of the file, as holder of the lease. */
  private readonly holder: string;
  private readonly followers = new Set<(state: StateSnapshot) => void>();
  private underWay: { readonly traffic: Traffic; bytes(): { readonly down: number; readonly up: number } } | undefined;
  private cancelTelling: (() => void) | undefined;
  /** How often a live connection has said that contents may have been stored. */
  private contentsStored = 0;
  private isByHand = false;
  private readonly server = { isKnown: false };
  /** Tells whether the outbox was looked at since the file was opened. */
  private isVerified = false;
  private forgotAt = Number.NEGATIVE_INFINITY;
  private isLinked: boolean;
  private stopDeleting: (() => void) | undefined;

  /** The schema of the app, with the tables that the server holds. */
  private readonly appSchema: Schema;

  /** @param transport the way to the server. @param options when it syncs by itself. @param only what is asked for. */
  constructor(
    engine: Omit<Engine, 'commit'>,
    transport: Transport,
    {
      options,
      only,
      appSchema,
    }: { readonly options: SyncOptions | undefined; readonly only: Only | undefined; readonly appSchema: Schema },
    doing: Doing,
  ) {
    this.appSchema = appSchema;
    // A table that the server holds would never come.
    for (const name of [...(only?.tables ?? []), ...Object.keys(only?.where ?? {})])
      if (engine.schema.leftToServer?.includes(name)) tableOf(engine.schema, name);
    // A server may have gained columns and tables that this app does not know.
    const columns = askedColumns(engine.schema, only?.columns);
    this.only = { ...only, columns };
    noteColumns(engine.database, engine.schema, columns);
    this.engine = engine;
    this.isLinked = engine.database.guarded(() => this.readLinked());
    this.doing = doing;
    this.transport = checked(transport);
    this.holder = engine.host.newId();
    const { upload = syncDefaults.upload, requestBytes = syncDefaults.requestBytes } = options ?? {};
    this.uploading = { upload, requestBytes };
    const isLive = options !== undefined && options.live !== false && options.direction !== 'push';
    this.live = isLive && transport.live ? new Live(this.liveParts(options)) : undefined;
    this.loop = new SyncLoop(
      {
        host: engine.host,
        live: this.live,
        run: (...given) => this.run(...given),
        hasPending: () => doing.exclusive(() => hasUnsent(engine.outbox)),
        onChange: () => this.notify(),
      },
      options,
    );
  }

  /** Begins to sync by itself, if it is to. */
  start(): void {
    // Erased data may be in the log still: the app was killed before it came to that.
    void this.doing.exclusive(() => emptyLog(this.engine.database)).catch(() => undefined);
    if (this.isLinked) this.loop.start();
    else this.loop.pause();
  }

  /** Tells whether the tie to the server stands, as the file has it. */
  private readLinked(): boolean {
    const { database } = this.engine;
    return meta(database, 'unlinked') === undefined && meta(database, 'unlinking') === undefined;
  }

  async byHand(direction: Direction, signal: AbortSignal | undefined): Promise<SyncReport> {
    if (this.isByHand) throw new KoinonError('sync-busy', 'A sync of this replica is under way; wait for it to end.');
    this.isByHand = true;
    return this.loop.byHand(direction, signal).finally(() => {
      this.isByHand = false;
    });
  }

  pause(): void {
    this.loop.pause();
  }

  resume(): void {
    this.loop.resume();
  }

  /** Ends the tie to the server. */
  async unlink(choices: UnlinkChoices): Promise<UnlinkReport> {
    const { deleteOnServer, refuseUnsent, unlinkHere } = await import('../link/unlink.ts');
    await this.change((engine) => refuseUnsent(engine, choices));
    const wasPaused = this.loop.state.phase === 'paused';
    this.loop.pause();
    try {
      await this.loop.settled();
      let done: Pick<UnlinkReport, 'deleted' | 'left'> = { deleted: 0, left: [] };
      if (choices.server === 'delete') {
        // From here on nothing is fetched: what is deleted there would go here as well.
        await this.alone(({ database }) => setMeta(database, 'unlinking', JSON.stringify(choices)));
        this.isLinked = false;
        done = await this.deleting(deleteOnServer);
      }
      const erased = await this.alone((engine) => {
        // Something may have been typed since it was asked.
        refuseUnsent(engine, choices);
        return unlinkHere(engine, choices);
      });
      this.isLinked = false;
      this.notify();
      return { erased, ...done };
    } catch (error) {
      if (this.isLinked && !wasPaused) this.loop.resume();
      throw error;
    }
  }

  /** A local transaction. What it erases leaves the log as well. */
  private async change<T>(work: (engine: Engine) => T): Promise<T> {
    const { database } = this.engine;
    const { result, isErased } = await this.doing.change((engine) => {
      const result = work(engine);
      return { result, isErased: isErasedInLog(database) };
    });
    if (isErased) await this.doing.exclusive(() => emptyLog(database));
    return result;
  }

  /** A local transaction while no other process syncs the file: what that one has fetched would come after it. */
  private alone<T>(work: (engine: Engine) => T): Promise<T> {
    const { database, host } = this.engine;
    return this.change((engine) => {
      refuseOthers(database, host, this.holder);
      return work(engine);
    });
  }

  private async deleting(work: typeof import('../link/unlink.ts').deleteOnServer) {
    const { transport } = this;
    const traffic = new Traffic();
    const abort = new AbortController();
    this.underWay = { traffic, bytes: () => ({ down: 0, up: 0 }) };
    this.stopDeleting = () => abort.abort();
    try {
      return await work({ transport, traffic, signal: abort.signal, change: (run) => this.change(run) });
    } finally {
      this.underWay = undefined;
      this.stopDeleting = undefined;
    }
  }

  /** Ties the replica to its server again. */
  async link(): Promise<void> {
    await this.change(({ database }) => {
      dropMeta(database, 'unlinked');
      dropMeta(database, 'unlinking');
    });
    this.isLinked = true;
    this.loop.resume();
    this.notify();
  }

  /** The device has written something. */
  noticeWrite(): void {
    if (this.isLinked) this.loop.noticeChange();
    this.notify();
  }

  retry(): void {
    this.loop.retry();
  }

  /** Tells whoever shows the state, a little later: many things change it at once. */
  notify(): void {
    if (this.followers.size === 0 || this.cancelTelling) return;
    this.cancelTelling = this.engine.host.after(tellEvery, () => {
      this.cancelTelling = undefined;
      this.doing.exclusive(() => this.notifyNow()).catch(() => undefined);
    });
  }

  /**
   * The outbox or the conflicts have changed: followers of their numbers get them with the commit, or a little later where
   * the outbox is long. Runs in a turn.
   */
  notifyCounts(): void {
    if (this.followers.size === 0) return;
    if (this.engine.outbox.isLongerThan(mostCountedAtOnce)) this.notify();
    else this.notifyNow();
  }

  private notifyNow(): void {
    const state = this.state();
    for (const deliver of [...this.followers]) deliver(state);
  }

  follow(deliver: (state: StateSnapshot) => void, fail: (error: unknown) => void): () => void {
    this.followers.add(deliver);
    this.doing.exclusive(() => deliver(this.state())).catch(fail);
    return () => this.followers.delete(deliver);
  }

  async trash(request: TrashRequest): Promise<readonly TrashedRow[]> {
    if (this.transport.trash === undefined)
      throw new KoinonError('not-linked', 'The way to this server cannot ask for deleted rows.');
    // A page of a server may be empty although there are more: what it looked at was others'.
    let { before } = request;
    for (let pages = 0; pages < mostEmptyPages; pages++) {
      const { rows, next } = await this.transport.trash({ ...request, ...(before && { before }) });
      if (rows.length > 0 || next === undefined) return rows;
      before = next;
    }
    throw new KoinonError(
      'server-answer',
      `The server answered ${mostEmptyPages} times that there are more deleted rows, and named none.`,
    );
  }

  authChanged(): void {
    this.transport.forgetToken?.();
    this.queries?.moved();
    this.loop.authChanged();
  }

  async ask(question: Question): Promise<unknown> {
    return (await this.serverQueries()).ask(question);
  }

  followOnServer(
    question: Question,
    deliver: (result: Result<unknown>) => void,
    fail: (error: unknown) => void,
  ): () => void {
    let stop: (() => void) | undefined;
    let isOver = false;
    this.serverQueries().then((queries) => {
      if (!isOver) stop = queries.follow(question, deliver, fail);
    }, fail);
    return () => {
      isOver = true;
      stop?.();
    };
  }

  /** What asks the server: loaded with the first query that it answers. */
  private async serverQueries(): Promise<ServerQueries> {
    const { ServerQueries } = await import('../on-server/queries.ts');
    const { engine, doing, transport } = this;
    this.queries ??= new ServerQueries({
      schema: this.appSchema,
      host: engine.host,
      query: transport.query,
      replica: () => doing.exclusive(() => meta(engine.database, 'replica') as string),
      onTables: () => this.live?.joinAnew(),
    });
    return this.queries;
  }

  async hold(name: string, from: string, where: unknown): Promise<void> {
    if (await this.change((engine) => hold(engine, this.only, name, from, where))) this.loop.holdingsChanged();
  }

  async letGo(name: string): Promise<void> {
    if (await this.change((engine) => letGo(engine, name))) this.loop.holdingsChanged();
  }

  async estimatePull(asked?: { readonly from: string; readonly where?: unknown }): Promise<ToCome> {
    const { database, schema } = this.engine;
    if (asked !== undefined) refuseUnfilterable(schema, asked.from, asked.where);
    const { cursor, only } = await this.doing.exclusive(() => ({
      cursor: asked === undefined ? meta(database, 'cursor') : undefined,
      only: asked === undefined ? askedWith(this.only, storedHoldings(this.engine)) : partOf(this.only, asked),
    }));
    const { header } = await this.transport.pull({ ...(cursor ? { cursor } : {}), limit: 1, ...only });
    const { remaining = {}, remainingBytes = {} } = header;
    return Object.fromEntries(
      Object.keys(this.engine.schema.tables)
        .filter((table) => remaining[table] !== undefined)
        .map((table) => [table, { rows: remaining[table] ?? 0, bytes: remainingBytes[table] ?? 0 }]),
    );
  }

  /** Ends for good. */
  async stop(): Promise<void> {
    this.stopDeleting?.();
    this.queries?.stop();
    await this.loop.stop();
  }

  /** The loop that keeps the replica up between runs. */
  private liveParts(options: SyncOptions): LiveParts {
    const { live, minDelay, maxDelay } = { ...syncDefaults, ...options };
    const { engine, doing, transport } = this;
    const hasFiles = Object.values(engine.schema.tables).some(({ entries }) =>
      entries.some(([, { type }]) => type === 'file'),
    );
    let followed = this.only;
    return {
      host: engine.host,
      transport,
      tables: typeof live === 'object' ? live.tables : undefined,
      minDelay,
      maxDelay,
      joinState: () =>
        doing.exclusive(() => {
          const joinState = joinStateOf(engine);
          const queries = this.queries?.toldOf() ?? [];
          // A holding that is added later is asked for by the next pull, and not by this connection.
          followed = askedWith(this.only, storedHoldings(engine));
          return (
            joinState && {
              ...joinState,
              only: followed,
              ...(queries.length > 0 && { queries }),
            }
          );
        }),
      take: (window) =>
        this.change((local) => {
          // Another process that syncs the file just now has its cursor under way.
          refuseOthers(engine.database, engine.host, this.holder);
          const isTaken = takeWindow(local, window, asksFor(engine.schema, followed));
          if (awaitedRows(engine.database).length > 0) this.loop.holdingsChanged();
          return isTaken;
        }),
      contentStored: hasFiles
        ? () => {
            this.contentsStored++;
            this.notify();
          }
        : undefined,
      moved: (tables) => this.queries?.moved(tables),
      pull: () => this.loop.callFor(),
      onChange: () => this.notify(),
    };
  }

  /** One run, as the loop begins it: with the lease, and written down in the journal. */
  private async run(direction: Direction, reason: SyncReason, signal: AbortSignal): Promise<SyncReport> {
    const { database, host } = this.engine;
    const { transport } = this;
    const traffic = new Traffic();
    const began = host.now();
    const before = { ...(transport.bytes ?? { down: 0, up: 0 }) };
    const bytes = () => ({
      down: (transport.bytes?.down ?? 0) - before.down,
      up: (transport.bytes?.up ?? 0) - before.up,
    });
    this.underWay = { traffic, bytes };
    const change = <T>(work: (engine: Engine) => T) =>
      this.change((engine) => {
        if (!this.isVerified) refuseInconsistent(database);
        this.isVerified = true;
        // Another process may have ended the tie.
        this.isLinked = this.readLinked();
        if (!this.isLinked)
          throw new KoinonError('not-linked', 'This replica was unlinked from its server; link it again to sync.');
        takeLease(database, host, this.holder);
        return work(engine);
      });
    const push = async (body: string, signal?: AbortSignal) =>
      (await this.live?.push(body, signal)) ?? transport.push(body, signal);
    const enter = (phase: 'resending' | 'pulling' | 'pushing') => this.loop.enter(phase);
    let failed: unknown;
    try {
      const isLive = () => reason === 'change' && this.live?.bringsChanges === true;
      return await syncStep(
        {
          transport,
          push,
          ...this.uploading,
          isLive,
          isCalledFor: reason === 'live',
          change,
          enter,
          traffic,
          only: this.only,
          host,
          schema: this.engine.schema,
          server: this.server,
          sendsFirst: () =>
            this.doing.exclusive(() => {
              const { database, outbox } = this.engine;
              const isFirstDownload = meta(database, 'complete') === undefined;
              return attemptedBody(database) !== undefined || (isFirstDownload && outbox.count('pending') > 0);
            }),
        },
        direction,
        signal,
      );
    } catch (error) {
      failed = error;
      throw error;
    } finally {
      this.underWay = undefined;
      // A live connection tells of what moves; without one, a sync is the time to ask again.
      if (failed === undefined && this.live?.isOpen !== true) this.queries?.moved();
      // A replica that was closed meanwhile has nothing to give up with: its lease ends with its process or its time.
      await this.doing
        .change((local) => {
          // The last unsent edit of a holding may have been sent with this run, or a row may have to be asked for.
          if (failed === undefined && direction !== 'push' && callsForPull(local)) this.loop.holdingsChanged();
          const code = failed instanceof KoinonError ? failed.code : 'unknown';
          noteRun(database, {
            at: new Date(began).toISOString(),
            took: host.now() - began,
            reason,
            direction,
            error: failed === undefined ? null : { code, message: (failed as Error).message },
            bytes: bytes(),
            down: traffic.down,
            up: traffic.up,
          });
          endLease(database, this.holder);
          if (Math.abs(host.now() - this.forgotAt) < forgetEvery) return;
          forgetKept(database, host.now() - keepFor);
          this.engine.keys.forgetBefore(host.now() - keepFor);
          this.forgotAt = host.now();
        })
        .catch(() => undefined);
    }
  }

  private state(): StateSnapshot {
    const { underWay, contentsStored } = this;
    const progress = underWay
      ? {
          down: { done: underWay.traffic.received, of: underWay.traffic.expected },
          up: { done: underWay.traffic.sent, of: underWay.traffic.toSend },
          bytes: { ...underWay.bytes(), of: underWay.traffic.expectedBytes },
        }
      : null;
    const { state } = this.loop;
    return stateSnapshot(this.engine, {
      ...state,
      ...(this.isLinked ? {} : { phase: 'unlinked' }),
      progress,
      contentsStored,
    });
  }
}
