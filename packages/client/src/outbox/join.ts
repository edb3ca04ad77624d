import { type Change, joinChanges, type Schema, tableOf } from '@koinon/core';
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
  if (run.length < 2) return;
  const joined = joinedChanges(
    schema,
    run.flatMap((queued) => queued.changes),
  );
  outbox.replace(run, joined, newId());
}

/** Changes of several transactions as those of one: each row once, unless it was deleted and made anew. */
function joinedChanges(schema: Schema, changes: readonly Change[]): Change[] {
  const rows = new Map<string, Change[]>();
  for (const change of changes) {
    const key = JSON.stringify([change.table, change.id]);
    const own = rows.get(key) ?? [];
    const before = own.pop();
    if (before?.kind === 'delete' && change.kind === 'insert') own.push(before, change);
    // What was new here and is gone again was never there.
    else if (!(before?.kind === 'insert' && change.kind === 'delete'))
      own.push(joinChanges(tableOf(schema, change.table), before, change));
    rows.set(key, own);
  }
  return [...rows.values()].flat();
}
