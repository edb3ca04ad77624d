import type { JsonValue } from '@koinon/core';

/** The circumstances in which an effect is carried out. */
export interface EffectContext {
  /** The same however often it is carried out, and another for each effect: services take it as an idempotency key. */
  readonly key: string;
  /** How often it has been tried, this time included. */
  readonly attempt: number;
  /** Aborted when it has taken too long, or the server stops. */
  readonly signal: AbortSignal;
}

/** Something that is done outside of the database: a mail, a payment. A throw has it tried again later. */
export type Effect = (payload: JsonValue, context: EffectContext) => unknown;

/** Effects by name. */
export type Effects = Readonly<Record<string, Effect>>;
