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
  /** Tells whether a refusal gives up the whole database transaction, so that it may come later. */
  isWithoutSavepoint = false;

  constructor(steps: AttemptSteps) {
    this.steps = steps;
  }

  /** Runs writes that are taken back when they return or raise problems. They carry this receipt and edit time. */
  async withSavepoint(receipt: string, editedAt: number, work: Work): Promise<readonly Problem[]> {
    await this.steps.setSavepoint();
    const problems = await this.attempt(receipt, editedAt, async () => {
      const found = await work();
      if (found.length === 0) await this.steps.check();
      return found;
    });
    if (problems.length > 0) await this.steps.takeBack();
    await this.steps.releaseSavepoint();
    return problems;
  }

  /** The same without a way back: after problems, or a throw, the whole database transaction has to be given up. */
  async withoutSavepoint(receipt: string, editedAt: number, work: Work): Promise<readonly Problem[]> {
    this.isWithoutSavepoint = true;
    try {
      return await this.attempt(receipt, editedAt, work);
    } finally {
      this.isWithoutSavepoint = false;
    }
  }

  private async attempt(receipt: string, editedAt: number, work: Work): Promise<readonly Problem[]> {
    await this.steps.writeAs(receipt, editedAt);
    try {
      return await work();
    } catch (error) {
      const problem = this.steps.problemOf(error);
      if (problem === undefined) throw error;
      return [problem];
    }
  }
}
