import { expect, test } from 'vitest';
import { SqliteGround } from '../simulator/ground.ts';
import { makeHistory } from '../simulator/history.ts';
import { Simulation } from '../simulator/simulation.ts';

// History 37 and all that can be made up: devices, offices, copies, kills and a poor network, against a ledger of what each
// person meant and was told. `npm run simulate` makes up as many as there is time for.

/** Seconds of histories that nobody has seen before. */
const fresh = 20;

test('histories under fixed seeds, and under fresh ones: nothing is lost, doubled, torn or stuck', async () => {
  let ground = await SqliteGround.make();
  const run = async (seed: number) => {
    if (ground.used++ > 200) {
      await ground.end();
      ground = await SqliteGround.make();
    }
    const simulation = new Simulation(makeHistory(seed), ground);
    await simulation.run().catch((error: Error) => {
      throw new Error(
        `${error.message}\n${simulation.log.join('\n')}\nto replay it: npm run simulate -- --seed ${seed}`,
      );
    });
  };
  for (let seed = 1; seed <= 120; seed++) await run(seed);
  const first = Date.now() % 1_000_000_000;
  let count = 0;
  for (const end = Date.now() + fresh * 1_000; Date.now() < end; count++) await run(first + count);
  await ground.end();
  expect(count).toBeGreaterThan(0);
});
