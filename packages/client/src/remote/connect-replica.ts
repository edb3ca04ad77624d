import { type AnyRow, KoinonError, type Schema, type TrashRequest } from '@koinon/core';
import { frozenRow } from '@koinon/core/internal';
import { callContext } from '#call-context';
import { callback } from '../engine/arguments.ts';
import { reads } from '../engine/reads.ts';
import type { StepName, Steps } from '../engine/steps.ts';
import { timeId } from '../host/time-id.ts';
import type { ChangeEvent } from '../live/listener.ts';
import type { Result, Source } from '../live/result.ts';
import type { Question } from '../on-server/question.ts';
import { type Decision, type DecisionResult, isDecision } from '../overlay/decision.ts';
import { type DataApi, typed } from '../replica/data-api.ts';
import { Draft } from '../replica/draft.ts';
import { type EffectName, type Followed, Replica } from '../replica/replica.ts';
import { calledInside, Transaction } from '../replica/transaction.ts';
import { syncOptions } from '../sync/options.ts';
import type { Direction } from '../sync/state.ts';
import type { SyncReport } from '../sync/step.ts';
import { Receiver } from './carried.ts';
import { errorOf, type HostedCall, movedAway, type Request } from './messages.ts';
import type { Port } from './port.ts';
import { type Unnumbered, Wire } from './wire.ts';

/** A result that crossed from the other thread has lost its freezing: the same again, frozen, rows as rows. */
function refrozen<T>(value: T): T {
  if (value === null || typeof value !== 'object' || value instanceof Uint8Array) return value;
  if (Array.isArray(value)) return Object.freeze(value.map(refrozen)) as T;
  const members = Object.entries(value).map(([name, member]) => [name, refrozen(member)] as const);
  const columns: Record<string, unknown> = Object.fromEntries(members);
  if (typeof columns.id !== 'string') return Object.freeze(columns) as T;
  return frozenRow(
    columns.id,
    columns,
    members.flatMap(([name]) => (name === 'id' ? [] : [name])),
  ) as T;
}

/**
 * Reaches a replica that another thread runs by `hostReplica`. The same replica to the app: every function works the
 * same, rows and errors are alike.
 *
 * @throws KoinonError whatever opening it there threw.
 * @example
 * const replica = await connectReplica(new Worker(new URL('./worker.js', import.meta.url)), schema)
 */
export async function connectReplica<S extends Schema>(port: Port, schema: S): Promise<Replica<S>> {
  const wire = new Wire(port);
  await wire.open();
  return new ConnectedReplica<S>(schema, wire);
}

/** A replica at the other end of a wire. */
export class ConnectedReplica<S extends Schema> extends Replica<S> {
  readonly schema: S;
  private readonly wire: Wire;

  constructor(schema: S, wire: Wire) {
    super();
    this.schema = schema;
    this.wire = wire;
  }

  async transaction<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result> {
    callback('work', work);
    const transaction = this.wire.next();
    await this.ask({ ask: 'begin' }, transaction);
    const end = (commits: boolean) =>
      this.wire.ask({ ask: 'end', transaction, commits, ...(commits ? this.wire.identified() : {}) });
    const open = new ConnectedTransaction<S>(this.wire, transaction);
    let result: Result;
    try {
      result = await callContext.run(open, () => work(open));
    } catch (error) {
      open.isOver = true;
      await end(false).catch(() => undefined);
      throw error;
    }
    open.isOver = true;
    if ((await end(true)) === false) throw movedAway();
    return result;
  }

  draft(): Draft<S> {
    return new Draft<S>(this.schema, this, () => timeId());
  }

  undo() {
    return this.effect('undo');
  }

  redo() {
    return this.effect('redo');
  }

  revertAll() {
    return this.effect('revertAll');
  }

  async sync(options?: { readonly direction?: Direction; readonly signal?: AbortSignal }): Promise<SyncReport> {
    const { direction, signal } = syncOptions(options);
    const number = this.wire.next();
    const cancel = () => this.wire.post({ ask: 'cancel', number });
    signal?.addEventListener('abort', cancel);
    if (signal?.aborted) queueMicrotask(cancel);
    const given = [direction === undefined ? {} : { direction }];
    const report = this.ask({ ask: 'call', name: 'sync', given }, number) as Promise<SyncReport>;
    return report.finally(() => signal?.removeEventListener('abort', cancel));
  }

  protected override decide<K extends Decision>(name: K, ...given: readonly unknown[]): Promise<DecisionResult<K>> {
    return typed(this.effect(name, ...given));
  }

  unresolve(table: string, id: string) {
    return this.effect('unresolve', table, id);
  }

  resend(transaction: string) {
    return this.effect('resend', transaction);
  }

  trash(request?: TrashRequest) {
    return this.call('trash', request);
  }

  restore(table: string, id: string) {
    return this.call('restore', table, id);
  }

  authChanged() {
    return this.call('authChanged');
  }

  unlink(choices: unknown) {
    return this.call('unlink', choices);
  }

  link() {
    return this.call('link');
  }

  protected override async askServer(question: Question): Promise<unknown> {
    return refrozen(await this.ask({ ask: 'server', question }));
  }

  estimatePull(rows?: unknown) {
    return this.call('estimatePull', ...(rows === undefined ? [] : [rows]));
  }

  hold(name: string, rows: unknown) {
    return this.call('hold', name, rows);
  }

  letGo(name: string) {
    return this.call('letGo', name);
  }

  holdings() {
    return this.call('holdings');
  }

  pauseSync() {
    return this.call('pauseSync');
  }

  resumeSync() {
    return this.call('resumeSync');
  }

  retrySync() {
    return this.call('retrySync');
  }

  journal(limit?: number) {
    return this.call('journal', limit);
  }

  conflicts() {
    return this.call('conflicts');
  }

  rejections() {
    return this.call('rejections');
  }

  outbox() {
    return this.call('outbox');
  }

  invocations() {
    return this.call('invocations');
  }

  status() {
    return this.call('status');
  }

  storage() {
    return this.call('storage');
  }

  copyTo(file: string) {
    return this.call('copyTo', file);
  }

  copy() {
    return this.call('copy');
  }

  async close(): Promise<void> {
    if (this.wire.isOver) return;
    await this.call('close');
    this.wire.close();
  }

  protected override async execute<K extends StepName>(
    name: K,
    ...given: Parameters<Steps[K]>
  ): Promise<ReturnType<Steps[K]>> {
    const call = reads(name) ? {} : this.wire.identified();
    return refrozen(await this.ask({ ask: 'step', name, given, ...call })) as ReturnType<Steps[K]>;
  }

  protected override inTransaction<Result>(work: (data: DataApi<S>) => Promise<Result>): Promise<Result> {
    return this.transaction(work);
  }

  protected override follow(kind: Followed, request: unknown): Source<never> {
    const given = copied(request);
    return ({ deliver, fail, end }) => {
      const receiver = new Receiver(refrozen);
      return this.wire.follow(
        { ask: 'follow', kind, request: given },
        (answer) => {
          if (answer.type === 'error') fail(errorOf(answer.error));
          else if (answer.type === 'result') deliver(receiver.receive(answer.result) as Result<never>);
        },
        { fail, end },
      );
    };
  }

  protected override hear(
    table: string,
    where: unknown,
    listener: (events: readonly ChangeEvent<AnyRow>[]) => void,
  ): () => void {
    return this.wire.follow(
      { ask: 'hear', table, where },
      (answer) => {
        if (answer.type === 'events') listener(answer.events.map(refrozenEvent));
      },
      { fail: () => undefined, end: () => undefined },
    );
  }

  protected override async once(call: string, name: EffectName, given: readonly unknown[]): Promise<unknown> {
    const request = isDecision(name)
      ? ({ ask: 'call', name, given, call } as const)
      : ({ ask: 'step', name, given, call } as const);
    return refrozen(await this.ask(request));
  }

  /** Asks the host, which runs the same function of its replica: what it answers has that function's type. */
  private call<K extends HostedCall>(
    name: K,
    ...given: readonly unknown[]
  ): Promise<Awaited<ReturnType<Replica<S>[K]>>> {
    return typed(this.ask({ ask: 'call', name, given }));
  }

  /** The same for what must not be done twice. */
  private effect<K extends HostedCall>(
    name: K,
    ...given: readonly unknown[]
  ): Promise<Awaited<ReturnType<Replica<S>[K]>>> {
    return typed(this.ask({ ask: 'call', name, given, ...this.wire.identified() }));
  }

  private ask(request: Unnumbered<Request>, number?: number): Promise<unknown> {
    const inside = callContext.current();
    if (inside instanceof ConnectedTransaction && inside.wire === this.wire && !inside.isOver)
      return Promise.reject(calledInside());
    return this.wire.ask(request, number);
  }
}

class ConnectedTransaction<S extends Schema> extends Transaction<S> {
  isOver = false;
  readonly wire: Wire;
  private readonly number: number;

  constructor(wire: Wire, number: number) {
    super();
    this.wire = wire;
    this.number = number;
  }

  protected override async execute<K extends StepName>(
    name: K,
    ...given: Parameters<Steps[K]>
  ): Promise<ReturnType<Steps[K]>> {
    if (this.isOver)
      throw new KoinonError('transaction-over', 'This transaction has ended; await every call inside its function.');
    return refrozen(await this.wire.ask({ ask: 'step', name, given, transaction: this.number })) as ReturnType<
      Steps[K]
    >;
  }

  protected override inTransaction<Result>(work: (data: DataApi<S>) => Promise<Result>): Promise<Result> {
    return work(this);
  }
}

/** A copy, so that the app may go on with its object; what cannot be copied is told to who subscribes, when it is sent. */
function copied(request: unknown): unknown {
  try {
    return structuredClone(request);
  } catch {
    return request;
  }
}

function refrozenEvent(event: unknown): ChangeEvent<AnyRow> {
  const { before, after, ...rest } = event as ChangeEvent<AnyRow>;
  return { ...rest, before: before && refrozen(before), after: after && refrozen(after) };
}
