import type { RowKey } from '@koinon/core';

/** What takes changes back, or settles them, with what it returns. */
export interface Decisions {
  undo(): readonly RowKey[];
  redo(): readonly RowKey[];
  revert(): void;
  revertAll(): number;
  resolve(): void;
  unresolve(): void;
  resend(): void;
  discard(): readonly RowKey[];
}

/** The name of one of them. */
export type Decision = keyof Decisions;

/** What one of them returns. */
export type DecisionResult<K extends Decision> = ReturnType<Decisions[K]>;

const decisions: Readonly<Record<Decision, true>> = {
  undo: true,
  redo: true,
  revert: true,
  revertAll: true,
  resolve: true,
  unresolve: true,
  resend: true,
  discard: true,
};

/** Whether an effect takes changes back or settles them. */
export function isDecision(name: string): name is Decision {
  return Object.hasOwn(decisions, name);
}
