import fc from 'fast-check';
import { expect, test } from 'vitest';
import { Mutex } from './mutex.ts';

test('work is never interleaved, keeps its order, and what fails holds nobody up', async () => {
  const work = fc.record({ waits: fc.nat(3), fails: fc.boolean() });
  await fc.assert(
    fc.asyncProperty(fc.array(work, { maxLength: 8 }), fc.option(fc.nat(7)), async (given, refusedAt) => {
      const mutex = new Mutex();
      const begun: number[] = [];
      let running = 0;
      const results = given.map(({ waits, fails }, place) => {
        const result = mutex.runExclusive(async () => {
          begun.push(place);
          expect(++running).toBe(1);
          for (let i = 0; i < waits; i++) await Promise.resolve();
          running--;
          if (fails) throw new Error('failed');
          return place;
        });
        if (place === refusedAt) mutex.refuse(new Error('refused'));
        return result;
      });
      const settled = await Promise.allSettled(results);
      // The first begins at once, so that it is past refusing.
      const isRefused = (place: number) =>
        refusedAt !== null && place > 0 && place <= refusedAt && refusedAt < given.length;
      expect(settled.map((each) => (each.status === 'fulfilled' ? each.value : each.reason.message))).toEqual(
        given.map(({ fails }, place) => (isRefused(place) ? 'refused' : fails ? 'failed' : place)),
      );
      expect(begun).toEqual(given.flatMap((_, place) => (isRefused(place) ? [] : [place])));
    }),
  );
});
