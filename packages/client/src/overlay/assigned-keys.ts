import type { AssignedKey } from '@koinon/core';
import { renameRowEverywhere } from './adopt.ts';
import type { Applying } from './show.ts';

// Rows whose keys the database gives. Inside a transaction.

/**
 * Takes the keys that the database gave to rows which were made here: each row, what refers to it and what waits to be sent have the key
 * from now on. A transaction keeps its id: the server translates provisional ids before it compares contents.
 */
export function takeKeys(overlay: Applying, assigned: readonly AssignedKey[] | undefined): void {
  for (const pair of assigned ?? []) {
    const { table, provisional, id } = pair;
    if (overlay.schema.tables[table]?.assignedKey !== true) continue;
    // A restored server may have given the row another key than before.
    const before = overlay.keys.idOf(table, provisional);
    if (before === id) continue;
    overlay.keys.note(pair, overlay.host.now());
    renameRowEverywhere(overlay, table, before, id);
  }
}

/**
 * A restored server may have lost the keys that it gave, or have given them to other rows: what is offered to it again goes by the ids under
 * which it was made.
 */
export function takeBackKeys(overlay: Applying): void {
  for (const pair of overlay.keys.ofUnsentRows()) {
    overlay.keys.forget(pair);
    renameRowEverywhere(overlay, pair.table, pair.id, pair.provisional);
  }
}
