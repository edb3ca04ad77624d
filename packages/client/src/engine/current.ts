import type { Decision } from '../overlay/decision.ts';
import type { StepName } from './steps.ts';

/** What a call names by an id under which a row was made, under the id that the row has now. */
export interface CurrentIds {
  /** The arguments of a call. */
  call(name: StepName | Decision, given: readonly unknown[]): readonly unknown[];
  query(query: unknown): unknown;
  condition(table: string, where: unknown): unknown;
}

/** All as it is given: no row is given another id. */
export const asGiven: CurrentIds = {
  call: (_name, given) => given,
  query: (query) => query,
  condition: (_table, where) => where,
};
