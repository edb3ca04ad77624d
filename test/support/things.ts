import {
  bigInteger,
  boolean,
  date,
  decimal,
  decimalCounter,
  integer,
  localDateTime,
  oneOf,
  real,
  schema,
  setOfText,
  table,
  text,
  time,
  timestamp,
} from '@koinon/core';
import fc from 'fast-check';

/** A table with a column of every comparable type, and arbitrary rows and queries of it: nulls, unicode, case, extremes. */
export const things = table({
  name: text({ optional: true }),
  count: integer({ optional: true }),
  weight: real({ optional: true }),
  good: boolean({ optional: true }),
  at: timestamp({ optional: true }),
  day: date({ optional: true }),
  kind: oneOf(['a', 'b', 'B'], { optional: true }),
  price: decimal(6, 2, { optional: true, index: true }),
  tiny: decimal(38, 38, { optional: true }),
  paid: decimalCounter(38, 4),
  serial: bigInteger({ optional: true, index: true }),
  opens: time({ optional: true }),
  wall: localDateTime({ optional: true }),
  tags: setOfText(),
});
export const thingSchema = schema({ thing: things });

const word = fc.oneof(
  fc.constantFrom(
    '',
    'a',
    'A',
    'ab',
    'é',
    'e\u0301',
    'ß',
    '\uffee',
    '😀',
    '😀x',
    '\ud7ff',
    '\ue000',
    '%',
    '_',
    "'",
    '"',
    ' ',
  ),
  fc.string({ unit: 'grapheme', maxLength: 4 }).filter((given) => !given.includes('\0')),
);
const day = fc.constantFrom('0001-01-01', '1969-12-31', '2024-02-29', '2026-11-23', '9999-12-31');
const values: Record<string, fc.Arbitrary<unknown>> = {
  name: word,
  count: fc.oneof(fc.constantFrom(0, -1, 1, Number.MAX_SAFE_INTEGER, Number.MIN_SAFE_INTEGER), fc.maxSafeInteger()),
  weight: fc.oneof(
    fc.constantFrom(0, -0, 0.1, 1e308, -1e308, 5e-324, 1e-17, 0.9999999999999999, 2 ** 53, 2 ** 53 + 2),
    fc.double({ noNaN: true, noDefaultInfinity: true }),
  ),
  good: fc.boolean(),
  at: day.map((given) => `${given}T23:59:59.999Z`),
  day,
  kind: fc.constantFrom('a', 'b', 'B'),
  price: fc.constantFrom('0', '-0.00', '0.5', '-0.5', '-1.25', '-01.3', '7', '10.00', '10.01', '9999.99', '-9999.99'),
  tiny: fc.tuple(fc.boolean(), fc.nat()).map(([below, n]) => `${below ? '-' : ''}0.${String(n).padStart(38, '0')}`),
  serial: fc.oneof(
    fc.constantFrom(0n, 2n ** 53n + 1n, 2n ** 63n - 1n, -(2n ** 63n)),
    fc.bigInt({ min: -9n, max: 12n }),
  ),
  opens: fc.constantFrom('00:00', '09:30:00', '09:30:00.5', '09:30:00.25', '23:59:59.999999'),
  wall: day.chain((given) => fc.constantFrom(`${given}T00:00`, `${given}T09:30:00.5`, `${given}T23:59:59.999999`)),
};
const ordered = Object.keys(values);
export const row = fc.record({
  ...Object.fromEntries(
    Object.entries(values).map(([name, value]) => [name, fc.option(value, { nil: null, freq: 3 })]),
  ),
  paid: fc.bigInt({ min: -(10n ** 37n), max: 10n ** 34n - 1n }).map((n) => (n < 0n ? '-1.5' : `${n}.1234`)),
  tags: fc.uniqueArray(fc.constantFrom('x', 'y', 'é', ''), { maxLength: 3 }),
});

const columnTest = fc.constantFrom(...ordered).chain((name) => {
  const value = values[name] as fc.Arbitrary<unknown>;
  const textual = ['name', 'at', 'day', 'kind'].includes(name);
  return fc.oneof(
    fc
      .constantFrom('=', '!=')
      .chain((sign) => fc.option(value, { nil: null }).map((given) => ({ [name]: { [sign]: given } }))),
    fc.constantFrom('<', '<=', '>', '>=').chain((sign) => value.map((given) => ({ [name]: { [sign]: given } }))),
    fc.array(fc.option(value, { nil: null }), { maxLength: 3 }).map((list) => ({ [name]: { in: list } })),
    fc.tuple(value, value).map((pair) => ({ [name]: { between: pair } })),
    value.map((given) => ({ [name]: given })),
    ...(textual
      ? [fc.constantFrom('prefix', 'contains').chain((how) => word.map((given) => ({ [name]: { [how]: given } })))]
      : []),
    fc.constantFrom('x', 'é', 'z').map((given) => ({ tags: { contains: given } })),
  );
});
export const { where } = fc.letrec<{ where: object }>((tie) => ({
  where: fc.oneof(
    { maxDepth: 3 },
    columnTest,
    fc.array(tie('where'), { maxLength: 3 }).map((parts) => ({ and: parts })),
    fc.array(tie('where'), { maxLength: 3 }).map((parts) => ({ or: parts })),
    tie('where').map((part) => ({ not: part })),
  ),
}));
export const order = fc.array(fc.tuple(fc.constantFrom(...ordered), fc.constantFrom('asc', 'desc')), { maxLength: 3 });
