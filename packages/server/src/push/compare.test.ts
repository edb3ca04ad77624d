import { type Change, schema, table, text } from '@koinon/core';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { Stamp, Written } from '../store/store.ts';
import { Comparison } from './compare.ts';

const { hive } = schema({ hive: table({ mark: text(), queen: text() }) }).tables;
const key = { table: 'hive', id: 'h' };

test('a column is free where its last write was known or the replica’s own; the transaction’s own writes follow each other', () => {
  const written: fc.Arbitrary<Written> = fc.record({
    covered: fc.boolean(),
    receipt: fc.constantFrom(null, 'own', 'other'),
  });
  const stamp = fc.option(
    fc.record({
      deleted: fc.boolean(),
      row: written,
      columns: fc
        .dictionary(fc.constantFrom('mark', 'queen'), written)
        .map((columns) => new Map(Object.entries(columns))),
      image: fc.constant(undefined),
    }),
    { nil: undefined },
  );
  const columns = fc
    .subarray(['mark', 'queen'], { minLength: 1 })
    .map((names) => Object.fromEntries(names.map((name) => [name, 'new'])));
  const change: fc.Arbitrary<Change> = fc.oneof(
    columns.map((given) => ({ ...key, kind: 'insert' as const, columns: given })),
    columns.map((given) => ({ ...key, kind: 'update' as const, columns: given, operations: {} })),
    fc.constant({ ...key, kind: 'delete' as const }),
  );
  const isFree = ({ covered, receipt }: Written) => covered || receipt === 'own';
  fc.assert(
    fc.property(stamp as fc.Arbitrary<Stamp | undefined>, change, (found, first) => {
      const comparison = new Comparison([key], [found], new Set(['own']), 'this');
      comparison.add(hive, first);
      const lastOf = (name: string) => found?.columns.get(name) ?? (found?.row as Written);
      const overtaken = (names: readonly string[]) => names.filter((name) => !isFree(lastOf(name)));
      let stale: readonly string[] | undefined;
      let problem: string | undefined;
      if (first.kind === 'insert') {
        if (found && !isFree(found.row)) stale = [];
        else if (found?.deleted === false) problem = 'duplicate-id';
      } else if (found === undefined) problem = 'no-such-row';
      else if (found.deleted && first.kind === 'update') {
        if (isFree(found.row)) problem = 'no-such-row';
        else stale = [];
      } else if (!found.deleted) {
        const names = overtaken(first.kind === 'delete' ? ['mark', 'queen'] : Object.keys(first.columns));
        if (names.length > 0) stale = names;
      }
      expect(comparison.stale).toEqual(stale === undefined ? [] : [{ ...key, columns: stale }]);
      expect(comparison.problems.map(({ code }) => code)).toEqual(problem === undefined ? [] : [problem]);
      // The same once more in the transaction: what it wrote itself stands in nobody's way.
      if (first.kind !== 'update' || problem !== undefined || stale !== undefined) return;
      comparison.add(hive, first);
      expect([comparison.stale, comparison.problems]).toEqual([[], []]);
    }),
  );
});
