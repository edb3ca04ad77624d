import type { Decision, EffectName } from './replica.ts';

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
export function isDecision(name: EffectName): name is Decision {
  return Object.hasOwn(decisions, name);
}
