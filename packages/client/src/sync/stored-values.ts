import type { Column, JsonValue, PulledPage, PulledRow, RowBlock, Schema, Table } from '@koinon/core';
import { noneOf, rowKey, wireGuard } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { dropMeta, meta, setMeta } from '../database/layout.ts';

/**
 * A value that the server sent and that is not of its column's type: the column is empty here. A word that is not in the list
 * of a one-of is named as well, and is kept: the list may have grown since this app was built.
 */
export interface InvalidStoredValue {
  readonly table: string;
  readonly id: string;
  readonly column: string;
}

/** As many are listed. */
const mostListed = 100;

const guards = new WeakMap<Table, readonly (readonly [string, (value: JsonValue | undefined) => boolean])[]>();

function guardsOf(table: Table) {
  const known = guards.get(table) ?? table.entries.map(([name, column]) => [name, wireGuard(column)] as const);
  guards.set(table, known);
  return known;
}

/** Rows as the schema can have them: a value that is not of its column's type is none. */
export function fitting(
  schema: Schema,
  { rows, blocks = [] }: Pick<PulledPage, 'rows' | 'blocks'>,
): {
  readonly rows: readonly PulledRow[];
  readonly blocks: readonly RowBlock[];
  readonly invalidValues: readonly InvalidStoredValue[];
} {
  const invalidValues: InvalidStoredValue[] = [];
  const fitBlocks = blocks.map((block) => fittingBlock(schema, block, invalidValues));
  let fit: PulledRow[] | undefined;
  rows.forEach((row, n) => {
    const table = Object.hasOwn(schema.tables, row.table) ? schema.tables[row.table] : undefined;
    if (table === undefined || row.kind === 'leave' || row.columns === undefined) return;
    let columns: Record<string, JsonValue> | undefined;
    for (const [name, fits] of guardsOf(table)) {
      if (!Object.hasOwn(row.columns, name)) continue;
      const value = row.columns[name];
      const column = table.columns[name] as Column;
      const isKnown = isListed(column, value);
      if (fits(value) && isKnown) continue;
      invalidValues.push({ table: row.table, id: row.id, column: name });
      if (!isKnown) continue;
      columns ??= { ...row.columns };
      columns[name] = noneOf(column);
    }
    if (columns === undefined) return;
    fit ??= [...rows];
    fit[n] = { ...row, columns };
  });
  return { rows: fit ?? rows, blocks: fitBlocks, invalidValues };
}

/** The same for a block. @param invalidValues takes what does not fit. */
function fittingBlock(schema: Schema, block: RowBlock, invalidValues: InvalidStoredValue[]): RowBlock {
  const table = Object.hasOwn(schema.tables, block.table) ? schema.tables[block.table] : undefined;
  if (table === undefined) return block;
  let fit: (readonly JsonValue[])[] | undefined;
  for (const [name, fits] of guardsOf(table)) {
    const place = block.columns.indexOf(name) + 1;
    if (place === 0) continue;
    const column = table.columns[name] as Column;
    block.rows.forEach((row, n) => {
      const value = row[place];
      const isKnown = isListed(column, value);
      if (fits(value) && isKnown) return;
      invalidValues.push({ table: block.table, id: row[0] as string, column: name });
      if (!isKnown) return;
      fit ??= [...block.rows];
      const changed = [...(fit[n] ?? row)];
      changed[place] = noneOf(column);
      fit[n] = changed;
    });
  }
  return fit === undefined ? block : { ...block, rows: fit };
}

/** Tells whether a word of a one-of is one of its list. */
function isListed({ type, oneOf }: Column, value: JsonValue | undefined): boolean {
  return type !== 'one-of' || typeof value !== 'string' || oneOf?.includes(value) === true;
}

/** Remembers what did not fit, for whoever asks; what is said anew of a row takes the place of what was said of it. */
export function noteInvalidValues(
  database: Database,
  { rows, blocks = [] }: Pick<PulledPage, 'rows' | 'blocks'>,
  found: readonly InvalidStoredValue[],
): void {
  const known = invalidValuesIn(database);
  if (known.length === 0 && found.length === 0) return;
  const said = new Set(rows.map(({ table, id }) => rowKey({ table, id })));
  for (const { table, rows } of blocks) for (const [id] of rows) said.add(rowKey({ table, id: String(id) }));
  const left = known.filter(({ table, id }) => !said.has(rowKey({ table, id })));
  const listed = [...left, ...found].slice(-mostListed);
  if (listed.length === 0) dropMeta(database, 'invalid values');
  else setMeta(database, 'invalid values', JSON.stringify(listed));
}

/** The values that did not fit, at most a hundred, the newest last. */
export function invalidValuesIn(database: Database): readonly InvalidStoredValue[] {
  return JSON.parse(meta(database, 'invalid values') ?? '[]') as readonly InvalidStoredValue[];
}
