import type { ColumnType, Schema } from '@koinon/core';
import { type Mapping, mappedTables } from '../store/mapping.ts';
import type { PlannedTable } from './plan.ts';

/** A place where a schema and a database do not agree. */
export interface Difference {
  readonly table: string;
  /** The column, by its name in the schema; null where the table as a whole is meant. */
  readonly column: string | null;
  readonly message: string;
}

/** Types of a schema that a column may have besides the one that is chosen for it. */
const alsoFits: Readonly<Partial<Record<ColumnType, readonly ColumnType[]>>> = {
  text: ['one-of', 'reference', 'json', 'set', 'timestamp', 'date', 'time', 'local-date-time', 'decimal'],
  'one-of': ['text', 'reference'],
  integer: ['counter', 'reference', 'real', 'boolean', 'big-integer', 'decimal', 'decimal-counter', 'timestamp'],
  'big-integer': ['integer', 'counter', 'reference'],
  decimal: ['real', 'integer', 'decimal-counter'],
  'local-date-time': ['timestamp'],
  json: ['set'],
  real: ['integer', 'decimal', 'decimal-counter'],
};

/** Compares a schema with the tables of a database. */
export function differences(planned: readonly PlannedTable[], schema: Schema, mapping: Mapping): Difference[] {
  return mappedTables(schema, mapping).flatMap(
    ({ name, table, namespace, relation, keyNames, columnNames, softDelete }) => {
      const there = namespace === 'public' ? relation : `${namespace}.${relation}`;
      const found = planned.find((each) => each.table.relation === there);
      const of = (column: string | null, message: string): Difference => ({ table: name, column, message });
      if (found === undefined) return [of(null, `The database has no table ${there}.`)];
      if (found.taken === undefined) return [of(null, `The table ${there} cannot be taken: ${found.why}.`)];
      const known = new Map(found.table.columns.map((column) => [column.name, column]));
      const list: Difference[] = [];
      const isKey = (group: readonly string[]) =>
        group.length === keyNames.length && keyNames.every((column) => group.includes(column));
      if (found.table.kind === 'table' && !found.table.unique.some(isKey))
        list.push(of('id', `The table ${there} has no key or unique index on ${keyNames.join(', ')} alone.`));
      if (softDelete !== undefined && !known.has(softDelete))
        list.push(of(null, `The table ${there} has no column ${softDelete}, which marks deleted rows.`));
      for (const [column, { type, optional, assigned }] of table.entries) {
        const other = columnNames[column] as string;
        const standing = known.get(other);
        const plan = found.columns.find((each) => each.column.name === other);
        if (standing === undefined) list.push(of(column, `The table ${there} has no column ${other}.`));
        else if (plan !== undefined && plan.taken === undefined && plan.verdict === 'not taken')
          list.push(of(column, `The column ${other} (${standing.type}) cannot be taken: ${plan.why}.`));
        else if (plan?.taken !== undefined) {
          const { chosen, isAssigned } = plan.taken;
          if (type !== chosen.type && !alsoFits[chosen.type]?.includes(type))
            list.push(
              of(column, `The column ${other} is ${standing.type}, which goes with ${chosen.type}, not ${type}.`),
            );
          if (isAssigned && !assigned)
            list.push(
              of(column, `The column ${other} (${standing.type}) is read only: ${plan.why}. Make it assigned.`),
            );
          if (!optional && !standing.isRequired && !isAssigned)
            list.push(of(column, `The column ${other} may be empty in the database; make it optional.`));
        }
      }
      const named = new Set([...keyNames, softDelete, ...Object.values(columnNames)]);
      for (const { name: column, isRequired, given } of found.table.columns)
        if (isRequired && given === undefined && !named.has(column))
          list.push(
            of(
              null,
              `The column ${column} must have a value, and the schema does not have it: rows that devices add are refused.`,
            ),
          );
      return list;
    },
  );
}
