import type { Condition } from '@koinon/core';
import { predicateOf } from '@koinon/core/internal';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { ConditionIndex } from './index.ts';

const value = fc.constantFrom('x', 'y', 'z');
const column = fc.constantFrom('site', 'kind', 'weight');
const condition = fc.letrec<{ node: Condition }>((tie) => ({
  node: fc.oneof(
    { maxDepth: 3 },
    fc.record({
      kind: fc.constant('compare' as const),
      column,
      sign: fc.constantFrom('=' as const, '>' as const),
      value,
    }),
    fc.record({ kind: fc.constant('in' as const), column, values: fc.array(value, { maxLength: 3 }) }),
    fc.record({
      kind: fc.constantFrom('and' as const, 'or' as const),
      conditions: fc.array(tie('node'), { maxLength: 3 }),
    }),
    fc.record({ kind: fc.constant('not' as const), condition: tie('node') }),
  ),
})).node;

test('it finds everybody whose condition a row fulfils or fulfilled, and keeps nothing of those who have gone', () => {
  const filterable = () => ['site', 'kind'];
  const state = fc.record({ site: value, kind: value, weight: value });
  fc.assert(
    fc.property(fc.array(condition, { maxLength: 8 }), fc.array(state, { maxLength: 2 }), (conditions, states) => {
      const index = new ConditionIndex<number>(filterable);
      for (const [item, each] of conditions.entries()) index.add('visit', each, item);
      const found = index.find('visit', 'id', states as never);
      for (const [item, each] of conditions.entries())
        if (states.some((row) => predicateOf(each)({ id: 'id', ...row }))) expect(found).toContain(item);
      for (const [item, each] of conditions.entries()) index.remove('visit', each, item);
      expect(index).toEqual(new ConditionIndex<number>(filterable));
    }),
  );
});
