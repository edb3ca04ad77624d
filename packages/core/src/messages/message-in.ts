import type { ErrorCode, Problem } from '../errors/errors.ts';
import type { SentenceName, ServerSentenceName } from '../errors/sentences.ts';
import { filled } from '../schema/message.ts';
import type { Labels } from '../schema/naming.ts';

/** The errors that a person may meet and that have no parts: the code alone decides the message. */
type ToldByCode = Extract<
  ErrorCode,
  | `storage-${'full' | 'damaged' | 'lost' | 'refused' | 'unavailable'}`
  | `replica-${'busy' | 'moved' | 'blocked'}`
  | `server-${'unreachable' | 'answer' | 'failure'}`
  | 'layout-newer'
  | 'schema-newer'
  | 'schema-foreign'
  | 'upgrade-needed'
  | 'token-failed'
  | 'not-authenticated'
  | 'other-user'
  | 'too-many-replicas'
  | 'too-many-requests'
  | 'sync-busy'
  | 'already-sent'
  | 'unsent-changes'
  | 'nothing-to-undo'
  | 'nothing-to-redo'
  | 'change-needed'
  | 'no-such-conflict'
  | 'internal-failure'
  | 'cancelled'
>;

/** The name of a sentence, of a part of one, or the code of an error. */
export type MessageName = SentenceName | ServerSentenceName | ToldByCode;

/** The sentences of one language, by name. `{…}` marks a part that is put in; its name says which. */
export type Messages = Readonly<Record<MessageName, string>>;

/** A problem, or an error with its problems. */
export interface Translatable extends Problem {
  /** The problems of an error, of which the first is told. */
  readonly problems?: readonly Problem[];
}

/**
 * The message of a problem or error in another language. What has no sentence there, such as the words of a rule of your own,
 * keeps the message it has.
 *
 * @param labels what tables and columns are called in that language; a schema for those it has itself.
 * @example
 * const labels = { tables: { hive: { label: 'Volk', columns: { mark: { label: 'Kennzeichen' } } } } }
 * show(messageIn(german, problem, labels))
 */
export function messageIn(messages: Partial<Messages>, problem: Translatable, labels: Labels): string {
  const [told = problem] = problem.problems ?? [];
  return filled(told, told.sentence ?? told.code, messages, labels) ?? told.message;
}
