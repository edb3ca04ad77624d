import type { Column } from '@koinon/core';
import { decimalSizeOf } from '@koinon/core/internal';

// Pairs of a column of the schema and a column of the database that do not hold the same values. Others change a value that is only
// read and written back, and say nothing.

/** Digits that every decimal number keeps in a double, and in a number of four bytes (IEEE 754). */
const [doubleDigits, singleDigits] = [15, 6];

/**
 * What a column of the schema loses of the values of a column in the database, or the other way round; undefined where nothing is lost
 * without being told.
 *
 * @param declared the type in the database with its size: `numeric(10,2)`.
 */
export function lossOf(column: Column, declared: string, zone: string | undefined): string | undefined {
  const [, first, second] = /\((\d+)(?:,(-?\d+))?\)/.exec(declared) ?? [];
  const type = declared.replace(/\([^)]*\)/, '');
  switch (column.type) {
    case 'decimal':
    case 'decimal-counter':
      return decimalLoss(
        type,
        decimalSizeOf(column)?.scale ?? 0,
        first === undefined ? undefined : Number(second ?? 0),
      );
    case 'real':
      if (type === 'real') return `digits after the ${singleDigits}th`;
      if (type !== 'numeric' || (first !== undefined && Number(first) <= doubleDigits)) return undefined;
      return `digits after the ${doubleDigits}th`;
    case 'timestamp':
      if (!type.startsWith('timestamp')) return undefined;
      if (type === 'timestamp without time zone' && zone === undefined)
        return 'the time zone, which the mapping can name (zone)';
      if (first === '3') return undefined;
      return Number(first ?? 6) > 3 ? 'what is finer than a millisecond' : 'milliseconds';
    case 'local-date-time':
      if (type === 'timestamp with time zone') return 'the time zone: the times are instants';
      return type === 'timestamp without time zone' && Number(first ?? 6) < 6 ? 'microseconds' : undefined;
    case 'time':
      if (type === 'time with time zone') return 'the time zone';
      return type === 'time without time zone' && Number(first ?? 6) < 6 ? 'microseconds' : undefined;
    case 'date':
      return type.startsWith('timestamp') ? 'the time of day' : undefined;
    case 'set':
      return type.endsWith('[]') ? 'the order of an array, and members that occur twice' : undefined;
    case 'json':
      return /^(bigint|numeric)\[\]$/.test(type) ? 'digits of numbers that JavaScript rounds' : undefined;
    default:
      return undefined;
  }
}

function decimalLoss(type: string, scale: number, there: number | undefined): string | undefined {
  if (type === 'double precision') return `digits after the ${doubleDigits}th`;
  if (type === 'real') return `digits after the ${singleDigits}th`;
  const digits = /^(small|big)?int(eger)?$/.test(type) ? 0 : type === 'money' ? 2 : there;
  return digits !== undefined && digits < scale ? `digits after the point, of which it has ${digits}` : undefined;
}
