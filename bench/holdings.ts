import { openReplica } from '@koinon/client';
import type { BenchRow } from './measure.ts';
import { served } from './served.ts';
import { visit, visits } from './visits.ts';

// Rows that an app asks for at run time.

/** 10,000 rows that are held, of 100,000, against a first download of as many. */
const hold: BenchRow = {
  row: 'hold-10000',
  unit: 'ms',
  reach: { most: 1.2 },
  async prepare() {
    const [all, few] = [await served(100_000), await served(10_000)];
    const timed = async (work: () => Promise<unknown>) => {
      const began = performance.now();
      await work();
      return performance.now() - began;
    };
    return {
      async floor() {
        const replica = await openReplica({ schema: visits, file: few.device(), server: few.url });
        const took = await timed(() => replica.sync());
        await replica.close();
        return took;
      },
      async koinon() {
        const only = { tables: [] };
        const replica = await openReplica({ schema: visits, file: all.device(), server: all.url, only });
        await replica.sync();
        const took = await timed(async () => {
          await replica.hold('some', {
            from: 'visit',
            where: { id: { between: [visit(40_000).id, visit(49_999).id] } },
          });
          await replica.sync();
        });
        if ((await replica.count({ from: 'visit' })) !== 10_000) throw new Error('Not all rows have come.');
        await replica.close();
        return took;
      },
      async close() {
        await all.close();
        await few.close();
      },
    };
  },
};

/** How much some rows would be, of 1,000,000. */
const estimate: BenchRow = {
  row: 'estimate-1000000',
  unit: 'ms',
  reach: { most: 50, of: 'figure' },
  async prepare() {
    const source = await served(1_000_000);
    const replica = await openReplica({
      ...{ schema: visits, file: source.device(), server: source.url },
      only: { tables: [] },
    });
    await replica.sync();
    const [low, high] = [visit(400_000).id, visit(409_999).id];
    const counted = source.office.prepare('SELECT count(*) AS n FROM visit WHERE id BETWEEN ? AND ?');
    return {
      floor() {
        const began = performance.now();
        counted.get(low, high);
        return performance.now() - began;
      },
      async koinon() {
        const began = performance.now();
        const { visit: found } = await replica.estimatePull({ from: 'visit', where: { id: { between: [low, high] } } });
        if (found?.rows !== 10_000) throw new Error('Counted otherwise.');
        return performance.now() - began;
      },
      async close() {
        await replica.close();
        await source.close();
      },
    };
  },
};

/** The rows `hold` and `estimate`. */
export const holdingRows: readonly BenchRow[] = [hold, estimate];
