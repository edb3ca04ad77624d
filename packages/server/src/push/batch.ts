/** How the transactions that come next in a push are written together. */
export type BatchState =
  /** All that are left, in one database transaction and without savepoints: all are expected to be fine. */
  | { readonly name: 'optimistic' }
  /** All that are left, in one database transaction, each with a savepoint of its own. */
  | { readonly name: 'guarded' }
  /** Those before the one that cannot be written with the others, together; that one alone; and then the rest, guarded. */
  | { readonly name: 'divided'; readonly suspect: number };

/** The way on after a group could not be written: with the next group, or the transaction is set aside by itself. */
export type AfterFailure = 'try again' | 'set aside';

/**
 * The way through the transactions of one push, in groups that share a database transaction. A group that cannot be written
 * leads to a smaller one, so that at last the transaction at fault is alone, and all others are written.
 */
export class Batch {
  /** The place of the next transaction. */
  from = 0;
  private state: BatchState;
  private readonly onState: (state: BatchState) => void;

  /** @param onState is told each state that follows. */
  constructor(first: 'optimistic' | 'guarded', onState: (state: BatchState) => void = () => undefined) {
    this.state = { name: first };
    this.onState = onState;
  }

  get isOptimistic(): boolean {
    return this.state.name === 'optimistic';
  }

  /** The transactions that are written next. */
  groupOf<T>(transactions: readonly T[]): readonly T[] {
    const { state, from } = this;
    return transactions.slice(from, state.name === 'divided' ? Math.max(state.suspect, from + 1) : undefined);
  }

  /** Some of the group have their outcome. */
  passed(count: number): void {
    this.from += count;
    if (this.state.name === 'divided' && this.from > this.state.suspect) this.enter({ name: 'guarded' });
  }

  /**
   * The group was given up.
   *
   * @param reached transactions of it that would have been fine. If all were, the commit failed, and any may be at fault.
   */
  failed(size: number, reached: number): AfterFailure {
    if (this.isOptimistic) this.enter({ name: 'guarded' });
    else if (size > 1) this.enter({ name: 'divided', suspect: this.from + (reached < size ? reached : 0) });
    else return 'set aside';
    return 'try again';
  }

  private enter(state: BatchState): void {
    this.state = state;
    this.onState(state);
  }
}
