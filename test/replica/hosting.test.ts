import { setTimeout as sleep } from 'node:timers/promises';
import { MessageChannel, Worker } from 'node:worker_threads';
import { connectReplica, hostReplica, type LiveQuery, openReplica, type Result } from '@koinon/client';
import { sql } from '@koinon/core';
import { expect, test } from 'vitest';
import { garden, World } from '../support/world.ts';

// The engine in a real worker thread. That a replica behind a port does all that one in this thread does is tested with it.

const worker = (workerData: object) =>
  new Worker(new URL('../support/garden-worker.mjs', import.meta.url), {
    workerData,
  });

test('a replica in a worker thread keeps its data, syncs, is live, and survives its thread', async () => {
  const world = await World.inTest(garden);
  const thread = worker({ file: world.path('threaded.db'), server: world.server.url });
  const replica = await connectReplica(thread, garden);
  const results: Result<{ id: string; name: string }>[] = [];
  const stop = replica.live({ from: 'bed', order: 'name' }).subscribe((result) => results.push(result));
  await replica.insertAll('bed', [
    { id: 'b1', name: 'north' },
    { id: 'b2', name: 'south' },
  ]);
  await expect.poll(() => results.at(-1)?.rows.length).toBe(2);
  const [north] = results.at(-1)?.rows ?? [];
  await replica.update('bed', 'b2', { name: 'pond' });
  await expect.poll(() => results.at(-1)?.updated).toMatchObject([{ id: 'b2', name: 'pond' }]);
  expect(results.at(-1)?.rows[0], 'rows that did not change are the same objects').toBe(north);
  expect(Object.isFrozen(results.at(-1)?.rows[1])).toBe(true);
  expect(await replica.sync()).toMatchObject({ up: { applied: 2 } });
  const shell = await world.shell();
  await shell.exec("UPDATE bed SET name = 'office' WHERE id = 'b1'");
  await replica.sync();
  await expect
    .poll(() => results.at(-1))
    .toMatchObject({ origin: 'server', rows: [{ name: 'office' }, { name: 'pond' }] });
  stop();

  const cancelled = new AbortController();
  cancelled.abort();
  await expect(replica.sync({ signal: cancelled.signal })).rejects.toMatchObject({ code: 'cancelled' });

  const pending = replica.transaction(async (transaction) => {
    await transaction.insert('bed', { name: 'half' });
    await thread.terminate();
    await transaction.insert('bed', { name: 'other half' });
  });
  await expect(pending).rejects.toMatchObject({ code: 'replica-closed' });
  await expect(replica.count({ from: 'bed' })).rejects.toMatchObject({ code: 'replica-closed' });
  const again = await world.replica({ file: 'threaded.db' });
  expect((await again.rows({ from: 'bed', order: 'name' })).map(({ name }) => name)).toEqual(['office', 'pond']);
});

test('what follows a replica ends when it is closed, before and after its first result, and fails when its thread is gone', async () => {
  const world = await World.inTest(garden);
  const started = () => worker({ server: world.server.url });
  const threaded = () => connectReplica(started(), garden);
  for (const open of [() => world.replica(), threaded])
    for (const begun of [false, true]) {
      const replica = await open();
      const kinds = [
        replica.live({ from: 'bed' }),
        replica.live({ from: 'bed', join: { sync: 'status' } }),
        replica.liveSelect(sql`SELECT id FROM bed`),
        replica.liveSummary({ from: 'bed', measures: { beds: 'count' } }),
        replica.liveOutbox(),
        replica.liveConflicts(),
        replica.liveRejections(),
        replica.syncState(),
      ] as LiveQuery<unknown>[];
      const followed = kinds.map(async (live) => {
        let results = 0;
        for await (const { ready } of live) results += Number(ready);
        return results;
      });
      if (begun) await expect.poll(() => kinds.map(({ current }) => current.ready)).not.toContain(false);
      const completed = new Promise<void>((complete) => kinds[0]?.asObservable().subscribe({ complete }));
      await replica.close();
      await completed;
      for (const results of await Promise.all(followed)) if (begun) expect(results).toBeGreaterThan(0);
      await expect(kinds[0]?.[Symbol.asyncIterator]().next()).rejects.toMatchObject({ code: 'replica-closed' });
    }
  const thread = started();
  const lost = (await connectReplica(thread, garden)).live({ from: 'bed' });
  const seen = (async () => {
    for await (const _ of lost) await thread.terminate();
  })();
  await expect(seen).rejects.toMatchObject({ code: 'replica-closed' });
});

test('what opening throws there is thrown here', async () => {
  const thread = worker({ file: '/nowhere/x.db' });
  await expect(connectReplica(thread, garden)).rejects.toMatchObject({ code: 'storage-refused' });
  await thread.terminate();
});

test('an app that vanishes in the middle of a transaction rolls it back and frees the queue', async () => {
  const host = await openReplica({ schema: garden });
  const { port1, port2 } = new MessageChannel();
  void hostReplica(port1, async () => host);
  const remote = await connectReplica(port2, garden);
  let entered = () => {};
  const inside = new Promise<void>((done) => {
    entered = done;
  });
  const vanished = remote.transaction(async (transaction) => {
    await transaction.insert('bed', { name: 'half' });
    entered();
    await new Promise(() => undefined);
  });
  vanished.catch(() => undefined);
  await inside;
  port2.close();
  expect(await host.count({ from: 'bed' })).toBe(0);
  await host.close();
});

test('a host that has long been ready is found all the same, and asked again it answers again', async () => {
  const { port1, port2 } = new MessageChannel();
  await hostReplica(port1, () => openReplica({ schema: garden }));
  await new Promise((done) => setTimeout(done, 30));
  const remote = await connectReplica(port2, garden);
  expect(await remote.count({ from: 'bed' })).toBe(0);
  await remote.close();
  port1.close();
});

test('behind a port a person decides, takes back, sends again, and brings back, as in this thread', async () => {
  const world = await World.inTest(garden, 'SQLite', {
    rules: {
      plant: {
        validate: ({ after }) =>
          (after?.height ?? 0) > 100 ? [{ column: 'height', message: 'No plant here grows that high.' }] : undefined,
      },
    },
  });
  const { port1, port2 } = new MessageChannel();
  void hostReplica(port1, () => openReplica({ schema: garden, server: world.server.url }));
  const here = await connectReplica(port2, garden);
  const there = await world.replica();
  await there.insert('bed', { id: 'b', name: 'north' });
  await there.insertAll(
    'plant',
    ['p', 'q'].map((id) => ({ id, bed: 'b', kind: 'herb' }) as const),
  );
  await there.sync();
  expect(await here.estimatePull()).toMatchObject({ bed: { rows: 1 }, plant: { rows: 2 } });
  await here.sync();
  const results: (readonly [string, string])[][] = [];
  const query = { from: 'plant', join: { sync: 'status' }, order: 'id' } as const;
  const stop = here
    .live(query)
    .subscribe(({ rows, ready }) => ready && results.push(rows.map(({ id, sync }) => [id, sync.status])));
  await there.update('plant', 'p', { label: 'theirs' });
  await there.sync();
  await here.update('plant', 'p', { label: 'mine' });
  await here.update('plant', 'q', { height: 101 });
  await here.sync();
  await expect
    .poll(() => results.at(-1))
    .toEqual([
      ['p', 'conflicted'],
      ['q', 'rejected'],
    ]);
  await here.resolve('plant', 'p', 'remote');
  await here.unresolve('plant', 'p');
  // Wrong decisions decide nothing; one inside a transaction is part of it.
  for (const wrong of ['loacl', null, { label: 'mine' }, { label: null }] as never[])
    await expect(here.resolve('plant', 'p', wrong)).rejects.toMatchObject({ code: 'value-not-listed' });
  await expect(
    here.transaction(async (transaction) => {
      await transaction.resolve('plant', 'p', { label: { value: 'both' } });
      expect(await transaction.get('plant', 'p')).toMatchObject({ label: 'both' });
      throw new Error('thought better of it');
    }),
  ).rejects.toThrow('thought better of it');
  expect(await here.conflicts()).toMatchObject([{ column: 'label', local: 'mine', remote: 'theirs' }]);
  await here.resolve('plant', 'p', 'local');
  const [refused] = await here.rejections();
  expect(refused?.problems).toMatchObject([{ column: 'height', message: 'No plant here grows that high.' }]);
  await here.resend(refused?.transaction as string);
  await here.sync();
  expect(await here.rejections()).toHaveLength(1);
  await here.update('plant', 'q', { height: 99 });
  await here.delete('plant', 'p');
  await here.sync();
  await expect.poll(() => results.at(-1)).toEqual([['q', 'synced']]);
  expect(await here.trash({ table: 'plant' })).toMatchObject([{ id: 'p', columns: { label: 'mine' } }]);
  await here.restore('plant', 'p');
  await here.sync();
  await there.sync();
  expect(await there.get('plant', 'p')).toMatchObject({ label: 'mine' });
  await expect(here.unresolve('plant', 'p')).rejects.toMatchObject({ code: 'nothing-to-undo' });
  await expect(here.resend('none')).rejects.toMatchObject({ code: 'nothing-to-undo' });
  stop();
  await here.close();
  port1.close();
});

test('a host that is asked what its predecessor began, before the app knows of it: nothing is told to be done that is not, and nothing is begun twice', async () => {
  const { port1: app, port2 } = new MessageChannel();
  const world = await World.inTest(garden);
  const replica = await world.replica();
  void hostReplica(port2, async () => replica);
  const answers: {
    readonly type: string;
    readonly number: number;
    readonly value?: unknown;
    readonly error?: { code: string };
  }[] = [];
  app.on('message', (answer) => answers.push(...(answer.type === 'batch' ? answer.answers : [answer])));
  const answered = async (request: { readonly number: number }) => {
    app.postMessage(request);
    await expect.poll(() => answers.find(({ number }) => number === request.number)).toBeDefined();
    const { value, error } = answers.find(({ number }) => number === request.number) ?? {};
    return error?.code ?? value;
  };
  const call = 'a call of the app';
  const end = { ask: 'end', commits: true, call } as const;
  expect(await answered({ ...end, number: 1, transaction: 90 } as never), 'it was not done').toBe(false);
  expect(await answered({ ask: 'end', commits: true, number: 2, transaction: 90 } as never)).toBe('replica-moved');
  const step = { ask: 'step', name: 'insert', given: ['bed', { id: 'b', name: 'north' }] };
  expect(await answered({ ...step, number: 3, transaction: 90 } as never)).toBe('replica-moved');
  // Begun twice, it is one, and whoever comes next does not wait for another.
  for (const _ of [1, 2]) app.postMessage({ ask: 'begin', number: 4 });
  expect(await answered({ ask: 'begin', number: 4 } as never)).toBeUndefined();
  app.postMessage({ ask: 'begin', number: 4 });
  expect(await answered({ ...step, number: 5, transaction: 4 } as never)).toMatchObject({ name: 'north' });
  expect(await answered({ ...end, number: 6, transaction: 4 } as never)).toBeUndefined();
  await replica.insert('bed', { id: 'c', name: 'south' });
  expect(await answered({ ...end, number: 7, transaction: 4 } as never), 'asked again, it was done').toBe(true);
  // Followed twice under one number, it is followed once.
  const follow = { ask: 'follow', kind: 'rows', request: { from: 'bed' } };
  for (const _ of [1, 2]) app.postMessage({ ...follow, number: 8 });
  const results = () => answers.filter(({ type, number }) => type === 'result' && number === 8).length;
  await expect.poll(results).toBeGreaterThan(0);
  app.postMessage({ ...follow, number: 8 });
  await sleep(50);
  const before = results();
  await replica.insert('bed', { id: 'd', name: 'pond' });
  await sleep(50);
  expect(results()).toBe(before + 1);
  app.close();
});
