import type { Problem } from '@koinon/core';

/** The part of a store that writes one uploaded transaction inside the open database transaction, and takes it back. */
export interface AttemptSteps {
  /** Says on whose behalf rows are written from here on. */
  writeAs(receipt: string, editedAt: number): void | Promise<void>;
  /** Sets the savepoint to come back to. */
  setSavepoint(): void | Promise<void>;
  /** Asks for the checks that the database makes at the end, while there can still be an outcome. */
  check(): void | Promise<void>;
  /** Comes back to the savepoint. */
  takeBack(): void | Promise<void>;
  /** Gives the savepoint up. What was written since stays, unless it was taken back. */
  releaseSavepoint(): void | Promise<void>;
  /** The problem that an error of the database tells of; undefined for any other failure. */
  problemOf(error: unknown): Problem | undefined;
}

type Work = () => Promise<readonly Problem[]>;

/** How uploaded transactions are written: each with a way back, or several without one, which costs less. */
export class Attempts {
  private readonly steps: AttemptSteps;
  /** Tells whether a refusal of a row gives up the whole database transaction, so that it may come later. */
  isOptimistic = false;

  constructor(steps: AttemptSteps) {
    this.steps = steps;
  }

  /**
   * Runs writes that are taken back when they return or raise problems. They carry this receipt and edit time.
   *
   * @param isOptimistic where the refusal of a row gives up the whole database transaction nevertheless.
   */
  async withSavepoint(
    receipt: string,
    editedAt: number,
    work: Work,
    isOptimistic = false,
  ): Promise<readonly Problem[]> {
    const { steps } = this;
    // A store that is done at once is not waited for: among thousands of transactions that is most of what a savepoint costs.
    const settingSavepoint = steps.setSavepoint();
    if (settingSavepoint) await settingSavepoint;
    const problems = await this.attempt(receipt, editedAt, isOptimistic, async () => {
      const found = await work();
      const checking = found.length === 0 ? steps.check() : undefined;
      if (checking) await checking;
      return found;
    });
    if (problems.length > 0) await steps.takeBack();
    const releasing = steps.releaseSavepoint();
    if (releasing) await releasing;
    return problems;
  }

  /** The same without a way back: after problems, or a throw, the whole database transaction has to be given up. */
  async withoutSavepoint(receipt: string, editedAt: number, work: Work): Promise<readonly Problem[]> {
    return this.attempt(receipt, editedAt, true, work);
  }

  private async attempt(receipt: string, editedAt: number, isOptimistic: boolean, work: Work) {
    const becoming = this.steps.writeAs(receipt, editedAt);
    if (becoming) await becoming;
    this.isOptimistic = isOptimistic;
    try {
      return await work();
    } catch (error) {
      const problem = this.steps.problemOf(error);
      if (problem === undefined) throw error;
      return [problem];
    } finally {
      this.isOptimistic = false;
    }
  }
}
