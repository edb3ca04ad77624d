import { type AnyRow, type FileAsked, type FileValue, type Schema, sameValue } from '@koinon/core';
import type { User } from '../auth/authenticate.ts';
import type { RuleSet } from '../rules/rules.ts';
import { mayWrite } from '../rules/write.ts';
import type { ScopeSet } from '../scope/evaluate.ts';
import { Guard } from '../scope/guard.ts';
import type { Store, StoreReader } from '../store/store.ts';

// The right to a content follows from a row: who may read a column of a row that holds the file may read the content, and who may write that
// row may send it. Knowing an id or a digest gives nobody a right. A file that a user may not know of is answered like one that never was.

/** The parts by which rights are told. */
export interface Rights {
  readonly store: Store;
  readonly scopes: ScopeSet;
  readonly rules: RuleSet;
}

/** The description of a file that a column of a row holds, where the user may read that; undefined for everything else. */
export async function readableFile(
  { store, scopes }: Rights,
  user: User | undefined,
  asked: FileAsked,
): Promise<FileValue | undefined> {
  return store.read(async (reader) => {
    const { view } = await scopes.evaluate(user, reader);
    const row = await rowOf(store.schema, reader, asked);
    if (row === undefined || !view.has(asked.table, asked.row, row)) return undefined;
    return view.without(asked.table)?.has(asked.column) ? undefined : fileIn(row, asked);
  });
}

/** The same where the user may write the row as well. */
export async function writableFile(
  { store, scopes, rules }: Rights,
  user: User | undefined,
  asked: FileAsked,
): Promise<FileValue | undefined> {
  const readable = await readableFile({ store, scopes, rules }, user, asked);
  const table = store.schema.tables[asked.table];
  if (readable === undefined || table?.readOnly !== false) return undefined;
  const isAllowed = await store.write(async (writer) => {
    const key = { table: asked.table, id: asked.row };
    const row = (await writer.rows(asked.table, [asked.row])).get(asked.row);
    if (row === undefined || !sameValue(fileIn(row, asked), readable)) return false;
    const guard = new Guard(store.schema, writer, scopes, user);
    return mayWrite({ schema: store.schema, writer, rules: { ...rules, user }, guard }, key, row, asked.column);
  });
  return isAllowed ? readable : undefined;
}

async function rowOf({ tables }: Schema, reader: StoreReader, { table, row, column }: FileAsked) {
  const definition = Object.hasOwn(tables, table) ? tables[table] : undefined;
  if (definition === undefined || !Object.hasOwn(definition.columns, column)) return undefined;
  if (definition.columns[column]?.type !== 'file') return undefined;
  const [found] = await reader.rowsWhere(table, { kind: 'compare', column: 'id', sign: '=', value: row });
  return found;
}

function fileIn(row: AnyRow, { id, column }: FileAsked): FileValue | undefined {
  const value = row[column] as FileValue | null | undefined;
  return value?.id === id ? value : undefined;
}
