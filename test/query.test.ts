import { openNodeDriver, type SqlDriver } from '@koinon/client';
import {
  type AnyRow,
  boolean,
  type Column,
  comparatorOf,
  createTable,
  date,
  integer,
  KoinonError,
  kept,
  oneOf,
  planQuery,
  predicateOf,
  real,
  rowDecoder,
  schema,
  selectSql,
  setOfText,
  table,
  text,
  timestamp,
  toSql,
  wholeRow,
} from '@koinon/core';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';

// One query, two answers: what SQL finds and what the predicate and comparator find must be the same rows in the same order.

const things = table({
  name: text({ optional: true }),
  count: integer({ optional: true }),
  weight: real({ optional: true }),
  good: boolean({ optional: true }),
  at: timestamp({ optional: true }),
  day: date({ optional: true }),
  kind: oneOf(['a', 'b', 'B'], { optional: true }),
  tags: setOfText(),
});
const world = schema({ thing: things });
let driver: SqlDriver;
beforeAll(async () => {
  driver = await openNodeDriver({ file: ':memory:' });
  for (const statement of createTable('thing', things, 'storage types')) driver.exec(statement);
});
afterAll(() => driver.close());

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
};
const ordered = Object.keys(values);
const row = fc.record({
  ...Object.fromEntries(
    Object.entries(values).map(([name, value]) => [name, fc.option(value, { nil: null, freq: 3 })]),
  ),
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
const { where } = fc.letrec<{ where: object }>((tie) => ({
  where: fc.oneof(
    { maxDepth: 3 },
    columnTest,
    fc.array(tie('where'), { maxLength: 3 }).map((parts) => ({ and: parts })),
    fc.array(tie('where'), { maxLength: 3 }).map((parts) => ({ or: parts })),
    tie('where').map((part) => ({ not: part })),
  ),
}));
const order = fc.array(fc.tuple(fc.constantFrom(...ordered), fc.constantFrom('asc', 'desc')), { maxLength: 3 });

function fill(given: readonly Record<string, unknown>[]): AnyRow[] {
  driver.exec('DELETE FROM thing');
  const names = Object.keys(things.columns);
  const insert = driver.prepare(`INSERT INTO thing VALUES (?${', ?'.repeat(names.length)})`);
  return given.map((columns, i) => {
    const whole = wholeRow(
      things,
      `id-${i}`,
      Object.fromEntries(names.map((name) => [name, kept(column(name), columns[name])])),
    );
    insert.run(whole.id, ...names.map((name) => toSql(column(name), whole[name])));
    return whole;
  });
}
const column = (name: string) => (things.columns as Record<string, Column>)[name] as Column;

test('the predicate and the comparator answer as the SQL does, on every row', () => {
  fc.assert(
    fc.property(fc.array(row, { maxLength: 8 }), where, order, (given, condition, by) => {
      const rows = fill(given);
      const plan = planQuery(world, { from: 'thing', where: condition, order: by });
      const { text: sql, values: bound } = selectSql(plan);
      const found = driver
        .prepare(sql)
        .all(...bound)
        .map(rowDecoder(things));
      const kept = rows.filter(predicateOf(plan.condition)).sort(comparatorOf(plan.order));
      expect(found.map((each) => ({ ...each }))).toEqual(kept.map((each) => ({ ...each })));
    }),
    { numRuns: 500 },
  );
});

test('pages by `after` put together are the whole', () => {
  fc.assert(
    fc.property(fc.array(row, { maxLength: 10 }), order, fc.integer({ min: 1, max: 4 }), (given, by, limit) => {
      fill(given);
      const read = (query: object) => {
        const { text: sql, values: bound } = selectSql(planQuery(world, { from: 'thing', order: by, ...query }));
        return driver
          .prepare(sql)
          .all(...bound)
          .map(rowDecoder(things));
      };
      const paged: AnyRow[] = [];
      for (let page = read({ limit }); page.length > 0; page = read({ limit, after: page.at(-1) })) paged.push(...page);
      expect(paged).toEqual(read({}));
    }),
    { numRuns: 200 },
  );
});

test.each([
  [{ from: 'thong' }, 'unknown-table'],
  [{ from: 'thing', where: { nmae: 'x' } }, 'unknown-column'],
  [{ from: 'thing', where: { constructor: 'x' } }, 'unknown-column'],
  [{ from: 'thing', where: { count: '7' } }, 'value-type'],
  [{ from: 'thing', where: { kind: 'c' } }, 'value-not-listed'],
  [{ from: 'thing', where: { count: { '>': null } } }, 'query-invalid'],
  [{ from: 'thing', where: { count: { above: 3 } } }, 'query-invalid'],
  [{ from: 'thing', order: [['count', 'down']] }, 'query-invalid'],
  [{ from: 'thing', order: 'tags' }, 'query-invalid'],
  [{ from: 'thing', limit: -1 }, 'query-invalid'],
  [{ from: 'thing', sort: 'name' }, 'query-invalid'],
])('a query that cannot be read is refused: %j', (query, code) => {
  expect(() => planQuery(world, query)).toThrow(expect.objectContaining({ code, name: 'KoinonError' }));
  expect(() => planQuery(world, query)).toThrow(KoinonError);
});
