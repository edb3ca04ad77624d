import { type ErrorCode, KoinonError, type Problem } from '@koinon/core';
import { shown } from '@koinon/core/internal';
import type { StepName } from '../engine/steps.ts';
import type { Question } from '../on-server/question.ts';
import type { Followed } from '../replica/replica.ts';
import type { CarriedResult } from './carried.ts';

/** Functions of a replica that a host runs as they are called. */
export type HostedCall =
  | 'undo'
  | 'redo'
  | 'discard'
  | 'amend'
  | 'revert'
  | 'revertAll'
  | 'resolve'
  | 'unresolve'
  | 'resend'
  | 'trash'
  | 'restore'
  | 'sync'
  | 'authChanged'
  | 'unlink'
  | 'link'
  | 'estimatePull'
  | 'hold'
  | 'letGo'
  | 'holdings'
  | 'pauseSync'
  | 'resumeSync'
  | 'retrySync'
  | 'journal'
  | 'conflicts'
  | 'rejections'
  | 'outbox'
  | 'invocations'
  | 'status'
  | 'storage'
  | 'copyTo'
  | 'copy'
  | 'close';

/**
 * A request of the app's side to the host. Each carries a number; the answer carries it back. `call` is the id of what has
 * an effect, where it may have to be repeated to another host.
 */
export type Request =
  | { readonly ask: 'open'; readonly number: number }
  | {
      readonly ask: 'step';
      readonly number: number;
      readonly name: StepName;
      readonly given: readonly unknown[];
      readonly transaction?: number;
      readonly call?: string;
    }
  | {
      readonly ask: 'call';
      readonly number: number;
      readonly name: HostedCall;
      readonly given: readonly unknown[];
      readonly call?: string;
    }
  | { readonly ask: 'cancel'; readonly number: number }
  | { readonly ask: 'begin'; readonly number: number }
  | {
      readonly ask: 'end';
      readonly number: number;
      readonly transaction: number;
      readonly commits: boolean;
      readonly call?: string;
    }
  | { readonly ask: 'server'; readonly number: number; readonly question: Question }
  | { readonly ask: 'outcome'; readonly number: number; readonly call: string }
  | { readonly ask: 'follow'; readonly number: number; readonly kind: Followed; readonly request: unknown }
  | { readonly ask: 'hear'; readonly number: number; readonly table: string; readonly where: unknown }
  | { readonly ask: 'stop'; readonly number: number };

/** An answer of the host, and what it tells followers and listeners later on under the number they began with. */
export type Answer =
  | { readonly type: 'done'; readonly number: number; readonly value: unknown }
  | { readonly type: 'error'; readonly number: number; readonly error: CarriedError }
  | { readonly type: 'result'; readonly number: number; readonly result: CarriedResult }
  | { readonly type: 'end'; readonly number: number }
  | { readonly type: 'events'; readonly number: number; readonly events: readonly unknown[] }
  // The answers that belong to one commit arrive together, so that a screen changes once.
  | { readonly type: 'batch'; readonly answers: readonly Answer[] }
  // Another host has the replica now: whatever is not answered yet has to be asked again.
  | { readonly type: 'owner-changed' }
  // Which database the tab's worker is for, and the term in which it runs it; null while another tab does.
  | { readonly type: 'tab'; readonly name: string; readonly term: string | null };

/** An error as it crosses to another thread. */
export interface CarriedError {
  readonly code?: ErrorCode;
  readonly message: string;
  readonly details: { readonly [name: string]: unknown; readonly problems?: readonly Problem[] };
}

/** Takes an error apart for the way; values that may not be cloned go as text. */
export function carryError(error: unknown): CarriedError {
  if (!(error instanceof KoinonError))
    return { message: error instanceof Error ? error.message : String(error), details: {} };
  const { code, message, table, id, column, value, rule, problems } = error;
  const given = Object.entries({ table, id, column, rule }).filter(([, detail]) => detail !== undefined);
  const isPlain = value === null || ['string', 'number', 'boolean'].includes(typeof value);
  return {
    code,
    message,
    details: {
      ...Object.fromEntries(given),
      ...(value === undefined ? {} : { value: isPlain ? value : shown(value) }),
      problems,
    },
  };
}

/** Puts an error together again. */
export function errorOf({ code, message, details }: CarriedError): Error {
  return code === undefined ? new Error(message) : new KoinonError(code, message, details);
}

/** The error for a transaction's caller when the process that ran the replica is gone with it. */
export function movedAway(): KoinonError {
  return new KoinonError(
    'replica-moved',
    'The tab that ran the database is gone, and the transaction was rolled back with it. Nothing of it was kept: it is safe to run it again.',
  );
}
