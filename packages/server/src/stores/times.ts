import { type RowTimes, ruleOf, type Table } from '@koinon/core';

/** When a row and its columns were edited, as its stamp has it: milliseconds since 1970. */
export interface StampedTimes {
  readonly row: number;
  readonly column: (name: string) => number | undefined;
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
export function rowTimes(table: Table, sent: readonly string[], { row, column }: StampedTimes): RowTimes {
  const last = Math.max(...sent.map((name) => column(name) ?? row), sent.length === 0 ? row : 0);
  const times = Object.fromEntries(
    newestColumns(table).flatMap((name) => {
      const at = column(name) ?? row;
      return sent.includes(name) && at !== last ? [[name, new Date(at).toISOString()]] : [];
    }),
  );
  return {
    editedAt: new Date(last).toISOString(),
    ...(Object.keys(times).length > 0 ? { times } : {}),
  };
}
