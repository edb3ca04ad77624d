import {
  type AnyRow,
  KoinonError,
  type Schema,
  type TableName,
  type ToCome,
  type TrashRequest,
  tableOf,
} from '@koinon/core';
import { columnsFromWire, heldPart, parseWhere, refuseReadOnly } from '@koinon/core/internal';
import { callContext } from '#call-context';
import type { Database } from '../database/database.ts';
import { argumentsOf, callback, options, text, wholeNumber, word } from '../engine/arguments.ts';
import { hasBytes, withBytes } from '../engine/bytes.ts';
import { Calls } from '../engine/calls.ts';
import type { CurrentIds } from '../engine/current.ts';
import { Mutex } from '../engine/mutex.ts';
import { reads } from '../engine/reads.ts';
import { type Engine, ReadSteps, type StepName, type Steps, WriteSteps } from '../engine/steps.ts';
import type { Host } from '../host/host.ts';
import type { UnlinkChoices, UnlinkReport } from '../link/unlink.ts';
import { Commit, type Origin } from '../live/commit.ts';
import { type ChangeEvent, Listener } from '../live/listener.ts';
import type { Result, Source } from '../live/result.ts';
import { type Question, questionOf, type RowQuestion } from '../on-server/question.ts';
import { Outbox } from '../outbox/outbox.ts';
import type { Predictions } from '../outbox/prediction-list.ts';
import type { ConflictList } from '../overlay/conflict-list.ts';
import { type Decision, type DecisionResult, isDecision } from '../overlay/decision.ts';
import type { ReplaceRejected } from '../overlay/replace-rejected.ts';
import { Bases } from '../rows/base.ts';
import type { KnownKeys } from '../rows/known-keys.ts';
import { Rows, readsStatus, statusTable } from '../rows/rows.ts';
import type { SyncRun } from '../sync/journal.ts';
import { heldRows, holdingName, syncOptions } from '../sync/options.ts';
import type { Direction } from '../sync/state.ts';
import type { SyncReport } from '../sync/step.ts';
import { type DataApi, typed } from './data-api.ts';
import type { Draft } from './draft.ts';
import { Following } from './following.ts';
import type { ConflictOf, DeletedRow, InvocationOf, Rejection, StorageReport } from './lists.ts';
import { type EffectName, type Followed, Replica } from './replica.ts';
import type { Doing, SyncPart } from './sync-part.ts';
import { calledInside, OpenTransaction, type Transaction } from './transaction.ts';
import { loadWatcher, watcherFor } from './watcher-for.ts';

/** Carries out one effect by its name, inside a transaction of its own. */
function effect(engine: Engine, name: Exclude<EffectName, Decision>, given: readonly unknown[]): unknown {
  const steps = new WriteSteps(engine);
  const result = (steps[name] as (...given: readonly unknown[]) => unknown)(...engine.current.call(name, given));
  steps.finish();
  return result;
}

/** The parts that not every replica needs, loaded only for one that does. */
export interface Parts<S extends Schema> {
  readonly draft: (schema: S, replica: Replica<S>, newId: () => string) => Draft<S>;
  readonly conflicts: ConflictList;
  readonly keys: KnownKeys;
  readonly current: CurrentIds;
  readonly predictions: Predictions;
  readonly replaceRejected: ReplaceRejected | undefined;
  readonly syncing: (engine: Omit<Engine, 'commit'>, doing: Doing) => SyncPart;
}

/** A replica whose engine runs in this process. */
export class LocalReplica<S extends Schema> extends Replica<S> {
  readonly schema: S;
  private readonly mutex = new Mutex();
  private readonly engine: Omit<Engine, 'commit'>;
  private readonly parts: Parts<S>;
  private readonly syncing: SyncPart;
  private readonly stallLimit: number;
  private readonly hasBytes: boolean;
  private closed = false;
  /** The ends of the live queries that somebody follows, called when the replica is closed. */
  private readonly ends = new Set<() => void>();
  private closing: Promise<void> | undefined;
  /** The transaction whose function is running. */
  private opened: object | undefined;
  private notifiedRevision = 0;
  /** While somebody watches. */
  private readonly following: Following;

  /** @param appSchema with the tables that the server holds. */
  constructor(appSchema: S, database: Database, host: Host, parts: Parts<S>, stallLimit: number) {
    super();
    this.schema = appSchema;
    const schema = heldPart(appSchema);
    const rows = new Rows(database, schema);
    const outbox = new Outbox(database, schema, rows, parts.predictions);
    const { conflicts, replaceRejected } = parts;
    const referenced = new Set(
      Object.values(schema.tables).flatMap(({ entries }) => entries.flatMap(([, { target }]) => target ?? [])),
    );
    const calls = new Calls(database, schema, rows);
    const bases = new Bases(database, rows);
    const { keys, current } = parts;
    this.engine = {
      schema,
      database,
      rows,
      referenced,
      bases,
      keys,
      current,
      outbox,
      conflicts,
      calls,
      host,
      replaceRejected,
    };
    this.parts = parts;
    this.syncing = parts.syncing(this.engine, {
      exclusive: (work) => this.exclusive(work),
      change: (work) => this.change('server', work),
    });
    this.following = new Following(this.engine, (work) => this.exclusive(work));
    this.stallLimit = stallLimit;
    this.hasBytes = hasBytes(schema);
  }

  /** Begins to sync by itself, if it is to. */
  startSync(): void {
    this.syncing.start();
  }

  async transaction<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result> {
    callback('work', work);
    return this.unguardedExclusive(async () => {
      const { database } = this.engine;
      const commit = this.following.commit();
      database.begin();
      let result: Result;
      try {
        const prepare = (query: unknown) => this.statusLoading(query);
        const open = new OpenTransaction<S>({ ...this.engine, commit }, this.stallLimit, prepare);
        this.opened = open;
        result = await callContext.run(open, () => open.run(work));
        database.commit();
      } catch (error) {
        database.rollback();
        // A call that was made in it is what it may have waited for: it must not be carried out after all.
        if (error instanceof KoinonError && error.code === 'transaction-stalled' && !callContext.canTell)
          this.mutex.refuse(error);
        throw error;
      } finally {
        this.opened = undefined;
      }
      this.publish(commit, 'device');
      return result;
    });
  }

  draft(): Draft<S> {
    return this.parts.draft(this.schema, this, () => this.engine.host.newId());
  }

  undo() {
    return this.decide('undo');
  }

  redo() {
    return this.decide('redo');
  }

  revertAll() {
    return this.decide('revertAll');
  }

  async unresolve(table: string, id: string): Promise<void> {
    await this.decide('unresolve', table, id);
  }

  async resend(transaction: string): Promise<void> {
    await this.decide('resend', transaction);
  }

  async trash(request: TrashRequest = {}): Promise<readonly DeletedRow[]> {
    const { table, limit } = options('request', request, ['table', 'id', 'before', 'limit']);
    if (table !== undefined) tableOf(this.engine.schema, text('table', table));
    if (limit !== undefined) wholeNumber('limit', limit);
    // A server may know tables that this app's version does not.
    return (await this.syncing.trash(request)).flatMap((row) => {
      const { tables } = this.engine.schema;
      const definition = Object.hasOwn(tables, row.table) ? tables[row.table] : undefined;
      return definition ? [{ ...row, columns: columnsFromWire(definition, row.columns) }] : [];
    });
  }

  async restore(table: string, given: string): Promise<void> {
    const definition = tableOf(this.engine.schema, text('table', table));
    const id = this.engine.keys.idOf(table, text('id', given));
    refuseReadOnly(definition, { table, id });
    const { isDeletionUnsent, bringBack, undelete } = await import('../overlay/resolve.ts');
    const isUndeleted = await this.change('device', (engine) => {
      const isUnsent = isDeletionUnsent(engine.outbox, table, id);
      if (isUnsent) undelete(engine, table, id);
      return isUnsent;
    });
    if (isUndeleted) return;
    const [found] = await this.syncing.trash({ table, id, limit: 1 });
    await this.change('device', (engine) => {
      const row = bringBack(engine, table, id, found);
      if (row) effect(engine, 'restoreRow', [table, row]);
    });
  }

  async sync(given?: { readonly direction?: Direction; readonly signal?: AbortSignal }): Promise<SyncReport> {
    const { direction = 'both', signal } = syncOptions(given);
    return this.syncing.byHand(direction, signal);
  }

  async authChanged(): Promise<void> {
    this.syncing.authChanged();
  }

  async unlink(choices: UnlinkChoices): Promise<UnlinkReport> {
    const { rows, server, unsent } = options('choices', choices, ['rows', 'server', 'unsent']);
    word('rows', rows, ['keep', 'erase']);
    if (server !== undefined) word('server', server, ['keep', 'delete']);
    if (unsent !== undefined) word('unsent', unsent, ['drop']);
    return this.syncing.unlink(choices);
  }

  link(): Promise<void> {
    return this.syncing.link();
  }

  async estimatePull(rows?: unknown): Promise<ToCome> {
    return this.syncing.estimatePull(rows === undefined ? undefined : heldRows(rows));
  }

  async hold(name: string, rows: unknown): Promise<void> {
    const { from, where } = heldRows(rows);
    return this.syncing.hold(holdingName(name), from, where);
  }

  async letGo(name: string): Promise<void> {
    return this.syncing.letGo(holdingName(name));
  }

  async holdings() {
    const { lists } = await import('./report.ts');
    return this.exclusive(() => lists.holdings(this.engine));
  }

  async pauseSync(): Promise<void> {
    this.syncing.pause();
  }

  async resumeSync(): Promise<void> {
    this.syncing.resume();
  }

  async retrySync(): Promise<void> {
    this.syncing.retry();
  }

  async journal(limit = 20): Promise<readonly SyncRun[]> {
    wholeNumber('limit', limit);
    const { lastRuns } = await import('../sync/journal.ts');
    return this.exclusive(() => lastRuns(this.engine.database, limit));
  }

  conflicts() {
    return typed<readonly ConflictOf<S>[]>(this.exclusive(() => this.engine.conflicts.list()));
  }

  async rejections() {
    const { lists } = await import('./report.ts');
    return typed<readonly Rejection<TableName<S>>[]>(this.exclusive(() => lists.rejections(this.engine)));
  }

  async outbox() {
    const { lists } = await import('./report.ts');
    return this.exclusive(() => lists.outbox(this.engine));
  }

  async invocations() {
    const { lists } = await import('./report.ts');
    return typed<readonly InvocationOf<S>[]>(this.exclusive(() => lists.invocations(this.engine)));
  }

  async status() {
    const { statusOf } = await import('./report.ts');
    return this.exclusive(() => statusOf(this.engine));
  }

  async storage(): Promise<StorageReport> {
    const { sizeOf } = await import('./report.ts');
    const { storage: kind, storageProblem: problem = null } = this.engine.database.driver;
    const size = await this.exclusive(() => sizeOf(this.engine));
    return { kind, problem, size, ...(await this.engine.host.storage()) };
  }

  async copyTo(file: string): Promise<void> {
    text('file', file);
    const { copyOut } = await import('./report.ts');
    await this.exclusive(() => copyOut(this.engine, file));
  }

  async copy(): Promise<Uint8Array<ArrayBuffer>> {
    const { copyOf } = await import('./report.ts');
    return this.exclusive(() => copyOf(this.engine));
  }

  close(): Promise<void> {
    this.closing ??= this.closeOnce();
    return this.closing;
  }

  private async closeOnce(): Promise<void> {
    await this.syncing.stop();
    await this.exclusive(() => {
      this.closed = true;
      this.following.end();
      this.engine.database.close();
    });
    const ends = [...this.ends];
    this.ends.clear();
    for (const end of ends) end();
  }

  protected override execute<K extends StepName>(
    name: K,
    ...given: Parameters<Steps[K]>
  ): Promise<ReturnType<Steps[K]>> {
    // Not an async function: a write is done when this returns, where nothing else is under way.
    try {
      const taken = argumentsOf(name, given);
      const question = this.question(name, taken);
      return (question === undefined ? this.step(name, taken) : this.answer(question)) as Promise<ReturnType<Steps[K]>>;
    } catch (error) {
      return Promise.reject(error);
    }
  }

  /** The question that a step puts to the server; undefined for one that the device answers. */
  private question(name: StepName, given: readonly unknown[]): Question | RowQuestion | undefined {
    return this.engine.schema.leftToServer === undefined ? undefined : questionOf(this.schema, name, given);
  }

  private async answer(question: Question | RowQuestion): Promise<unknown> {
    const answer = await this.askServer(question);
    return 'isOne' in question ? (answer as readonly unknown[])[0] : answer;
  }

  protected override async askServer({ kind, query }: Question): Promise<unknown> {
    const [taken] = argumentsOf(kind, [query]);
    return this.syncing.ask({ kind, query: this.engine.current.query(taken) });
  }

  /** Does one step, whose arguments were looked at. */
  private step(name: StepName, given: readonly unknown[]): Promise<unknown> {
    const loading = name === 'rows' ? this.statusLoading(given[0]) : undefined;
    if (loading) return loading.then(() => this.step(name, given));
    if (reads(name)) {
      return this.exclusive(() => {
        const steps = new ReadSteps({ ...this.engine, commit: new Commit(() => false) });
        const current = this.engine.current.call(name, given);
        return (steps[name as keyof ReadSteps] as unknown as (...words: unknown[]) => unknown).apply(steps, [
          ...current,
        ]);
      });
    }
    const reading = this.hasBytes ? withBytes(given) : undefined;
    if (reading) return reading.then((bytes) => this.step(name, bytes));
    return this.change('device', (engine) => effect(engine, name as Exclude<EffectName, Decision>, given));
  }

  protected override async once(call: string, name: EffectName, asked: readonly unknown[]): Promise<unknown> {
    const taken = argumentsOf(name, asked);
    const given = (this.hasBytes ? await withBytes(taken) : undefined) ?? taken;
    const effectOf = await this.effectOf(name, given);
    return this.change('device', (engine) => {
      const done = engine.calls.outcome(call);
      if (done) return done.result;
      const result = effectOf(engine);
      engine.calls.note(call, result, name in WriteSteps.prototype ? (given[0] as string) : undefined);
      return result;
    });
  }

  protected override inTransaction<Result>(work: (data: DataApi<S>) => Promise<Result>): Promise<Result> {
    return this.transaction(work);
  }

  protected override async decide<K extends Decision>(
    name: K,
    ...asked: readonly unknown[]
  ): Promise<DecisionResult<K>> {
    const taken = argumentsOf(name, asked);
    const given = (this.hasBytes ? await withBytes(taken) : undefined) ?? taken;
    const { decide } = await import('../overlay/resolve.ts');
    return this.change('device', (engine) => decide(engine, name, engine.current.call(name, given)));
  }

  /** An effect by its name; what takes back and settles is loaded when it is first asked for. */
  private async effectOf(name: EffectName, given: readonly unknown[]): Promise<(engine: Engine) => unknown> {
    if (!isDecision(name)) return (engine) => effect(engine, name, given);
    const { decide } = await import('../overlay/resolve.ts');
    return (engine) => decide(engine, name, engine.current.call(name, given));
  }

  /** Runs work in a transaction of its own when its turn comes, and tells the watchers what it changed. */
  private change<T>(origin: Origin, work: (engine: Engine) => T): Promise<T> {
    // The transaction gives what goes wrong its code.
    return this.unguardedExclusive(() => {
      const commit = this.following.commit();
      const { keys, database } = this.engine;
      const known = keys.revision;
      const result = database.transact(() => work({ ...this.engine, commit }));
      if (keys.revision !== known) this.following.renew();
      this.publish(commit, origin);
      return result;
    });
  }

  /** Tells everybody what a transaction that was committed has changed. */
  private publish(commit: Commit, origin: Origin): void {
    const { outbox, conflicts } = this.engine;
    const revision = outbox.revision + conflicts.revision;
    const id = statusTable;
    const hasChanged = revision !== this.notifiedRevision;
    if (hasChanged) commit.note(statusTable, id, { id }, { id, revision });
    this.notifiedRevision = revision;
    this.following.publish(commit, origin);
    if (hasChanged) this.syncing.notifyCounts();
    if (origin === 'device') this.syncing.noticeWrite();
    else this.syncing.notify();
  }

  /** Loads what tells the status of rows, if a query asks for it; undefined where nothing need be waited for. */
  private statusLoading(query: unknown): Promise<void> | undefined {
    const { engine } = this;
    if (!readsStatus(query) || engine.rows.statuses !== undefined) return undefined;
    return import('../overlay/status.ts').then(({ statusReader }) => {
      const overlay = { ...engine, commit: new Commit(() => false) };
      engine.rows.statuses = () => statusReader(overlay);
    });
  }

  /** Runs work of ours when its turn comes; what goes wrong has a code. */
  private exclusive<T>(work: () => T | Promise<T>): Promise<T> {
    const { database } = this.engine;
    const named = (error: unknown): never => {
      throw database.named(error);
    };
    return this.unguardedExclusive(() => {
      const result = database.guarded(work);
      return result instanceof Promise ? result.catch(named) : result;
    });
  }

  /** The same for work in which a function of the app runs, whose errors are its own. */
  private unguardedExclusive<T>(work: () => T | Promise<T>): Promise<T> {
    if (this.opened !== undefined && callContext.current() === this.opened) return Promise.reject(calledInside());
    return this.mutex.runExclusive(() => {
      if (this.closed) throw new KoinonError('replica-closed', 'This replica is closed; open it again.');
      return work();
    });
  }

  protected override now(): number {
    return this.engine.host.now();
  }

  protected override follow(kind: Followed, given: unknown): Source<never> {
    let request = given;
    try {
      if (kind === 'rows' || kind === 'summary' || kind === 'select' || kind === 'setting')
        [request] = argumentsOf(kind, [given]);
      if (kind === 'on server') {
        const asked = given as Question;
        [request] = argumentsOf(asked.kind, [asked.query]);
        request = { ...asked, query: request };
      } else if (kind === 'rows' || kind === 'summary') {
        const question = this.question(kind, [request]);
        if (question !== undefined) return this.follow('on server', question);
      }
    } catch (error) {
      // A mistake in a query reaches those who subscribe, wherever the replica runs.
      return ({ fail }) => {
        fail(error);
        return () => undefined;
      };
    }
    return ({ deliver, fail: failed, end }) => {
      this.ends.add(end);
      // A replica that is closed ends its live queries: also those whose first result was not there yet.
      const fail = (error: unknown) => this.ends.has(end) && failed(error);
      const stop =
        kind === 'sync'
          ? this.syncing.follow(deliver as never, fail)
          : kind === 'on server'
            ? this.syncing.followOnServer(request as Question, deliver as (result: Result<unknown>) => void, fail)
            : this.followQuery(kind, request, deliver as (result: Result<unknown>) => void, fail);
      return () => {
        this.ends.delete(end);
        stop();
      };
    };
  }

  private followQuery(
    kind: Exclude<Followed, 'sync' | 'on server'>,
    request: unknown,
    deliver: (result: Result<unknown>) => void,
    fail: (error: unknown) => void,
  ): () => void {
    const { current } = this.engine;
    let stop: (() => void) | undefined;
    let ended = false;
    const begin = () => {
      if (ended) return;
      stop = this.following.follow(request, current.query, (asked) => {
        const watcher = watcherFor(this.engine, kind, asked, deliver, fail);
        const end = this.following.watch(watcher);
        watcher.refresh();
        return end;
      });
    };
    const loading = kind === 'rows' ? this.statusLoading(request) : loadWatcher(kind);
    (loading ? loading.then(() => this.exclusive(begin)) : this.exclusive(begin)).catch(fail);
    return () => {
      ended = true;
      stop?.();
    };
  }

  protected override hear(
    table: string,
    where: unknown,
    listener: (events: readonly ChangeEvent<AnyRow>[]) => void,
  ): () => void {
    const { schema, current } = this.engine;
    return this.following.follow(
      where,
      (given) => current.condition(table, given),
      (given) => this.following.watch(new Listener(table, parseWhere(table, tableOf(schema, table), given), listener)),
    );
  }
}
