import {
  columnsFromWire,
  KoinonError,
  type RestoreRequest,
  shown,
  type TrashRequest,
  type TrashResponse,
  tableOf,
} from '@koinon/core';
import { pageBytes } from '../feed/page.ts';
import type { Access } from '../pull/pull.ts';
import type { RuleSet } from '../rules/rules.ts';
import { writeChanges } from '../rules/write.ts';
import { Guard } from '../scope/guard.ts';
import { heldBytes, type Store, type Tombstone } from '../stores/store.ts';

/** Deleted rows that are read at a time: they may be large. */
const stride = 16;

/**
 * Deleted rows, last deleted first, as long as the feed keeps them: as many as are asked for, or fewer that make a page.
 *
 * @throws KoinonError `unknown-table`.
 */
export async function trash(store: Store, request: TrashRequest, access: Access): Promise<TrashResponse> {
  const { table, id, before, limit = 100 } = request;
  if (table !== undefined) tableOf(store.schema, table);
  return store.read(async (reader) => {
    const { view } = await access.scopes.evaluate(access.user, reader);
    const rows: Tombstone[] = [];
    let bytes = 0;
    // What was somebody else's when it was deleted is passed over.
    for (let from = before; rows.length < limit && bytes < pageBytes; ) {
      const most = Math.min(stride, limit - rows.length);
      const found = await reader.tombstones({ table, id, before: from, limit: most });
      for (const row of found) {
        if (!view.has(row.table, row.id, row.columns)) continue;
        rows.push({ ...row, columns: view.columns(row.table, row.columns) });
        bytes += heldBytes(row.columns);
      }
      from = found.at(-1);
      if (found.length < most) break;
    }
    return { rows };
  });
}

/**
 * Brings a deleted row back as it was, as a change like any other: by the rules, and to every replica.
 *
 * @throws KoinonError `no-such-row` where nothing of the row is kept, or with what the rules refuse.
 */
export async function restore(
  store: Store,
  { table, id }: RestoreRequest,
  rules: RuleSet,
  access: Access,
): Promise<void> {
  const definition = tableOf(store.schema, table);
  await store.write(async (writer) => {
    const [found] = await writer.tombstones({ table, id, limit: 1 });
    const { view } = await access.scopes.evaluate(access.user, writer);
    if (found === undefined || !view.has(table, id, found.columns))
      throw new KoinonError('no-such-row', `Nothing is kept of a deleted ${table} ${shown(id)}.`, { table, id });
    const columns = columnsFromWire(definition, found.columns);
    const guard = new Guard(store.schema, writer, access.scopes, access.user);
    await writeChanges({ schema: store.schema, writer, rules, guard }, [{ kind: 'insert', table, id, columns }]);
  });
}
