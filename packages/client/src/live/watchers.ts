import { type Condition, sameValue } from '@koinon/core';
import type { Origin, RowChange } from './commit.ts';

/** Something that is told of the changes of some tables: a live query, or a listener. */
export interface Watcher {
  readonly tables: readonly string[];
  /** The condition that a row must fulfil to matter, where that is known: lets a change pass by watchers of other rows unseen. */
  readonly condition?: Condition | undefined;
  /** Takes one change of a commit. */
  offer(change: RowChange): void;
  /** The commit is over: subscribers may be told. */
  flush(origin: Origin): void;
  /** Anything may have changed, by another process say: start over. */
  refresh(): void;
}

/** Watchers of one table, found by the value of a column where their condition asks for one. */
interface TableWatchers {
  readonly all: Set<Watcher>;
  readonly any: Set<Watcher>;
  readonly byValue: Map<string, Map<unknown, Set<Watcher>>>;
}

/**
 * The watchers. A commit is offered only to watchers of its tables, and of those with `column = value` in their
 * condition only to those whose value the row has or had: the cost of a write follows the watchers it concerns.
 */
export class Watchers {
  private readonly tables = new Map<string, TableWatchers>();

  watches = (table: string): boolean => (this.tables.get(table)?.all.size ?? 0) > 0;

  get isEmpty(): boolean {
    return [...this.tables.values()].every(({ all }) => all.size === 0);
  }

  add(watcher: Watcher): void {
    for (const name of watcher.tables) {
      const table = entry(
        this.tables,
        name,
        (): TableWatchers => ({ all: new Set(), any: new Set(), byValue: new Map() }),
      );
      table.all.add(watcher);
      this.placeOf(table, watcher).add(watcher);
    }
  }

  remove(watcher: Watcher): void {
    for (const name of watcher.tables) {
      const table = this.tables.get(name);
      if (!table) continue;
      table.all.delete(watcher);
      const place = this.placeOf(table, watcher);
      place.delete(watcher);
      const key = keyOf(watcher);
      if (place.size === 0 && key) table.byValue.get(key.column)?.delete(key.value);
    }
  }

  /** Offers the changes of a commit to those they concern, then lets each of them tell its subscribers once. */
  publish(changes: readonly RowChange[], origin: Origin): void {
    const concerned = new Set<Watcher>();
    for (const change of changes) {
      const table = this.tables.get(change.table);
      if (!table) continue;
      for (const watcher of candidates(table, change)) {
        watcher.offer(change);
        concerned.add(watcher);
      }
    }
    for (const watcher of concerned) watcher.flush(origin);
  }

  /** Lets every watcher start over. */
  refresh(): void {
    for (const watcher of new Set([...this.tables.values()].flatMap(({ all }) => [...all]))) watcher.refresh();
  }

  private placeOf(table: TableWatchers, watcher: Watcher): Set<Watcher> {
    const key = keyOf(watcher);
    if (key === undefined) return table.any;
    const values = entry(table.byValue, key.column, () => new Map<unknown, Set<Watcher>>());
    return entry(values, key.value, () => new Set<Watcher>());
  }
}

function entry<K, V>(map: Map<K, V>, key: K, make: () => V): V {
  const known = map.get(key);
  if (known !== undefined) return known;
  const made = make();
  map.set(key, made);
  return made;
}

function* candidates({ any, byValue }: TableWatchers, { before, after }: RowChange): Generator<Watcher> {
  yield* any;
  for (const [column, values] of byValue) {
    const was = before?.[column];
    const is = after?.[column];
    if (was !== undefined) yield* values.get(was) ?? [];
    if (is !== undefined && !sameValue(was, is)) yield* values.get(is) ?? [];
  }
}

/** The `column = value` a watcher's condition demands, if it demands one that a map can find. */
function keyOf({ tables, condition }: Watcher): { readonly column: string; readonly value: unknown } | undefined {
  if (condition === undefined || tables.length !== 1) return undefined;
  const parts = condition.kind === 'and' ? condition.conditions : [condition];
  for (const part of parts)
    if (part.kind === 'compare' && part.sign === '=' && ['string', 'number', 'boolean'].includes(typeof part.value))
      return { column: part.column, value: part.value };
  return undefined;
}
