import type {
  ActionInput,
  ActionName,
  AnyRow,
  HeldTableName,
  Joins,
  Query,
  ResultOf,
  ResultRow,
  Row,
  RowKey,
  Schema,
  SettingName,
  SettingValue,
  Sql,
  Summary,
  SummaryRow,
  TableName,
  ToCome,
  TrashRequest,
  Where,
} from '@koinon/core';
import type { ReadSteps, StepName } from '../engine/steps.ts';
import type { UnlinkChoices, UnlinkReport } from '../link/unlink.ts';
import type { ChangeEvent } from '../live/listener.ts';
import { LiveQuery, type Source } from '../live/result.ts';
import type { Question } from '../on-server/question.ts';
import type { QueuedTransaction } from '../outbox/outbox.ts';
import type { Decision, DecisionResult } from '../overlay/decision.ts';
import type { ChoicesOf, RowDecision } from '../overlay/resolve.ts';
import type { TakingBack } from '../overlay/undo.ts';
import type { SyncRun } from '../sync/journal.ts';
import type { Direction, SyncState } from '../sync/state.ts';
import type { SyncReport } from '../sync/step.ts';
import type { DeviceFinding } from './check.ts';
import { DataApi, type Invoked, typed } from './data-api.ts';
import type { Draft } from './draft.ts';
import type {
  ConflictOf,
  DeletedRow,
  HeldRows,
  Holding,
  Invocation,
  InvocationOf,
  Rejection,
  ReplicaStatus,
  StorageReport,
} from './lists.ts';
import { OnServer } from './on-server.ts';
import type { Transaction } from './transaction.ts';

/** The names of all that changes the replica: the steps that write, and what takes changes back. */
export type EffectName = Exclude<StepName, keyof ReadSteps> | Decision;

/** The kinds of queries that can be live. */
export type Followed =
  | 'rows'
  | 'summary'
  | 'select'
  | 'setting'
  | 'sync'
  | 'conflicts'
  | 'rejections'
  | 'outbox'
  | 'invocations'
  | 'holdings'
  | 'on server';

/** Which changes a listener wants: those of rows that fulfil the condition, or did before. */
export interface ListenOptions<R> {
  readonly where?: Where<R>;
}

/** The database on one device, for one user. Every write is durable before its promise resolves, network or not. */
export abstract class Replica<S extends Schema> extends DataApi<S> {
  /** The schema that it was opened with. */
  abstract readonly schema: S;

  /**
   * Runs several writes as one: all or none are kept, and they reach the server together. A throw rolls back.
   * Use only the transaction it hands you inside; others' work waits until it ends.
   *
   * @throws KoinonError `transaction-stalled` when it does nothing for `stallLimit` milliseconds.
   * @example
   * await replica.transaction(async (transaction) => {
   *   const site = await transaction.insert('site', { name: 'Quill Moss' })
   *   await transaction.update('hive', 'h', { site: site.id })
   * })
   */
  abstract transaction<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result>;

  /**
   * Reading on the server, while it can be reached, of every table that it keeps: also of those that this device holds, as they are there. Tables
   * that the server holds are read by the replica's own functions as well.
   *
   * @example
   * const onServer = await replica.onServer.count({ from: 'hive' })
   */
  get onServer(): OnServer<S> {
    return new OnServer<S>(
      (question) => this.askServer(question),
      (question) => this.follow('on server', question),
    );
  }

  /**
   * A query whose subscribers get each new result. The cost of a change follows the change, not the table.
   *
   * @example
   * const stop = replica.live({ from: 'hive', order: 'mark' }).subscribe(({ rows }) => show(rows))
   */
  live<
    T extends TableName<S>,
    C extends Extract<keyof Row<S, T>, string> = Extract<keyof Row<S, T>, string>,
    const J extends Joins<S, T> = Record<never, never>,
  >(query: Query<S, T, C, J>): LiveQuery<ResultRow<S, T, NoInfer<C>, NoInfer<J>>> {
    return new LiveQuery<ResultRow<S, T, C, J>>(this.follow('rows', query));
  }

  /**
   * A summary whose subscribers get each new result; run again when a row of its table changes.
   *
   * @example
   * const stop = replica.liveSummary({ from: 'hive', measures: { hives: 'count' } }).subscribe(({ rows }) => show(rows))
   */
  liveSummary<
    T extends TableName<S>,
    const M extends Summary<S, T>['measures'],
    const B extends Extract<keyof Row<S, T>, string> = never,
  >(summary: Summary<S, T, B, M>): LiveQuery<SummaryRow<S, T, B, M>> {
    return new LiveQuery<SummaryRow<S, T, B, M>>(this.follow('summary', summary));
  }

  /**
   * Plain SQL whose subscribers get each new result; run again when a table it reads changes.
   *
   * @example
   * const stop = replica.liveSelect(sql`SELECT count(*) AS hives FROM hive`).subscribe(({ rows }) => show(rows))
   */
  liveSelect<R = Readonly<Record<string, unknown>>>(query: Sql): LiveQuery<R> {
    return new LiveQuery<R>(this.follow('select', query));
  }

  /**
   * A setting whose subscribers get each new value, as the one row of the result.
   *
   * @example
   * const stop = replica.liveSetting('units').subscribe(({ rows }) => show(rows))
   */
  liveSetting<N extends SettingName<S>>(name: N): LiveQuery<{ readonly id: N; readonly value: SettingValue<S, N> }> {
    return new LiveQuery<{ readonly id: N; readonly value: SettingValue<S, N> }>(this.follow('setting', name));
  }

  /**
   * Calls with the changed rows of a table, once per commit. Returns a function that ends that. What another process
   * writes into the same file is not told row by row; live queries follow it.
   *
   * @example
   * const stop = replica.listen('hive', (events) => show(events), { where: { queen: 'missing' } })
   */
  listen<T extends TableName<S>>(
    table: T,
    listener: (events: readonly ChangeEvent<Row<S, T>>[]) => void,
    { where }: ListenOptions<Row<S, T>> = {},
  ): () => void {
    return this.hear(table, where, listener as never);
  }

  /**
   * Edits held in memory over the replica, committed or dropped together.
   *
   * @example
   * const draft = replica.draft()
   * await draft.update('hive', 'h', { mark: 'B2' })
   * if ((await draft.check()).length === 0) await draft.commit()
   */
  abstract draft(): Draft<S>;
  /**
   * Takes back the last local transaction, by the order of writing, while it has not been sent; never another one. Returns
   * the rows it had changed.
   *
   * @throws KoinonError `nothing-to-undo`, `already-sent`.
   * @example
   * const takenBack = await replica.undo()
   */
  abstract undo(): Promise<readonly RowKey[]>;
  /**
   * Does again what {@link undo} took back last, as long as nothing else was written. Returns the rows it changes.
   *
   * @throws KoinonError `nothing-to-redo`, or what the rows of now refuse it for.
   * @example
   * await replica.undo()
   * const doneAgain = await replica.redo()
   */
  abstract redo(): Promise<readonly RowKey[]>;
  /**
   * Takes back everything done to a row, or to several rows together, that the server has not confirmed.
   *
   * @throws KoinonError `already-sent`; `transaction-shared` where a transaction has changed other rows as well, and
   *   `change-needed` where later changes build on it, unless `how` says what becomes of them.
   * @example
   * await replica.revert('hive', 'h')
   */
  revert<T extends TableName<S>>(table: T, id: string, how?: TakingBack): Promise<void>;
  revert(rows: readonly RowKey[], how?: TakingBack): Promise<void>;
  revert(first: string | readonly RowKey[], second?: string | TakingBack, third?: TakingBack): Promise<void> {
    const [rows, how] =
      typeof first === 'string' ? [[{ table: first, id: second as string }], third] : [first, second as TakingBack];
    return this.decide('revert', rows, how);
  }

  /**
   * Drops a refused transaction whole: what it did to any row is gone.
   *
   * @param transaction as {@link rejections} names it.
   * @throws KoinonError `nothing-to-undo` where none was refused; `change-needed`.
   */
  async discard(transaction: string, how?: Pick<TakingBack, 'dependent'>): Promise<void> {
    await this.decide('discard', transaction, how);
  }
  /**
   * Takes back everything the server has not confirmed; says how many rows that touched. @throws KoinonError `already-sent`.
   *
   * @example
   * const takenBack = await replica.revertAll()
   */
  abstract revertAll(): Promise<number>;

  /**
   * Gives a refused call of an action another input, and sends its transaction again. Its predictions stay as they are.
   *
   * @throws KoinonError `no-such-invocation` where none of that id was refused; what is wrong with the input.
   * @example
   * const [refused] = (await replica.invocations()).filter(({ state }) => state === 'refused')
   * if (refused) await replica.amend(refused, { hive: 'h', to: 's' })
   */
  async amend<N extends ActionName<S>>(invoked: Invoked<N>, input: ActionInput<S, N>): Promise<void> {
    await this.decide('amend', invoked, input);
  }

  /**
   * Settles a conflict: `local`, `remote` or a value, for all columns in conflict or by column; columns left out stay in
   * conflict. Where one side deleted the row, `local` or `remote` for the whole of it. The decision is sent with the next sync.
   *
   * @throws KoinonError `no-such-conflict`, `already-sent`, or what is wrong with a value.
   * @example
   * await replica.resolve('hive', 'c', { mark: { value: 'C north' } })
   */
  resolve<T extends TableName<S>>(table: T, id: string, choices: ChoicesOf<Row<S, T>>): Promise<void>;
  /** Settles the conflicts of several rows together: unique values and references are checked over all of them. */
  resolve(decisions: readonly RowDecision[]): Promise<void>;
  async resolve(first: string | readonly RowDecision[], id?: string, choices?: unknown): Promise<void> {
    const decisions = typeof first === 'string' ? [{ table: first, id, choices }] : first;
    await this.decide('resolve', decisions);
  }

  /**
   * Takes a decision back while it has not been sent: the conflict is there again.
   *
   * @throws KoinonError `nothing-to-undo` where none was made, it was sent, or the row has changed since; `already-sent`.
   * @example
   * await replica.resolve('hive', 'c', 'remote')
   * await replica.unresolve('hive', 'c')
   */
  abstract unresolve<T extends TableName<S>>(table: T, id: string): Promise<void>;
  /**
   * Sends a refused transaction again as it is: what the server refused it for may be mended. @throws KoinonError `nothing-to-undo`.
   *
   * @example
   * const [rejected] = await replica.rejections()
   * await replica.resend(rejected.transaction)
   */
  abstract resend(transaction: string): Promise<void>;
  /**
   * Deleted rows on the server, last deleted first, as long as it keeps them. Its last row as `before` gives the next
   * page.
   *
   * @throws KoinonError `not-linked`, `server-unreachable`.
   * @example
   * const deleted = await replica.trash({ table: 'hive', limit: 20 })
   */
  abstract trash(request?: TrashRequest): Promise<readonly DeletedRow[]>;
  /**
   * Brings a deleted row back as it was: at once where the deletion has not been sent, else with what the server keeps of
   * it. It is a change like any other.
   *
   * @throws KoinonError `no-such-row` where nothing of it is kept; `server-unreachable`.
   * @example
   * await replica.delete('hive', 'h')
   * await replica.restore('hive', 'h')
   */
  abstract restore<T extends HeldTableName<S>>(table: T, id: string): Promise<void>;

  /**
   * One sync step by hand. Nothing is lost when it fails; the next goes on where it stood.
   *
   * @throws KoinonError `server-unreachable` without a network, `not-linked` without a server, `sync-busy`, `cancelled`.
   * @example
   * const { up, down } = await replica.sync({ signal: AbortSignal.timeout(30_000) })
   */
  abstract sync(options?: { readonly direction?: Direction; readonly signal?: AbortSignal }): Promise<SyncReport>;
  /**
   * Somebody has signed in: `token` is asked anew, and a sync begins if they begin by themselves. @throws KoinonError `not-linked`.
   *
   * @example
   * await replica.authChanged()
   */
  abstract authChanged(): Promise<void>;
  /**
   * Ends the tie to the server. By choice the rows stay as rows of this device, or leave it; and the server's copy stays, or
   * is deleted there, which every other device loses then. Unsent edits are never lost without being named. A
   * replica keeps its identity, and with `keep` where it stands: {@link link} goes on from there. May be called again
   * after it was cut off; a deletion on the server that was begun goes on.
   *
   * @throws KoinonError `unsent-changes` where erasing would lose what nobody else has; `not-linked`, `server-unreachable`.
   * @example
   * const report = await replica.unlink({ rows: 'erase', unsent: 'drop' })
   */
  abstract unlink(choices: UnlinkChoices): Promise<UnlinkReport>;
  /**
   * Ties the replica to its server again, and lets syncs begin by themselves. @throws KoinonError `not-linked`.
   *
   * @example
   * await replica.unlink({ rows: 'keep' })
   * await replica.link()
   */
  abstract link(): Promise<void>;
  /**
   * The rows that a pull would bring now, by table, and about how many bytes before compression. Nothing is fetched. Empty while
   * a first download is unfinished. Given a table and perhaps a condition: how many such rows the user may have, before they are {@link hold held}.
   *
   * @throws KoinonError `not-linked`, `server-unreachable`; `query-invalid` for a condition by a column that is not filterable.
   * @example
   * const { hive } = await replica.estimatePull()
   * show(hive ? `${hive.rows} hives, about ${hive.bytes} bytes` : 'nothing new')
   */
  abstract estimatePull<T extends HeldTableName<S>>(rows?: HeldRows<S, T>): Promise<ToCome>;
  /**
   * Asks for rows to be on this device as well, beside those of the option `only`: those of a site for this week's trip, say. They come with the next
   * sync, and are kept up. Called again under the same name it asks for others; only differences move. Rows outside the user's scope do not come.
   *
   * @throws KoinonError `not-linked`; `query-invalid` for a condition by a column that is not filterable; `too-large` for more than 100 holdings.
   * @example
   * await replica.hold('this week', { from: 'hive', where: { site: 's' } })
   */
  abstract hold<T extends HeldTableName<S>>(name: string, rows: HeldRows<S, T>): Promise<void>;
  /**
   * Lets rows go that were asked for under a name. Those that nothing else asks for leave the device with the next sync, unless something of the holding's
   * rows is unsent: then they stay until it is sent. Nothing happens where there is no such holding. @throws KoinonError `not-linked`.
   *
   * @example
   * await replica.letGo('this week')
   */
  abstract letGo(name: string): Promise<void>;
  /**
   * The rows that were asked for by {@link hold}.
   *
   * @example
   * for (const { id, state, rows } of await replica.holdings()) show([id, state, rows])
   */
  abstract holdings(): Promise<readonly Holding[]>;
  /**
   * Stops the sync under way, if any, and lets none begin by itself until {@link resumeSync}. @throws KoinonError `not-linked`.
   *
   * @example
   * await replica.pauseSync()
   */
  abstract pauseSync(): Promise<void>;
  /**
   * Lets syncs begin by themselves again, at once with one. @throws KoinonError `not-linked`.
   *
   * @example
   * await replica.resumeSync()
   */
  abstract resumeSync(): Promise<void>;
  /**
   * Tries again now rather than at the next attempt: `allow` is asked anew, and a failure is not waited for any longer. Nothing
   * happens where no sync begins by itself, or while one is under way. @throws KoinonError `not-linked`.
   *
   * @example
   * await replica.retrySync()
   */
  abstract retrySync(): Promise<void>;
  /**
   * The last runs of the sync, newest first. @param limit how many; default 20, of 200 that are kept.
   *
   * @example
   * const [last] = await replica.journal(1)
   */
  abstract journal(limit?: number): Promise<readonly SyncRun[]>;

  /**
   * The state of the sync, as the one row of the result.
   *
   * @example
   * const stop = replica.syncState().subscribe(({ rows: [state] }) => show(state?.phase))
   */
  syncState(): LiveQuery<SyncState & { readonly id: string }> {
    return new LiveQuery<SyncState & { readonly id: string }>(this.follow('sync', undefined));
  }

  /**
   * Columns on which this device and the server disagree; each waits for a decision and is not sent.
   *
   * @example
   * for (const { table, id, column, local, remote } of await replica.conflicts()) show([table, id, column, local, remote])
   */
  abstract conflicts(): Promise<readonly ConflictOf<S>[]>;
  /**
   * Transactions the server refused, with its reasons.
   *
   * @example
   * for (const { problems } of await replica.rejections()) show(problems.map(({ message }) => message))
   */
  abstract rejections(): Promise<readonly Rejection<TableName<S>>[]>;
  /**
   * Transactions the server has not confirmed, in order.
   *
   * @example
   * const unsent = (await replica.outbox()).length
   */
  abstract outbox(): Promise<readonly QueuedTransaction[]>;

  /**
   * The calls of actions: those that wait, that were refused, and that were applied in the last 7 days, in order.
   *
   * @example
   * for (const { name, state, result } of await replica.invocations()) show([name, state, result])
   */
  abstract invocations(): Promise<readonly InvocationOf<S>[]>;

  /**
   * The list of {@link invocations}, kept up with every change of it.
   *
   * @example
   * const stop = replica.liveInvocations().subscribe(({ rows }) => show(rows.map(({ name, state }) => `${name}: ${state}`)))
   */
  liveInvocations(): LiveQuery<InvocationOf<S>> {
    return new LiveQuery<InvocationOf<S>>(this.follow('invocations', undefined));
  }

  /**
   * Waits for the result of a call of an action: for as long as there is no network. The call goes on whether anybody waits or not.
   *
   * @throws KoinonError why it was refused; `no-such-invocation` where it was taken back; `cancelled`; `replica-closed`.
   * @example
   * const moved = await replica.invoke('moveHive', { hive: 'h', to: 's' })
   * replica.resultOf(moved, { signal: AbortSignal.timeout(10_000) }).then(({ number }) => show(number), show)
   */
  async resultOf<N extends ActionName<S>>(
    invoked: Invoked<N>,
    options: { readonly signal?: AbortSignal } = {},
  ): Promise<ResultOf<S, N>> {
    const { waitForResult } = await import('./result.ts');
    return typed(waitForResult(new LiveQuery<Invocation>(this.follow('invocations', undefined)), invoked, options));
  }

  /**
   * The list of {@link holdings}, kept up with every change of it and of their rows.
   *
   * @example
   * const stop = replica.liveHoldings().subscribe(({ rows }) => show(rows.map(({ id, state }) => `${id}: ${state}`)))
   */
  liveHoldings(): LiveQuery<Holding> {
    return new LiveQuery<Holding>(this.follow('holdings', undefined));
  }

  /**
   * The list of {@link conflicts}, kept up with every change of it.
   *
   * @example
   * const stop = replica.liveConflicts().subscribe(({ rows }) => show(rows))
   */
  liveConflicts(): LiveQuery<ConflictOf<S>> {
    return new LiveQuery<ConflictOf<S>>(this.follow('conflicts', undefined));
  }

  /**
   * The list of {@link rejections}, kept up with every change of it.
   *
   * @example
   * const stop = replica.liveRejections().subscribe(({ rows }) => show(rows))
   */
  liveRejections(): LiveQuery<Rejection<TableName<S>>> {
    return new LiveQuery<Rejection<TableName<S>>>(this.follow('rejections', undefined));
  }

  /**
   * The list of {@link outbox}, kept up with every change of it.
   *
   * @example
   * const stop = replica.liveOutbox().subscribe(({ rows }) => show(rows.length))
   */
  liveOutbox(): LiveQuery<QueuedTransaction> {
    return new LiveQuery<QueuedTransaction>(this.follow('outbox', undefined));
  }

  /**
   * How many transactions wait or were refused, how many rows are in conflict, and whose replica it is.
   *
   * @example
   * const { pending, conflicted, rejected } = await replica.status()
   */
  abstract status(): Promise<ReplicaStatus>;
  /**
   * The place of the data, and how much room it has.
   *
   * @example
   * const { kind, isPersistent } = await replica.storage()
   */
  abstract storage(): Promise<StorageReport>;
  /**
   * Looks for the usual mistakes from the device's side: data in memory, no server, nobody signed in, a sync that fails, a wrong
   * clock, edits that wait. Cheap enough for every start in development. `koinon check` looks at a server and its database.
   *
   * @example
   * for (const { level, message, cure } of await replica.check()) if (level !== 'ok') show(`${message} ${cure}`)
   */
  async check(): Promise<readonly DeviceFinding[]> {
    const { checkReplica } = await import('./check.ts');
    return checkReplica(this, this.now());
  }
  /**
   * Writes a compact copy of the whole replica to a new file, to ship with an app as its `prebuilt` database, say.
   *
   * @example
   * await replica.copyTo(file)
   */
  abstract copyTo(file: string): Promise<void>;
  /**
   * The bytes of such a copy: for a person to keep, or to ship as the `prebuilt` of `hostTabs`.
   *
   * @throws KoinonError `storage-unavailable` where the data is in a page's memory.
   * @example
   * const url = URL.createObjectURL(new Blob([await replica.copy()]))
   */
  abstract copy(): Promise<Uint8Array<ArrayBuffer>>;
  /**
   * Waits for open work, then closes the file. Subscriptions end.
   *
   * @example
   * await replica.close()
   */
  abstract close(): Promise<void>;

  /** The time by this device's clock, milliseconds since 1970. */
  protected now(): number {
    return Date.now();
  }

  /** Carries out what takes changes back or settles them. */
  protected abstract decide<K extends Decision>(name: K, ...given: readonly unknown[]): Promise<DecisionResult<K>>;
  /** Carries out an effect under the id of its call: a second time nothing is done, and the first outcome is told. */
  protected abstract once(call: string, name: EffectName, given: readonly unknown[]): Promise<unknown>;
  /** Follows a query or a list of this kind. */
  protected abstract follow(kind: Followed, request: unknown): Source<never>;
  /** The server's answer to a question. */
  protected abstract askServer(question: Question): Promise<unknown>;
  /** Tells a listener of the changes of a table. */
  protected abstract hear(
    table: string,
    where: unknown,
    listener: (events: readonly ChangeEvent<AnyRow>[]) => void,
  ): () => void;
}

/** Carries out an effect under the id of its call: for a host that is asked by another thread or tab. */
export function carryOutOnce<S extends Schema>(
  replica: Replica<S>,
  call: string,
  name: EffectName,
  given: readonly unknown[],
): Promise<unknown> {
  return replica['once'](call, name, given);
}

/** Asks the server: for a host that carries out what another thread asks of it. */
export function askOn<S extends Schema>(replica: Replica<S>, question: Question): Promise<unknown> {
  return replica['askServer'](question);
}

/** Begins to follow a live query by its kind: for a host that carries out what another thread asks of it. */
export function followOn<S extends Schema>(replica: Replica<S>, kind: Followed, request: unknown): Source<unknown> {
  return replica['follow'](kind, request) as Source<unknown>;
}

/** Begins to listen to a table: for a host that carries out what another thread asks of it. */
export function hearOn<S extends Schema>(
  replica: Replica<S>,
  table: string,
  where: unknown,
  listener: (events: readonly ChangeEvent<AnyRow>[]) => void,
): () => void {
  return replica['hear'](table, where, listener);
}
