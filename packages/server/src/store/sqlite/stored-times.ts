import { tzOffset } from '@date-fns/tz/tzOffset';
import type { Schema, SqlValue } from '@koinon/core';
import { type Mapping, mappedTables, type TimeFormat } from '../mapping.ts';

/** How a column that others made holds its times. A value that it cannot read is left as it is, to be told from the others. */
export interface StoredTime {
  /** A time of the schema's form. @param stored as the driver gives it. */
  read(stored: unknown): unknown;
  /** The same time in the column's own form. */
  write(time: string): SqlValue;
}

/** Columns whose times have a form of their own, by table and column. */
export type StoredTimes = ReadonlyMap<string, ReadonlyMap<string, StoredTime>>;

/** The forms of times that a mapping names. */
export function storedTimes(schema: Schema, mapping: Mapping): StoredTimes {
  const tables = mappedTables(schema, mapping).map(({ name, table, columnForms }) => {
    const forms = Object.entries(columnForms).flatMap(([column, { format, zone }]): [string, StoredTime][] => {
      if (format === undefined && zone === undefined) return [];
      return [[column, table.columns[column]?.type === 'local-date-time' ? localText : instants(format, zone)]];
    });
    return [name, new Map(forms)] as const;
  });
  return new Map(tables);
}

/** A day and a time with a space between them. */
const localText: StoredTime = {
  read: (stored) => (typeof stored === 'string' ? stored.replace(' ', 'T') : stored),
  write: (time) => time.replace('T', ' '),
};

/** The Julian day of 1970-01-01T00:00Z, and the milliseconds of a day. */
const [epochDay, dayLength] = [2440587.5, 86_400_000];

/** Numbers of these, in milliseconds since 1970. */
const numbers: Readonly<
  Record<Exclude<TimeFormat, 'space-separated'>, [(n: number) => number, (ms: number) => number]>
> = {
  seconds: [(n) => n * 1000, (ms) => Math.floor(ms / 1000)],
  milliseconds: [(n) => n, (ms) => ms],
  'julian day': [(n) => (n - epochDay) * dayLength, (ms) => ms / dayLength + epochDay],
};

function instants(format: TimeFormat | undefined, zone = 'UTC'): StoredTime {
  if (format !== undefined && format !== 'space-separated') {
    const [from, to] = numbers[format];
    return {
      read: (stored) => {
        const number = typeof stored === 'string' && stored.trim() !== '' ? Number(stored) : stored;
        return typeof number === 'number' ? (isoOf(Math.round(from(number))) ?? stored) : stored;
      },
      write: (time) => to(Date.parse(time)),
    };
  }
  const between = format === undefined ? 'T' : ' ';
  return {
    read: (stored) => (typeof stored === 'string' ? (instantOf(stored, zone) ?? stored) : stored),
    write: (time) => {
      const at = Date.parse(time);
      const shown = new Date(at + tzOffset(zone, new Date(at)) * 60_000).toISOString();
      return shown.replace('T', between).replace(/(\.000)?Z$/, '');
    },
  };
}

const plainForm = /^\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?)?$/;

/** The instant at which clocks of a zone show a time. */
function instantOf(text: string, zone: string): string | undefined {
  if (!plainForm.test(text)) return isoOf(Date.parse(text));
  const shown = Date.parse(`${text.length === 10 ? `${text}T00:00` : text.replace(' ', 'T')}Z`);
  if (Number.isNaN(shown)) return undefined;
  // The offset is that of the instant which is looked for: the second guess is right but for the hour that clocks leave out.
  const guess = shown - tzOffset(zone, new Date(shown)) * 60_000;
  return isoOf(shown - tzOffset(zone, new Date(guess)) * 60_000);
}

function isoOf(time: number): string | undefined {
  const at = new Date(time);
  return Number.isNaN(at.getTime()) ? undefined : at.toISOString();
}
