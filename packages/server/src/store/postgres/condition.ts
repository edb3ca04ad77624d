import { type Column, type Condition, KoinonError } from '@koinon/core';
import { asInstants, type ExistingColumn } from './columns.ts';

/** How the columns of a row are read, `id` among them. */
export interface ConditionTable {
  readonly id: ExistingColumn;
  readonly columns: ReadonlyMap<string, ExistingColumn>;
  readonly table: { readonly columns: Readonly<Record<string, Column>> };
}

/**
 * A condition as an SQL expression; its values are added to `values` in the order of their numbers. It
 * answers as the same condition does on a device: a comparison with null is false, and `not` turns exactly that around.
 */
export function conditionSql(table: ConditionTable, condition: Condition, values: unknown[]): string {
  switch (condition.kind) {
    case 'and':
    case 'or': {
      const parts = condition.conditions.map((part) => conditionSql(table, part, values));
      if (parts.length === 0) return condition.kind === 'and' ? 'true' : 'false';
      return `(${parts.join(condition.kind === 'and' ? ' AND ' : ' OR ')})`;
    }
    case 'not':
      return `((${conditionSql(table, condition.condition, values)}) IS NOT TRUE)`;
    case 'compare': {
      const { sql, type } = standing(table, condition.column);
      if (condition.value === null) return `(${sql} IS ${condition.sign === '!=' ? 'NOT ' : ''}NULL)`;
      const { column, sign } = condition;
      if (sign !== '=' && sign !== '!=' && isText(table, column)) {
        values.push(condition.value);
        // In the order of its own locale or type, the database would mean other rows than everybody else does.
        return `(${sql}::text COLLATE "C" ${sign} $${values.length}::text COLLATE "C")`;
      }
      const value = bound(table, column, type, condition.value);
      // A value that the database's own type cannot have is none of any row.
      if (value === undefined) return sign === '!=' ? 'true' : 'false';
      values.push(value);
      const parameter = `$${values.length}::${type}`;
      return sign === '!=' ? `(${sql} IS DISTINCT FROM ${parameter})` : `(${sql} ${sign} ${parameter})`;
    }
    case 'in': {
      const { sql, type } = standing(table, condition.column);
      const some = condition.values.filter((value) => value !== null);
      values.push(
        some.flatMap((given) => {
          const value = bound(table, condition.column, type, given);
          return value === undefined ? [] : [value];
        }),
      );
      const listed = `${sql} = ANY($${values.length}::${type}[])`;
      return some.length === condition.values.length ? `(${listed})` : `(${listed} OR ${sql} IS NULL)`;
    }
    case 'prefix':
    case 'contains': {
      const { sql } = standing(table, condition.column);
      values.push(condition.text);
      const parameter = `$${values.length}::text`;
      return condition.kind === 'prefix'
        ? `(starts_with(${sql}::text, ${parameter}))`
        : `(strpos(${sql}::text, ${parameter}) > 0)`;
    }
    case 'member':
      throw new KoinonError('query-invalid', `${condition.column} is a set: rows are not told apart by it here.`);
  }
}

/** Tells whether a column holds texts to everybody but perhaps the database. */
function isText({ table }: ConditionTable, name: string): boolean {
  return name === 'id' || ['text', 'reference', 'one-of'].includes(table.columns[name]?.type ?? '');
}

function standing({ id, columns }: ConditionTable, name: string): ExistingColumn {
  return name === 'id' ? id : asInstants(columns.get(name) as ExistingColumn);
}

/** The greatest numbers of PostgreSQL's types; of the longest one as far as 18 digits go. */
const mostOf: Readonly<Record<string, number>> = { smallint: 2 ** 15 - 1, integer: 2 ** 31 - 1, bigint: 10 ** 18 };

const uuidForm = /^[0-9a-f]{8}(-?[0-9a-f]{4}){3}-?[0-9a-f]{12}$/i;

/** A value as the column's type in the database takes it; undefined where it cannot. */
function bound({ table }: ConditionTable, name: string, type: string, value: unknown): unknown {
  if (typeof value === 'boolean') return type === 'boolean' ? value : Number(value);
  if (typeof value === 'bigint') return String(value);
  if (typeof value !== 'string' || table.columns[name]?.type === 'date') return value;
  if (type === 'uuid') return uuidForm.test(value) ? value : undefined;
  const most = mostOf[type];
  if (most !== undefined) return /^-?\d{1,18}$/.test(value) && Math.abs(Number(value)) <= most ? value : undefined;
  return value;
}
