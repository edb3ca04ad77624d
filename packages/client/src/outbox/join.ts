import type { Schema } from '@koinon/core';
import type { Host } from '../host/host.ts';
import type { Conflicts } from '../overlay/conflicts.ts';
import { ready } from './batch.ts';
import type { Outbox, QueuedTransaction } from './outbox.ts';

/** Changes that are joined into one transaction at most. */
const mostJoined = 5_000;

/**
 * Joins the next transactions that are to be sent into one, so that only the latest state of each row goes up: those that
 * were never sent and follow on each other, whole. What was sent keeps its content, since its outcome may be unknown.
 */
export function joinNext(schema: Schema, outbox: Outbox, conflicts: Conflicts, { newId }: Pick<Host, 'newId'>): void {
  const run: QueuedTransaction[] = [];
  let changes = 0;
  for (const queued of ready(schema, outbox, conflicts)) {
    const before = run.at(-1);
    changes += queued.changes.length;
    const follows = before === undefined || outbox.follows(before.sequence, queued.sequence);
    if (queued.wasSent || !follows || (before && changes > mostJoined)) break;
    run.push(queued);
  }
  if (run.length > 1) outbox.join(run, newId());
}
