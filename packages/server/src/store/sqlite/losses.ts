import type { Column } from '@koinon/core';
import { decimalSizeOf, quoteName } from '@koinon/core/internal';
import type { MappedTable } from '../mapping.ts';
import type { Prepared } from './driver.ts';

// SQLite holds columns to nothing: how a column is written is seen by its values.

/** Rows that are looked at. */
const mostRows = 1_000;

/** Digits that every decimal number keeps in a double (IEEE 754), which is what SQLite makes of one. */
const doubleDigits = 15;

/** Tells whether a text has no zone, by which it would be read as UTC. */
const zoneless = (value: string) =>
  `typeof(${value}) = 'text' AND ${value} GLOB '????-??-??T*' AND ${value} NOT GLOB '*[Zz]' AND ${value} NOT GLOB '*[-+]??:??' AND ${value} NOT GLOB '*[-+]????'`;

/** A form in which others write times, as a condition over a value, and what a mapping says of it. */
const otherForms = [
  {
    is: (value: string) => `typeof(${value}) = 'text' AND ${value} GLOB '????-??-?? *'`,
    mapping: "format: 'space-separated'",
  },
  {
    is: (value: string) => `typeof(${value}) IN ('integer', 'real') AND abs(${value}) > 1e11`,
    mapping: "format: 'milliseconds'",
  },
  {
    is: (value: string) => `typeof(${value}) IN ('integer', 'real') AND ${value} BETWEEN 2e6 AND 3e6`,
    mapping: "format: 'julian day'",
  },
  { is: (value: string) => `typeof(${value}) IN ('integer', 'real')`, mapping: "format: 'seconds'" },
  { is: zoneless, mapping: "zone: 'UTC', or the zone that is meant" },
] as const;

/** The columns of a table of others whose values a device would change the form of, each with the reason; none where all is well. */
export function lossesOf(database: Prepared, mapped: MappedTable): string[] {
  const { table, columnNames, columnForms, view, relation } = mapped;
  if (table.readOnly) return [];
  return table.entries.flatMap(([name, column]) => {
    const { lossy, format, zone } = columnForms[name] ?? {};
    if (lossy || column.assigned || format !== undefined || zone !== undefined) return [];
    const loss = lossOf(database, view ?? relation, columnNames[name] as string, column);
    return loss === undefined ? [] : [`${name} (${column.type}) ${loss}`];
  });
}

function lossOf(database: Prepared, relation: string, there: string, column: Column): string | undefined {
  const size = column.type === 'big-integer' ? undefined : decimalSizeOf(column);
  if (size !== undefined && size.precision > doubleDigits) {
    const declared = database.get<{ type: string }>(
      'SELECT type FROM pragma_table_xinfo(?) WHERE name = ?',
      relation,
      there,
    );
    return /char|clob|text/i.test(declared?.type ?? '') ? undefined : `loses digits after the ${doubleDigits}th`;
  }
  if (column.type !== 'timestamp' && column.type !== 'local-date-time') return undefined;
  const value = quoteName(there);
  const found = (condition: string) =>
    database.get(
      `SELECT 1 FROM (SELECT ${value} FROM ${quoteName(relation)} WHERE ${value} IS NOT NULL LIMIT ${mostRows}) WHERE ${condition} LIMIT 1`,
    ) !== undefined;
  // A time of a clock is a text in any case, and has no zone.
  const forms = column.type === 'timestamp' ? otherForms : otherForms.slice(0, 1);
  const form = forms.find(({ is }) => found(is(value)));
  return form && `has times in another form, which a device would not write (${form.mapping})`;
}
