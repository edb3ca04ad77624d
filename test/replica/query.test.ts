import { openNodeDriver, type SqlDriver } from '@koinon/client';
import { type AnyRow, type Column, KoinonError } from '@koinon/core';
import {
  comparatorOf,
  createTable,
  normalize,
  planQuery,
  predicateOf,
  rowDecoder,
  selectSql,
  toSql,
  wholeRow,
} from '@koinon/core/internal';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { order, row, thingSchema, things, where } from '../support/things.ts';

// One query, two answers: what SQL finds and what the predicate and comparator find must be the same rows in the same order.

const world = thingSchema;
let driver: SqlDriver;
beforeAll(async () => {
  driver = await openNodeDriver({ file: ':memory:' });
  for (const statement of createTable('thing', things)) driver.exec(statement);
});
afterAll(() => driver.close());

function fill(given: readonly Record<string, unknown>[]): AnyRow[] {
  driver.exec('DELETE FROM thing');
  const names = Object.keys(things.columns);
  const insert = driver.prepare(`INSERT INTO thing VALUES (?${', ?'.repeat(names.length)})`);
  return given.map((columns, i) => {
    const whole = wholeRow(
      things,
      `id-${i}`,
      Object.fromEntries(names.map((name) => [name, normalize(column(name), columns[name])])),
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
    runs(500),
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
    runs(200),
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
