import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver, openReplica } from '@koinon/client';
import { action, integer, schema, text } from '@koinon/core';
import { createServerTable } from '@koinon/core/internal';
import { type Handlers, sqliteStore, startServer } from '@koinon/server';
import { type BenchRow, perSecond } from './measure.ts';
import { folderOf } from './served.ts';
import { fill, prepareBare, visit, visits } from './visits.ts';

// Operations that the server runs once.

const office = schema(visits.tables, {
  actions: {
    count: action({ input: { visit: text() }, result: { mites: integer() } }),
    nothing: action({ input: { visit: text() } }),
  },
});
type Office = typeof office;

const handlers: Handlers<Office> = {
  async count({ visit: id }, { get, update }) {
    const mites = ((await get('visit', id))?.mites ?? 0) + 1;
    await update('visit', id, { mites });
    return { mites };
  },
  nothing: () => undefined,
};

const calls = 1_000;

/** A server that runs actions, with visits, and a device. */
async function prepared(size: number) {
  const folder = folderOf();
  const file = join(folder, 'server.db');
  const store = await sqliteStore(office, file);
  const driver = await openNodeDriver({ file });
  fill(driver, size);
  driver.close();
  const server = await startServer({ store, port: 0, requestsPerMinute: 1_000_000, actions: handlers });
  const never = { open: false, change: false, online: false, visible: false, timer: false };
  const replica = await openReplica({
    ...{ schema: office, file: join(folder, 'device.db'), server: server.url },
    sync: { when: never, live: false },
  });
  await replica.sync();
  return {
    folder,
    replica,
    async close() {
      await replica.close();
      await server.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** The upload of transactions of one row, with an action that does nothing in each, against the same without. */
const upload: BenchRow = {
  row: 'action-upload',
  unit: 'ms, 1,000 transactions of one row',
  reach: { most: 1.3 },
  rounds: 15,
  async prepare() {
    const { replica, close } = await prepared(0);
    let next = 0;
    const timed = async (withAction: boolean) => {
      for (let n = 0; n < calls; n++)
        await replica.transaction(async (transaction) => {
          const row = visit(next++, 'a');
          await transaction.insert('visit', row);
          if (withAction) await transaction.invoke('nothing', { visit: row.id });
        });
      const began = performance.now();
      const { up } = await replica.sync({ direction: 'push' });
      const took = performance.now() - began;
      if (up.applied !== calls) throw new Error(`${up.applied} were applied`);
      await replica.sync();
      return took;
    };
    return { floor: () => timed(false), koinon: () => timed(true), close };
  },
};

/** Queued actions, against their handler called in one durable transaction each. */
const queued: BenchRow = {
  row: 'actions-1000',
  unit: 'actions/s',
  reach: { least: 0.5 },
  rounds: 15,
  async prepare() {
    const { folder, replica, close } = await prepared(calls);
    const bare = await openNodeDriver({ file: join(folder, 'bare.db') });
    prepareBare(bare, createServerTable);
    bare.exec('PRAGMA synchronous = full');
    fill(bare, calls);
    const read = bare.prepare('SELECT mites FROM visit WHERE id = ?');
    const write = bare.prepare('UPDATE visit SET mites = ? WHERE id = ?');
    return {
      floor: () =>
        perSecond(calls, () => {
          for (let n = 0; n < calls; n++) {
            const { id } = visit(n);
            bare.exec('BEGIN IMMEDIATE');
            const { mites } = read.get(id) as { mites: number };
            write.run(mites + 1, id);
            bare.exec('COMMIT');
          }
        }),
      async koinon() {
        for (let n = 0; n < calls; n++) await replica.invoke('count', { visit: visit(n).id });
        const speed = await perSecond(calls, async () => {
          const { up } = await replica.sync({ direction: 'push' });
          if (up.applied !== calls) throw new Error(`${up.applied} were applied`);
        });
        await replica.sync();
        return speed;
      },
      async close() {
        bare.close();
        await close();
      },
    };
  },
};

/** The rows of actions. */
export const actionRows: readonly BenchRow[] = [upload, queued];
