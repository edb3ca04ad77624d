import type { Problem } from '../errors/errors.ts';
import { shown } from '../errors/errors.ts';
import { columnLabel, labelOf, noSuchRow, rowLabel, sentence, tableLabel } from '../schema/naming.ts';
import type { RowKey } from '../schema/row-key.ts';
import { type Schema, tableOf } from '../schema/schema.ts';
import type { AnyRow } from '../table/table.ts';

// The sentences about uniqueness and references: a device and a server find such a problem each in its own way, and say the same.

/**
 * Another row has these values already.
 *
 * @param changed the columns that were changed: the one among them is what a person has to change again.
 */
export function duplicateValue(
  schema: Schema,
  table: string,
  row: AnyRow,
  group: readonly string[],
  changed: readonly string[],
): Problem {
  const values = group.map((name) => `${labelOf(tableOf(schema, table), table, name)} ${shown(row[name])}`);
  return {
    code: 'duplicate-value',
    table,
    id: row.id,
    column: group.find((name) => changed.includes(name)) ?? (group[0] as string),
    rule: `unique (${group.join(', ')})`,
    message: `${values.join(', ')} is taken by another ${tableLabel(schema, table)}.`,
  };
}

/** A reference points at a row that is not there. */
export function noSuchReference(
  schema: Schema,
  { table, id }: RowKey,
  column: string,
  to: RowKey,
  where: 'on this device' | 'on the server',
): Problem {
  const message = `${columnLabel(schema, table, column)}: ${noSuchRow(schema, to, where)}`;
  return { code: 'no-such-reference', table, id, column, rule: `references ${to.table}`, message };
}

/**
 * A row cannot be deleted, since others refer to it.
 *
 * @param by the table and column that refer to it; undefined where the person may not know of them.
 */
export function rowReferenced(
  schema: Schema,
  { table, id }: RowKey,
  row: AnyRow | null | undefined,
  by: { readonly table: string; readonly column: string } | undefined,
): Problem {
  const who = by === undefined ? 'something else' : `at least one ${tableLabel(schema, by.table)}`;
  return {
    code: 'row-referenced',
    table,
    id,
    ...(by && { rule: `referenced by ${by.table}.${by.column}` }),
    message: `${sentence(rowLabel(schema, { table, id }, row))} cannot be deleted: ${who} refers to it.`,
  };
}
