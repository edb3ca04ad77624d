import type { ReadSteps, StepName } from './steps.ts';

type Read = Exclude<keyof ReadSteps, 'engine'>;

/** Every step that only reads; apart from the steps, so that a page that calls them need not load them. */
const readNames: Readonly<Record<Read, true>> = {
  get: true,
  rows: true,
  count: true,
  summary: true,
  select: true,
  rowState: true,
  setting: true,
  sourceNote: true,
  isDone: true,
};

/** Tells whether a step only reads. */
export function reads(name: StepName): boolean {
  return Object.hasOwn(readNames, name);
}
