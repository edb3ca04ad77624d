import { type AddressInfo, connect, createServer, type Socket } from 'node:net';
import { openReplica, type Replica } from '@koinon/client';
import fc from 'fast-check';
import { expect, test, vi } from 'vitest';
import { runs } from '../support/runs.ts';
import { storeKinds } from '../support/stores.ts';
import { type Garden, garden, rowsOf, World } from '../support/world.ts';

// Connections as a real network treats them: cut in the middle of a request or of an answer, held back so that others
// overtake them, and sent on twice.

interface Fate {
  readonly what: 'passes' | 'cut up' | 'cut down' | 'held back' | 'repeated';
  /** Bytes until it is cut, or milliseconds that it is held back. */
  readonly at: number;
}

/** A way to a server on which each new connection meets the next fate. */
async function badWay(port: number, fates: readonly Fate[]) {
  let next = 0;
  let met = 0;
  const open = new Set<Socket>();
  const server = createServer((near) => {
    const { what, at } = fates[next++] ?? { what: 'passes', at: 0 };
    if (what !== 'passes') met++;
    const far = connect(port, '127.0.0.1');
    for (const socket of [near, far]) {
      open.add(socket);
      socket.on('error', () => undefined);
      socket.on('close', () => {
        open.delete(socket);
        near.destroy();
        far.destroy();
      });
    }
    let up = 0;
    let down = 0;
    const asked: Buffer[] = [];
    near.on('data', (data) => {
      up += data.length;
      asked.push(data);
      if (what === 'held back') setTimeout(() => far.writable && far.write(data), at % 60);
      else if (what === 'cut up' && up > at) {
        far.write(data.subarray(0, Math.max(0, data.length - (up - at))));
        far.end(() => near.destroy());
      } else far.write(data);
    });
    far.on('data', (data) => {
      down += data.length;
      if (what === 'cut down' && down > at) {
        near.write(data.subarray(0, Math.max(0, data.length - (down - at))), () => near.destroy());
        return;
      }
      if (what === 'repeated' && asked.length > 0) {
        // Whoever is in between sends the same bytes once more; nobody waits for that answer.
        const again = connect(port, '127.0.0.1', () => again.end(Buffer.concat(asked.splice(0))));
        again.on('error', () => undefined).resume();
      }
      near.write(data);
    });
  });
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    met: () => met,
    mend: () => {
      next = fates.length;
      for (const socket of open) socket.destroy();
    },
    close: () =>
      new Promise((done) => {
        server.close(done);
        // Connections are kept open for the next request.
        for (const socket of open) socket.destroy();
      }),
  };
}

const fate = fc.record({
  what: fc.constantFrom('passes', 'cut up', 'cut down', 'held back', 'repeated', 'repeated'),
  at: fc.integer({ min: 1, max: 900 }),
}) as fc.Arbitrary<Fate>;
const step = fc.record({
  who: fc.nat(1),
  does: fc.constantFrom('count', 'insert', 'label', 'sync', 'sync', 'both sync'),
});

test.each(storeKinds)('%s: cut, held back, repeated and overtaking connections: nothing is lost or doubled', (kind) =>
  fc.assert(
    fc.asyncProperty(
      fc.array(fate, { minLength: 8, maxLength: 30 }),
      fc.array(step, { minLength: 8, maxLength: 30 }),
      async (fates, steps) => {
        const world = await World.of(garden, kind);
        const shell = await world.shell();
        await shell.exec("INSERT INTO bed VALUES ('b', 'bed', true)");
        await shell.exec("INSERT INTO plant VALUES ('p', 'b', 'herb', NULL, 0, 0, '[]')");
        const way = await badWay(Number(new URL(world.server.url).port), fates);
        const replicas: Replica<Garden>[] = [];
        for (let n = 0; n < 2; n++) {
          const straight = await world.replica({ file: `device-${n}.db` });
          await straight.sync();
          await straight.close();
          replicas.push(await openReplica({ schema: garden, file: world.path(`device-${n}.db`), server: way.url }));
        }
        let counted = 0;
        let inserted = 0;
        const sync = (replica: Replica<Garden>) => replica.sync().catch(() => undefined);
        for (const { who, does } of steps) {
          const replica = replicas[who] as Replica<Garden>;
          if (does === 'count') {
            await replica.add('plant', 'p', 'watered', ++counted);
          } else if (does === 'insert')
            await replica.insert('plant', { id: `new-${who}-${inserted++}`, bed: 'b', kind: 'tree' });
          else if (does === 'label' && who === 0) await replica.update('plant', 'p', { label: `label ${counted}` });
          else if (does === 'both sync') await Promise.all(replicas.map(sync));
          else await sync(replica);
        }
        way.mend();
        for (let round = 0; round < 2; round++) for (const replica of replicas) await replica.sync();
        const onServer = await rowsOf(shell);
        expect(onServer['plant p']).toMatchObject({ watered: (counted * (counted + 1)) / 2 });
        expect(Object.keys(onServer)).toHaveLength(2 + inserted);
        for (const replica of replicas) {
          await replica.sync();
          expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
          expect(await rowsOf(replica)).toEqual(onServer);
          await replica.close();
        }
        await way.close();
        await world.end();
      },
    ),
    runs(4),
  ),
);

test('a shell that has little of what browsers have syncs, is live, and can be told to stop', async () => {
  const world = await World.inTest(garden);
  const far = globalThis.fetch;
  vi.stubGlobal('fetch', async (url: string, init: RequestInit) => {
    const answer = await far(url, init);
    const text = await answer.text();
    return { ok: answer.ok, status: answer.status, headers: answer.headers, text: async () => text };
  });
  vi.stubGlobal('CompressionStream', undefined);
  vi.spyOn(AbortSignal, 'any').mockImplementation(() => {
    throw new TypeError('AbortSignal.any is not a function');
  });
  const one = await world.replica();
  const two = await openReplica({
    schema: garden,
    file: world.path('two.db'),
    server: world.server.url,
    sync: 'automatic',
  });
  for await (const { rows } of two.syncState()) if (rows[0]?.phase === 'live') break;
  await one.insert('bed', { id: 'b', name: 'x'.repeat(100_000) });
  const stop = new AbortController();
  const stopped = one.sync({ signal: stop.signal });
  stop.abort();
  await expect(stopped).rejects.toMatchObject({ code: 'cancelled' });
  await one.sync({ signal: new AbortController().signal });
  await expect.poll(() => two.get('bed', 'b')).toMatchObject({ id: 'b' });
  await two.close();
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});
