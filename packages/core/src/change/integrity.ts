import type { Problem } from '../errors/errors.ts';
import { shown } from '../errors/errors.ts';
import { problemOf, rowParameters } from '../schema/message.ts';
import { isUuid, type Labels } from '../schema/naming.ts';
import type { RowKey } from '../schema/row-key.ts';
import type { Schema } from '../schema/schema.ts';
import type { AnyRow } from '../table/table.ts';

// Problems of uniqueness and references: a device and a server find such a problem each in its own way, and say the same.

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
  const column = group.find((name) => changed.includes(name)) ?? (group[0] as string);
  const parameters = { columns: group, values: group.map((name) => shown(row[name])) };
  const rule = `unique (${group.join(', ')})`;
  return problemOf(schema, 'duplicate-value', { table, id: row.id, column }, 'duplicate-value', parameters, rule);
}

/** The side on which a row is looked for. */
export type Side = 'on-this-device' | 'on-the-server';

/** A reference points at a row that is not there. */
export function noSuchReference(
  schema: Schema,
  { table, id }: RowKey,
  column: string,
  to: RowKey,
  place: Side,
): Problem {
  const parameters = {
    missing: isUuid(to.id) ? 'no-such-row-unnamed' : 'no-such-row',
    other: to.table,
    value: shown(to.id),
    place,
  };
  const rule = `references ${to.table}`;
  return problemOf(schema, 'no-such-reference', { table, id, column }, 'no-such-reference', parameters, rule);
}

/** The row that is to be changed is not on the server. */
export function noSuchRowThere(schema: Labels, { table, id }: RowKey): Problem {
  const parameters = { other: table, value: shown(id), place: 'on-the-server' };
  const sentence = isUuid(id) ? 'no-such-row-unnamed' : 'no-such-row';
  return problemOf(schema, 'no-such-row', { table, id }, sentence, parameters);
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
  const name = rowParameters(schema, table, row);
  return by === undefined
    ? problemOf(schema, 'row-referenced', { table, id }, 'row-referenced-somewhere', name)
    : problemOf(
        schema,
        'row-referenced',
        { table, id },
        'row-referenced',
        { ...name, other: by.table },
        `referenced by ${by.table}.${by.column}`,
      );
}
