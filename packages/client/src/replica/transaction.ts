import { KoinonError, type Problem, type Row, type Schema, type TableName } from '@koinon/core';
import { argumentsOf } from '../engine/arguments.ts';
import { hasBytes, withBytes } from '../engine/bytes.ts';
import { type Engine, loadSettling, type StepName, type Steps, WriteSteps } from '../engine/steps.ts';
import type { ChoicesOf, RowDecision } from '../overlay/resolve.ts';
import { DataApi } from './data-api.ts';

/** The transaction that its function gets. Reads see the transaction's own writes; nobody else does before it ends. */
export abstract class Transaction<S extends Schema> extends DataApi<S> {
  /** The problems for which the transaction would be refused if it ended now: unique values, references. */
  check(): Promise<readonly Problem[]> {
    return this.execute('check');
  }

  /** Settles conflicts as {@link Replica.resolve} does, as part of this transaction. */
  resolve<T extends TableName<S>>(table: T, id: string, choices: ChoicesOf<Row<S, T>>): Promise<void>;
  resolve(decisions: readonly RowDecision[]): Promise<void>;
  async resolve(first: string | readonly RowDecision[], id?: string, choices?: unknown): Promise<void> {
    const decisions = typeof first === 'string' ? [{ table: first, id, choices }] : first;
    await this.execute('resolve', decisions as readonly RowDecision[]);
  }
}

/** The error of a call on the replica where the transaction was meant. */
export function calledInside(): KoinonError {
  return new KoinonError(
    'called-inside',
    'The replica was called inside of a transaction of its own, where it would wait for itself. Call the transaction that the function is handed instead.',
  );
}

/** A transaction while its function runs: over when the function ends, or when it does nothing for too long. */
export class OpenTransaction<S extends Schema> extends Transaction<S> {
  private readonly engine: Engine;
  private readonly steps: WriteSteps;
  private readonly stallLimit: number;
  private readonly hasBytes: boolean;
  private readonly prepare: (query: unknown) => Promise<void> | undefined;
  private over = false;
  private cancelTimer: () => void = () => undefined;
  private stalled: (error: KoinonError) => void = () => undefined;

  /** @param prepare loads what a query needs beside the rows. */
  constructor(engine: Engine, stallLimit: number, prepare: (query: unknown) => Promise<void> | undefined) {
    super();
    this.engine = engine;
    this.steps = new WriteSteps(engine);
    this.stallLimit = stallLimit;
    this.prepare = prepare;
    this.hasBytes = hasBytes(engine.schema);
  }

  /** Runs the function to its end and checks the whole; the caller commits or rolls back. */
  async run<Result>(work: (transaction: Transaction<S>) => Promise<Result>): Promise<Result> {
    const stall = new Promise<never>((_, reject) => {
      this.stalled = reject;
    });
    try {
      this.watch();
      const result = await Promise.race([work(this), stall]);
      this.steps.finish();
      return result;
    } finally {
      this.over = true;
      this.cancelTimer();
    }
  }

  protected override async execute<K extends StepName>(
    name: K,
    ...given: Parameters<Steps[K]>
  ): Promise<ReturnType<Steps[K]>> {
    if (this.over)
      throw new KoinonError('transaction-over', 'This transaction has ended; await every call inside its function.');
    const taken = argumentsOf(name, given);
    const bytes = this.hasBytes ? await withBytes(taken) : undefined;
    if (name === 'rows') await this.prepare(taken[0]);
    if (name === 'resolve') await loadSettling();
    this.watch();
    return this.engine.database.guarded(() =>
      (this.steps[name] as (...words: unknown[]) => ReturnType<Steps[K]>)(
        ...this.engine.current.call(name, bytes ?? taken),
      ),
    );
  }

  protected override inTransaction<Result>(work: (data: DataApi<S>) => Promise<Result>): Promise<Result> {
    return work(this);
  }

  private watch(): void {
    this.cancelTimer();
    this.cancelTimer = this.engine.host.after(this.stallLimit, () => {
      this.stalled(
        new KoinonError(
          'transaction-stalled',
          `A transaction did nothing for ${this.stallLimit} ms and was rolled back. Inside it use only the transaction it hands you: a call on the replica itself waits for the transaction to end.`,
        ),
      );
    });
  }
}
