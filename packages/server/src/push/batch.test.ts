import fc from 'fast-check';
import { expect, test } from 'vitest';
import { Batch } from './batch.ts';

test('all but the transactions at fault are written, in order, wherever a group fails', () => {
  const transaction = fc.constantFrom('fine', 'refused by itself', 'refused at the commit');
  const first = fc.constantFrom('optimistic' as const, 'guarded' as const);
  fc.assert(
    fc.property(
      fc.array(transaction, { maxLength: 12 }),
      first,
      fc.integer({ min: 1, max: 4 }),
      (given, start, turn) => {
        const names: string[] = [];
        const batch = new Batch(start, ({ name }) => names.push(name));
        const done: string[] = [];
        let groups = 0;
        while (batch.from < given.length) {
          expect(++groups).toBeLessThanOrEqual(3 * given.length + 2);
          // A turn may be over before the group is.
          const group = batch.groupOf(given);
          const reached = group.indexOf('refused by itself');
          const taken = group.slice(0, Math.min(turn, reached < 0 ? group.length : reached + 1));
          const fault = taken.findIndex((each) => each !== 'fine');
          if (fault < 0) {
            done.push(...taken.map(() => 'written'));
            batch.passed(taken.length);
          } else if (
            batch.failed(group.length, taken[fault] === 'refused by itself' ? fault : group.length) === 'set aside'
          ) {
            expect(group.length).toBe(1);
            done.push('set aside');
            batch.passed(1);
          }
        }
        expect(done).toEqual(given.map((each) => (each === 'fine' ? 'written' : 'set aside')));
        expect(names.includes('optimistic')).toBe(false);
      },
    ),
  );
});
