import type { RowKey } from '@koinon/core';

/** The calls that take changes back, or settle them, with their results. */
export interface Decisions {
  undo(): readonly RowKey[];
  redo(): readonly RowKey[];
  revert(): void;
  revertAll(): number;
  resolve(): void;
  unresolve(): void;
  resend(): void;
  discard(): readonly RowKey[];
  amend(): void;
}

/** The name of one of them. */
export type Decision = keyof Decisions;

/** The result of one of them. */
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
  amend: true,
};

/** Tells whether an effect takes changes back or settles them. */
export function isDecision(name: string): name is Decision {
  return Object.hasOwn(decisions, name);
}
