import { type AnyRow, type FileAsked, type FileValue, type Schema, sameValue } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
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

/** The descriptions of files that columns of rows hold, where the user may read that; undefined for everything else. All of one moment. */
export async function readableFiles(
  { store, scopes }: Rights,
  user: User | undefined,
  asked: readonly FileAsked[],
): Promise<readonly (FileValue | undefined)[]> {
  return store.read(async (reader) => {
    const { view } = await scopes.evaluate(user, reader);
    const rows = await rowsOf(store.schema, reader, asked);
    return asked.map((place) => {
      const row = rows.get(rowKey({ table: place.table, id: place.row }));
      if (row === undefined || !isFileColumn(store.schema, place) || !view.has(place.table, place.row, row))
        return undefined;
      return view.without(place.table)?.has(place.column) ? undefined : fileIn(row, place);
    });
  });
}

/** The same of one. */
export async function readableFile(
  rights: Rights,
  user: User | undefined,
  asked: FileAsked,
): Promise<FileValue | undefined> {
  return (await readableFiles(rights, user, [asked]))[0];
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

function isFileColumn({ tables }: Schema, { table, column }: FileAsked): boolean {
  const definition = Object.hasOwn(tables, table) ? tables[table] : undefined;
  return (
    definition !== undefined && Object.hasOwn(definition.columns, column) && definition.columns[column]?.type === 'file'
  );
}

async function rowsOf(schema: Schema, reader: StoreReader, asked: readonly FileAsked[]): Promise<Map<string, AnyRow>> {
  const wanted = new Map<string, Set<string>>();
  for (const place of asked)
    if (isFileColumn(schema, place))
      wanted.set(place.table, (wanted.get(place.table) ?? new Set<string>()).add(place.row));
  const found = new Map<string, AnyRow>();
  for (const [table, ids] of wanted)
    for (const row of await reader.rowsWhere(table, { kind: 'in', column: 'id', values: [...ids] }))
      found.set(rowKey({ table, id: row.id }), row);
  return found;
}

function fileIn(row: AnyRow, { id, column }: FileAsked): FileValue | undefined {
  const value = row[column] as FileValue | null | undefined;
  return value?.id === id ? value : undefined;
}
