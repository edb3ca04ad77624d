import * as v from 'valibot';
import type { ErrorCode } from '../errors/errors.ts';
import type { SentenceParameters } from '../errors/sentences.ts';
import { type Message, text } from './message.ts';

/** The code of an error. A server that is newer than the app may have codes that the app does not know. */
export const errorCode = v.custom<ErrorCode>((value) => typeof value === 'string');

export const problemDocument = v.object({
  type: v.optional(text),
  title: v.optional(text),
  status: v.optional(v.number()),
  code: errorCode,
  detail: text,
  table: v.optional(text),
  column: v.optional(text),
});

/** An error as it travels (RFC 9457). */
export type ProblemDocument = Message<typeof problemDocument>;

/** Tells whether something are the parameters of a sentence: texts, numbers, and lists of texts, by name. */
function areParameters(given: unknown): boolean {
  return (
    typeof given === 'object' &&
    given !== null &&
    Object.values(given).every((value) =>
      Array.isArray(value)
        ? value.every((each) => typeof each === 'string')
        : typeof value === 'string' || typeof value === 'number',
    )
  );
}

/** What was put into the sentence of a problem. */
export const parameters: v.GenericSchema<unknown, SentenceParameters> = v.custom<SentenceParameters>(areParameters);

export const problem = v.object({
  code: errorCode,
  message: text,
  table: v.optional(text),
  id: v.optional(text),
  column: v.optional(text),
  action: v.optional(text),
  rule: v.optional(text),
  sentence: v.optional(text),
  parameters: v.optional(parameters),
});
