import type { Writing } from '../rows/writing.ts';
import type { ReplaceRejected } from './replace-rejected.ts';
import type { Undoing } from './undo.ts';

/** The parts that the end of a local transaction works on. */
export interface Finishing extends Undoing {
  /** Sends what was refused again with what corrects it; undefined where the server has never refused anything. */
  readonly replaceRejected: ReplaceRejected | undefined;
}

/** Ends a local transaction: it is checked as a whole, and refused ones whose rows it edits go up again with it. */
export function finish(at: Finishing, writing: Writing): void {
  writing.finish();
  const { outbox, replaceRejected } = at;
  if (replaceRejected && writing.sequence !== undefined && outbox.hasRejected()) replaceRejected(at, writing.sequence);
}
