import type { Condition, WireColumns } from '@koinon/core';

/** A column, and the values of it that a row must have one of. */
interface Key {
  readonly column: string;
  readonly values: readonly unknown[];
}

/** For one table: the followers who may be concerned by a row, by the values of its columns. */
class TableIndex<Item> {
  readonly byValue = new Map<string, Map<unknown, Set<Item>>>();
  /** Concerned by any row, as far as can be told without asking. */
  readonly any = new Set<Item>();
}

/**
 * Finds those whose condition a row may fulfil, without asking each of them: the cost follows who is concerned, not who is
 * there. What it finds is still to be asked.
 */
export class ConditionIndex<Item> {
  private readonly tables = new Map<string, TableIndex<Item>>();
  private readonly keyColumns: (table: string) => readonly string[];

  /** @param keyColumns the columns of a table whose earlier values are known: only by these can anybody be found. */
  constructor(keyColumns: (table: string) => readonly string[]) {
    this.keyColumns = keyColumns;
  }

  add(table: string, condition: Condition, item: Item): void {
    const index = made(this.tables, table, () => new TableIndex<Item>());
    const keys = this.keysOf(table, condition);
    if (keys === undefined) index.any.add(item);
    for (const [column, value] of keys ?? [])
      made(
        made(index.byValue, column, () => new Map<unknown, Set<Item>>()),
        value,
        () => new Set<Item>(),
      ).add(item);
  }

  /** Takes out what {@link add} put in. Nothing is left of values that nobody waits for any more: users come and go. */
  remove(table: string, condition: Condition, item: Item): void {
    const index = this.tables.get(table);
    if (index === undefined) return;
    const keys = this.keysOf(table, condition);
    if (keys === undefined) index.any.delete(item);
    for (const [column, value] of keys ?? []) {
      const byValue = index.byValue.get(column);
      const items = byValue?.get(value);
      items?.delete(item);
      if (items?.size === 0) byValue?.delete(value);
      if (byValue?.size === 0) index.byValue.delete(column);
    }
    if (index.any.size === 0 && index.byValue.size === 0) this.tables.delete(table);
  }

  /** Those who may be concerned by a row that has, or had, these values. */
  find(table: string, id: string, states: readonly WireColumns[]): ReadonlySet<Item> {
    const index = this.tables.get(table);
    if (index === undefined) return new Set();
    const found = new Set(index.any);
    for (const [column, byValue] of index.byValue)
      for (const value of new Set(column === 'id' ? [id] : states.map((state) => state[column] ?? null)))
        for (const item of byValue.get(value) ?? []) found.add(item);
    return found;
  }

  private keysOf(table: string, condition: Condition): readonly (readonly [string, unknown])[] | undefined {
    const keys = keysOf(condition, ['id', ...this.keyColumns(table)]);
    return keys?.flatMap(({ column, values }) => values.map((value) => [column, value] as const));
  }
}

function made<K, V>(map: Map<K, V>, key: K, make: () => V): V {
  const known = map.get(key);
  if (known !== undefined) return known;
  const value = make();
  map.set(key, value);
  return value;
}

/** The keys of which a row that fulfils a condition has one; undefined where that cannot be told, none where no row does. */
function keysOf(condition: Condition, columns: readonly string[]): readonly Key[] | undefined {
  switch (condition.kind) {
    case 'compare':
      return condition.sign === '=' && columns.includes(condition.column)
        ? [{ column: condition.column, values: [condition.value] }]
        : undefined;
    case 'in':
      return columns.includes(condition.column) ? [condition] : undefined;
    case 'and': {
      const count = (keys: readonly Key[]) => keys.reduce((sum, { values }) => sum + values.length, 0);
      const known = condition.conditions.flatMap((part) => {
        const keys = keysOf(part, columns);
        return keys === undefined ? [] : [keys];
      });
      return known.sort((a, b) => count(a) - count(b))[0];
    }
    case 'or': {
      const parts = condition.conditions.map((part) => keysOf(part, columns));
      return parts.every((keys) => keys !== undefined) ? parts.flat() : undefined;
    }
    default:
      return undefined;
  }
}
