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
    let index = this.tables.get(table);
    if (index === undefined) {
      index = new TableIndex();
      this.tables.set(table, index);
    }
    for (const set of this.setsOf(index, table, condition, true)) set.add(item);
  }

  remove(table: string, condition: Condition, item: Item): void {
    const index = this.tables.get(table);
    if (index) for (const set of this.setsOf(index, table, condition, false)) set.delete(item);
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

  private *setsOf(index: TableIndex<Item>, table: string, condition: Condition, makes: boolean): Generator<Set<Item>> {
    const keys = keysOf(condition, ['id', ...this.keyColumns(table)]);
    if (keys === undefined) yield index.any;
    for (const { column, values } of keys ?? []) {
      const byValue = index.byValue.get(column) ?? new Map<unknown, Set<Item>>();
      if (makes) index.byValue.set(column, byValue);
      for (const value of values) {
        const set = byValue.get(value) ?? new Set<Item>();
        if (makes) byValue.set(value, set);
        yield set;
      }
    }
  }
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
