import {
  columnsFromWire,
  KoinonError,
  type RestoreRequest,
  shown,
  type TrashRequest,
  type TrashResponse,
  tableOf,
} from '@koinon/core';
import type { RuleSet } from '../rules/rules.ts';
import { writeChanges } from '../rules/write.ts';
import type { Store } from '../stores/store.ts';

/** Deleted rows, last deleted first, as long as the feed keeps them. @throws KoinonError `unknown-table`. */
export async function trash(store: Store, { table, id, before, limit = 100 }: TrashRequest): Promise<TrashResponse> {
  if (table !== undefined) tableOf(store.schema, table);
  return { rows: await store.read((reader) => reader.tombstones({ table, id, before, limit })) };
}

/**
 * Brings a deleted row back as it was, as a change like any other: by the rules, and to every replica.
 *
 * @throws KoinonError `no-such-row` where nothing of the row is kept, or with what the rules refuse.
 */
export async function restore(store: Store, { table, id }: RestoreRequest, rules: RuleSet): Promise<void> {
  const definition = tableOf(store.schema, table);
  await store.write(async (writer) => {
    const [found] = await store.read((reader) => reader.tombstones({ table, id, limit: 1 }));
    if (found === undefined)
      throw new KoinonError('no-such-row', `Nothing is kept of a deleted ${table} ${shown(id)}.`, { table, id });
    const columns = columnsFromWire(definition, found.columns);
    await writeChanges({ schema: store.schema, writer, rules }, [{ kind: 'insert', table, id, columns }]);
  });
}
