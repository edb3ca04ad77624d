import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { WaitingLine } from './waiting-line.ts';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

const pause = (milliseconds: number) => new Promise<void>((done) => setTimeout(done, milliseconds));

/** Seconds until all of so many devices were answered that ask at once, give up after 10 s, and come again. */
async function secondsFor(devices: number, atOnce: number, took: number): Promise<number> {
  const line = new WaitingLine(atOnce, undefined, Date.now);
  const began = Date.now();
  let last = 0;
  const device = async () => {
    for (let tries = 0; ; tries++) {
      let isGone = false;
      let isAnswered = false;
      const asked = line.take(
        () => isGone,
        () => pause(took),
      );
      const answered = asked.then(
        () => {
          isAnswered = !isGone;
        },
        () => undefined,
      );
      await Promise.race([answered, pause(10_000)]);
      isGone = true;
      if (isAnswered) break;
      await pause(Math.min(300_000, 1_000 * 2 ** tries) * (0.5 + Math.random() / 2));
    }
    last = Date.now();
  };
  const all = Promise.all(Array.from({ length: devices }, device));
  let isOver = false;
  void all.then(() => {
    isOver = true;
  });
  while (!isOver && Date.now() - began < 3_600_000) await vi.advanceTimersByTimeAsync(1_000);
  return isOver ? (last - began) / 1_000 : Number.POSITIVE_INFINITY;
}

test('many more than can be answered in time are all answered, and not much later than the work takes', async () => {
  // 300 requests of a second, 5 at once, are work for a minute.
  expect(await secondsFor(300, 5, 1_000)).toBeLessThan(400);
  // Those who can be answered in time are, in their order.
  expect(await secondsFor(25, 5, 1_000)).toBe(5);
});

test('nothing is done for those who have gone, and the turn goes on to the next', async () => {
  const line = new WaitingLine(1, undefined, Date.now);
  const done: string[] = [];
  const ask = (name: string, isGone = false) =>
    line
      .take(
        () => isGone,
        async () => {
          await pause(100);
          done.push(name);
        },
      )
      .catch(({ code }: { code: string }) => done.push(`${name}: ${code}`));
  const all = Promise.all([ask('first'), ask('gone', true), ask('second')]);
  await vi.advanceTimersByTimeAsync(1_000);
  await all;
  expect(done).toEqual(['first', 'gone: too-many-requests', 'second']);
});
