import type { RowTimes, Table } from '@koinon/core';
import { ruleOf } from '@koinon/core/internal';

/** When a row and its columns were edited, as its stamp has it: milliseconds since 1970; and by whom. */
export interface StampedTimes {
  readonly row: number;
  /** The time of a column; undefined where it was not edited since the row was. */
  readonly column: (name: string) => number | undefined;
  /** The user who did that to a column, or to the row as a whole where it has no name. */
  readonly by: (name: string | null) => string | null;
}

const made = new WeakMap<Table, readonly string[]>();

/** The columns of a table that are merged by `newest`: a device has to know when they were edited. */
export function newestColumns(table: Table): readonly string[] {
  const known = made.get(table);
  if (known) return known;
  const names = table.entries.flatMap(([name, column]) => (ruleOf(table, column) === 'newest' ? [name] : []));
  made.set(table, names);
  return names;
}

/** The edit times that go with these columns of a row: the last of all, and those of `newest` columns that differ. */
export function rowTimes(table: Table, sent: readonly string[], { row, column, by }: StampedTimes): RowTimes {
  const last = Math.max(...sent.map((name) => column(name) ?? row), sent.length === 0 ? row : 0);
  const times = Object.fromEntries(
    newestColumns(table).flatMap((name) => {
      const at = column(name) ?? row;
      return sent.includes(name) && at !== last ? [[name, new Date(at).toISOString()]] : [];
    }),
  );
  // Nobody is named for what somebody else has done.
  const written = new Set(sent.map((name) => (column(name) === undefined ? null : name)));
  const editors = new Set([...written].map(by));
  const [editor = null] = editors.size === 1 ? editors : [];
  return {
    editedAt: new Date(last).toISOString(),
    ...(editor !== null && { editedBy: editor }),
    ...(Object.keys(times).length > 0 ? { times } : {}),
  };
}
