import fc from 'fast-check';
import { expect, test } from 'vitest';
import { readPosition, Snapshot, writePosition } from './snapshot.ts';

const ids = Array.from({ length: 24 }, (_, id) => BigInt(id + 1));

/** The transactions that two looks at a database see: of those so far, some have ended by the first, more by the second. */
const looks = fc
  .tuple(fc.nat(22), fc.nat(22), fc.infiniteStream(fc.constantFrom('never', 'early', 'late')))
  .map(([one, two, fates]) => {
    const fate = ids.map(() => fates.next().value as string);
    const [early, late] = [Math.min(one, two) + 1, Math.max(one, two) + 1].map(BigInt) as [bigint, bigint];
    const open = (before: bigint, ended: string[]) =>
      ids.filter((id, i) => id < before && !ended.includes(fate[i] as string));
    const text = (xmax: bigint, running: bigint[]) => `${running[0] ?? xmax}:${xmax}:${running.join(',')}`;
    return [
      Snapshot.parse(text(early, open(early, ['early']))) as Snapshot,
      Snapshot.parse(text(late, open(late, ['early', 'late']))) as Snapshot,
    ] as const;
  });

test('what is known after a page is what was known before, and what was visible up to where the page ends', () =>
  fc.assert(
    fc.property(looks, fc.constantFrom(...ids), ([known, newer], upTo) => {
      const after = known.with(newer, upTo);
      for (const id of ids) expect(after.sees(id)).toBe(known.sees(id) || (id <= upTo && newer.sees(id)));
      const within = { position: upTo, table: 'a "table"', id: 'é 1' };
      expect(readPosition(writePosition({ known: after, within }))).toEqual({ known: after, within });
      expect(readPosition(writePosition({ known: after }))).toEqual({ known: after });
    }),
  ));

test('what another store wrote, or nobody, is no position', () => {
  for (const text of ['17', '', '1:2', '1:2:x', "1:2:'", '1:2:3 ']) expect(readPosition(text)).toBeUndefined();
});
