import type { RowKey } from '../schema/row-key.ts';
import type { Column } from '../table/column.ts';
import type { AnyRow, Table } from '../table/table.ts';
import { inOneForm, normalize } from '../values/check.ts';
import { compareText } from '../values/compare.ts';
import { addDecimals } from '../values/decimal.ts';
import { frozenRow } from '../values/sql.ts';

/** The operation on a counter or set column: it travels as what was done, not as the outcome, and so never conflicts. */
export type Operation =
  | { readonly add: number | string }
  | { readonly include: readonly string[]; readonly exclude: readonly string[] };

/** Operations by column name. */
export type Operations = Readonly<Record<string, Operation>>;

interface ChangedRow {
  readonly table: string;
  readonly id: string;
}

/** One insert, update or delete of one row; an update carries only the columns it changes. */
export type Change =
  | (ChangedRow & { readonly kind: 'insert'; readonly columns: Readonly<Record<string, unknown>> })
  | (ChangedRow & {
      readonly kind: 'update';
      readonly columns: Readonly<Record<string, unknown>>;
      readonly operations: Operations;
    })
  | (ChangedRow & { readonly kind: 'delete' });

/** The value after an operation; a missing value counts as zero or the empty set. */
export function applyOperation(value: unknown, operation: Operation): unknown {
  if ('add' in operation) {
    const { add } = operation;
    return typeof add === 'string'
      ? addDecimals((value as string | null) ?? '0', add)
      : ((value as number | null) ?? 0) + add;
  }
  const members = new Set((value as readonly string[] | null) ?? []);
  for (const member of operation.exclude) members.delete(member);
  for (const member of operation.include) members.add(member);
  return Object.freeze([...members].sort(compareText));
}

/** Values that were given for columns, as they are kept. */
export function keptColumns(table: Table, columns: Readonly<Record<string, unknown>>): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(columns).map(([name, value]) => [name, normalize(table.columns[name] as Column, value)]),
  );
}

/** An operation that was given for a column, as it is kept. */
export function keptOperation(column: Column, operation: Operation): Operation {
  return 'add' in operation ? { add: inOneForm(column, operation.add) as number | string } : operation;
}

/** Two operations on one column as one: first `a`, then `b`. */
export function joinOperations(a: Operation | undefined, b: Operation): Operation {
  if (a === undefined) return b;
  if ('add' in b) return { add: applyOperation('add' in a ? a.add : null, b) as number | string };
  if ('add' in a) return a;
  return {
    include: [...new Set([...a.include.filter((m) => !b.exclude.includes(m)), ...b.include])],
    exclude: [...new Set([...a.exclude.filter((m) => !b.include.includes(m)), ...b.exclude])],
  };
}

/** The row after a change; null where there is none. An update of a row that is gone leaves it gone. */
export function applyChange(table: Table, row: AnyRow | null, change: Change): AnyRow | null {
  if (change.kind === 'delete') return null;
  if (change.kind === 'insert') return wholeRow(table, change.id, change.columns);
  if (row === null) return null;
  const next: Record<string, unknown> = { ...row, ...change.columns };
  for (const [name, operation] of Object.entries(change.operations)) next[name] = applyOperation(next[name], operation);
  return frozenRow(row.id, next, table.names);
}

/** A row with every column of its table, null where none was given. */
export function wholeRow(table: Table, id: string, columns: Readonly<Record<string, unknown>>): AnyRow {
  return frozenRow(id, columns, table.names);
}

/** Two consecutive changes of one row as one. */
export function joinChanges(table: Table, first: Change | undefined, second: Change): Change {
  if (first === undefined || second.kind !== 'update' || first.kind === 'delete') return second;
  const { table: tableName, id } = first;
  if (first.kind === 'insert') {
    const row = applyChange(table, wholeRow(table, id, first.columns), second) as AnyRow;
    const { id: _, ...columns } = row;
    return { kind: 'insert', table: tableName, id, columns };
  }
  const columns: Record<string, unknown> = { ...first.columns };
  const operations: Record<string, Operation> = { ...first.operations };
  for (const [name, value] of Object.entries(second.columns)) {
    columns[name] = value;
    delete operations[name];
  }
  for (const [name, operation] of Object.entries(second.operations)) {
    if (name in columns) columns[name] = applyOperation(columns[name], operation);
    else operations[name] = joinOperations(operations[name], operation);
  }
  return { kind: 'update', table: tableName, id, columns, operations };
}

/** As much of a change as says what it refers to; its values may be as JSON carries them. */
export interface Referring {
  readonly kind: Change['kind'];
  readonly columns?: Readonly<Record<string, unknown>>;
}

/** The ids a change refers to, by the table they are in: what makes one transaction depend on another. */
export function referencesOf(table: Table, change: Referring): RowKey[] {
  if (change.kind === 'delete') return [];
  return Object.entries(change.columns ?? {}).flatMap(([name, value]) => {
    const target = table.columns[name]?.target;
    return target !== undefined && typeof value === 'string' ? [{ table: target, id: value }] : [];
  });
}
