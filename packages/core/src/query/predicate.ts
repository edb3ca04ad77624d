import type { AnyRow } from '../table/table.ts';
import { compareValues, sameValue } from '../values/compare.ts';
import { compareDecimals } from '../values/decimal.ts';
import type { Condition, Sign } from './condition.ts';
import type { Order } from './query.ts';

/** Tells whether a row is meant. */
export type Predicate = (row: AnyRow) => boolean;

/** The condition as a function of a row; it answers exactly as its SQL does. */
export function predicateOf(condition: Condition): Predicate {
  switch (condition.kind) {
    case 'and': {
      const parts = condition.conditions.map(predicateOf);
      return (row) => parts.every((part) => part(row));
    }
    case 'or': {
      const parts = condition.conditions.map(predicateOf);
      return (row) => parts.some((part) => part(row));
    }
    case 'not': {
      const part = predicateOf(condition.condition);
      return (row) => !part(row);
    }
    case 'compare': {
      const { column, sign, value, isDecimal } = condition;
      const compared = comparison(isDecimal);
      if (value === null) return sign === '=' ? (row) => row[column] === null : (row) => row[column] !== null;
      if (sign === '!=') return (row) => row[column] === null || compared(row[column], value) !== 0;
      const holds = signTests[sign];
      return (row) => row[column] !== null && holds(compared(row[column], value));
    }
    case 'in': {
      const { column, values } = condition;
      // Lists may have thousands of values; all but bytes are found at once.
      const listed = new Set(values);
      return (row) =>
        listed.has(row[column]) ||
        (row[column] instanceof Uint8Array && values.some((value) => sameValue(row[column], value)));
    }
    case 'prefix': {
      const { column, text } = condition;
      return (row) => row[column] !== null && (row[column] as string).startsWith(text);
    }
    case 'contains': {
      const { column, text } = condition;
      return (row) => row[column] !== null && (row[column] as string).includes(text);
    }
    case 'member': {
      const { column, text } = condition;
      return (row) => ((row[column] as readonly string[] | null) ?? []).includes(text);
    }
  }
}

const signTests: Record<Exclude<Sign, '!='>, (difference: number) => boolean> = {
  '=': (d) => d === 0,
  '<': (d) => d < 0,
  '<=': (d) => d <= 0,
  '>': (d) => d > 0,
  '>=': (d) => d >= 0,
};

/** The order as a comparison of rows; it sorts exactly as its SQL does. */
export function comparatorOf(order: readonly Order[]): (a: AnyRow, b: AnyRow) => number {
  return (a, b) => {
    for (const { column, descending, isDecimal } of order) {
      const difference = compareNullable(a[column], b[column], comparison(isDecimal));
      if (difference !== 0) return descending ? -difference : difference;
    }
    return 0;
  };
}

function compareNullable(a: unknown, b: unknown, compare: Compare): number {
  if (a === null || b === null) return a === b ? 0 : a === null ? -1 : 1;
  return compare(a, b);
}

type Compare = (a: unknown, b: unknown) => number;

const comparison = (isDecimal: true | undefined): Compare =>
  isDecimal ? (a, b) => compareDecimals(a as string, b as string) : compareValues;
