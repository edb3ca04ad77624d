import { KoinonError, type RestoreRequest, type TrashRequest, type TrashResponse, tableOf } from '@koinon/core';
import { columnsFromWire, noSuchRow, refuseReadOnly } from '@koinon/core/internal';
import { pageBytes } from '../feed/page.ts';
import type { Access } from '../pull/pull.ts';
import type { RuleSet } from '../rules/rules.ts';
import { writeChanges } from '../rules/write.ts';
import { Guard } from '../scope/guard.ts';
import { heldBytes, type Store, type Tombstone, type TombstoneKey } from '../store/store.ts';

/** Deleted rows whose keys are looked at with one query, and for one request. */
const stride = 1_000;
const mostLooked = 10_000;

/** Deleted rows that are read at a time: they may be large. */
const readAtOnce = 16;

/**
 * Deleted rows, last deleted first, as long as the feed keeps them: as many as are asked for, or fewer that make a page. Where
 * most that was deleted is others', a page may have fewer, or none, and say where to go on.
 *
 * @throws KoinonError `unknown-table`.
 */
export async function trash(store: Store, request: TrashRequest, access: Access): Promise<TrashResponse> {
  const { table, id, limit = 100 } = request;
  if (table !== undefined) tableOf(store.schema, table);
  return store.read(async (reader) => {
    const { view } = await access.scopes.evaluate(access.user, reader);
    const names = table === undefined ? Object.keys(store.schema.tables) : [table];
    const isIn = (row: Tombstone) => view.has(row.table, row.id, row.columns);
    const asTrashed = (row: Tombstone) => ({ ...row, columns: view.columns(row.table, row.columns) });
    if (id !== undefined) {
      const found = await reader.tombstones(names.map((name) => ({ table: name, id })));
      return { rows: found.filter((row) => isIn(row) && isBehind(row, request.before)).map(asTrashed) };
    }
    const scope = new Map(names.map((name) => [name, view.where(name)]));
    const rows: Tombstone[] = [];
    let bytes = 0;
    let before = request.before;
    for (let looked = 0; looked < mostLooked; looked += stride) {
      const { found, last } = await reader.tombstoneKeys({ before, scope, limit: stride });
      for (let at = 0; at < found.length; at += readAtOnce) {
        const keys = found.slice(at, Math.min(at + readAtOnce, at + limit - rows.length));
        for (const row of await reader.tombstones(keys)) {
          if (!isIn(row)) continue;
          rows.push(asTrashed(row));
          bytes += heldBytes(row.columns);
        }
        if (rows.length >= limit || bytes >= pageBytes) return { rows, ...next(keys.at(-1)) };
      }
      if (last === undefined) return { rows };
      before = last;
    }
    return { rows, ...next(before) };
  });
}

/** Tells whether a place among deleted rows comes behind another. */
function isBehind(row: TombstoneKey, before: TombstoneKey | undefined): boolean {
  if (before === undefined || row.position < before.position) return true;
  if (row.position > before.position) return false;
  return row.table > before.table || (row.table === before.table && row.id > before.id);
}

const next = (key: TombstoneKey | undefined) =>
  key === undefined ? {} : { next: { position: key.position, table: key.table, id: key.id } };

/**
 * Brings a deleted row back as it was, as a change like any other: by the rules, and to every replica.
 *
 * @throws KoinonError `no-such-row` where nothing of the row is kept, `table-read-only`, or with what the rules refuse.
 */
export async function restore(
  store: Store,
  { table, id }: RestoreRequest,
  rules: RuleSet,
  access: Access,
): Promise<void> {
  const definition = tableOf(store.schema, table);
  refuseReadOnly(definition, { table, id });
  await store.write(async (writer) => {
    const found = await writer.tombstone(table, id);
    const { view } = await access.scopes.evaluate(access.user, writer);
    if (found === undefined || !view.has(table, id, found.columns))
      throw new KoinonError(
        'no-such-row',
        noSuchRow(store.schema, { table, id }, 'among the deleted rows that are kept'),
        { table, id },
      );
    const columns = columnsFromWire(definition, found.columns);
    const guard = new Guard(store.schema, writer, access.scopes, access.user);
    await writeChanges({ schema: store.schema, writer, rules, guard }, [{ kind: 'insert', table, id, columns }]);
  });
}
