import type { AssignedKey } from '@koinon/core';
import { isProvisionalId } from '@koinon/core/internal';
import { renameRowsEverywhere } from './adopt.ts';
import type { Applying } from './show.ts';

// Rows whose keys the database gives. Inside a transaction.

/**
 * Takes the keys that the database gave to rows which were made here: each row, what refers to it and what waits to be sent have the key
 * from now on. A transaction keeps its id: the server translates provisional ids before it compares contents.
 */
export function takeKeys(overlay: Applying, assigned: readonly AssignedKey[]): void {
  const renamed = new Map<string, Map<string, string>>();
  for (const pair of assigned) {
    const { table, provisional, id } = pair;
    // An answer that makes no sense renames no other row.
    if (overlay.schema.tables[table]?.assignedKey !== true || !isProvisionalId(provisional)) continue;
    // A restored server may have given the row another key than before.
    const before = overlay.keys.idOf(table, provisional);
    if (before === id) continue;
    overlay.keys.note(pair, overlay.host.now());
    renamed.set(table, (renamed.get(table) ?? new Map<string, string>()).set(before, id));
  }
  for (const [table, ids] of renamed) renameRowsEverywhere(overlay, table, ids);
}

/**
 * A restored server may have lost the keys that it gave, or have given them to other rows: what is offered to it again goes by the ids under
 * which it was made.
 */
export function takeBackKeys(overlay: Applying): void {
  const renamed = new Map<string, Map<string, string>>();
  for (const pair of overlay.keys.ofUnsentRows()) {
    const { table, id: from, provisional: to } = pair;
    overlay.keys.forget(pair);
    renamed.set(table, (renamed.get(table) ?? new Map<string, string>()).set(from, to));
  }
  for (const [table, ids] of renamed) renameRowsEverywhere(overlay, table, ids);
}
