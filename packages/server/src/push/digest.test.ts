import fc from 'fast-check';
import { expect, test } from 'vitest';
import { digestOf } from './digest.ts';

const backwards = (value: unknown): unknown => {
  if (Array.isArray(value)) return value.map(backwards);
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .reverse()
      .map(([name, part]) => [name, backwards(part)]),
  );
};

test('a transaction has one digest in whatever order its members travel, and another where a value differs', () => {
  const flat = fc.dictionary(fc.string(), fc.integer(), { minKeys: 2 });
  const columns = fc.oneof(flat, fc.dictionary(fc.string(), fc.jsonValue()));
  const change = fc.record({ kind: fc.constant('update' as const), table: fc.string(), id: fc.string(), columns });
  const transaction = fc.record({ id: fc.uuid(), editedAt: fc.string(), changes: fc.array(change, { minLength: 1 }) });
  fc.assert(
    fc.property(transaction, fc.string(), (given, other) => {
      const sent = { ...given, dependsOn: [] } as Parameters<typeof digestOf>[0];
      expect(digestOf(backwards(sent) as typeof sent)).toBe(digestOf(sent));
      // What its replica knew when it sent it may have advanced.
      expect(digestOf({ ...sent, dependsOn: [other] })).toBe(digestOf(sent));
      const [first, ...rest] = sent.changes;
      fc.pre(first?.columns?.weight !== other);
      const changed = [{ ...first, columns: { ...first?.columns, weight: other } }, ...rest] as typeof sent.changes;
      expect(digestOf({ ...sent, changes: changed })).not.toBe(digestOf(sent));
    }),
  );
});
