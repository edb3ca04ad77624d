import { connectReplica, hostReplica, type LiveQuery, openReplica, type Replica, type Result } from '@koinon/client';
import { type Row, sql } from '@koinon/core';
import fc from 'fast-check';
import { expect, test, vi } from 'vitest';
import { runs } from '../support/runs.ts';
import { order, row, thingSchema, where } from '../support/things.ts';
import { type Garden, garden, World } from '../support/world.ts';

// A live query must always show what the same query asked anew would answer, and tell truly what changed.

type Things = Replica<typeof thingSchema>;
const write = fc.oneof(
  fc.record({ do: fc.constant('put' as const), n: fc.nat(12), row }),
  fc.record({ do: fc.constant('put' as const), n: fc.nat(12), row }),
  fc.record({ do: fc.constant('delete' as const), n: fc.nat(12) }),
);
const commits = fc.array(fc.array(write, { minLength: 1, maxLength: 4 }), { minLength: 1, maxLength: 8 });
const query = fc.record(
  {
    where,
    order,
    limit: fc.integer({ min: 0, max: 5 }),
    offset: fc.integer({ min: 0, max: 2 }),
    columns: fc.subarray(['name', 'count', 'good']),
  },
  { requiredKeys: [] },
);
const plain = (rows: readonly unknown[]) => rows.map((each) => ({ ...(each as object) }));

const places = {
  'in this thread': () => openReplica({ schema: thingSchema }),
  async 'behind a port'() {
    const { port1, port2 } = new MessageChannel();
    void hostReplica(port1, () => openReplica({ schema: thingSchema }));
    return connectReplica(port2, thingSchema);
  },
};

test.each(Object.entries(places))(
  '%s, after every commit a live query shows what a fresh query answers, and its differences add up',
  (_where, open) =>
    fc.assert(
      fc.asyncProperty(fc.array(query, { minLength: 1, maxLength: 4 }), commits, async (queries, history) => {
        const replica: Things = await open();
        const watched = queries.map((given) => {
          const asked = { from: 'thing', ...given } as { from: 'thing' };
          const seen = {
            asked,
            latest: undefined as Result<{ id: string }> | undefined,
            sum: new Map<string, unknown>(),
          };
          replica.live(asked).subscribe((result) => {
            seen.latest = result;
            if (result.origin === 'start') seen.sum.clear();
            for (const { id } of result.removed) expect(seen.sum.delete(id), 'removed what was there').toBe(true);
            for (const each of result.added) expect(seen.sum.has(each.id), 'added what was not there').toBe(false);
            for (const each of result.updated) expect(seen.sum.has(each.id), 'updated what was there').toBe(true);
            for (const each of [...result.added, ...result.updated]) seen.sum.set(each.id, each);
          });
          return seen;
        });
        for (const commit of history) {
          await replica.transaction(async (transaction) => {
            for (const step of commit) {
              const id = `id-${step.n}`;
              if (step.do === 'put') await transaction.upsert('thing', { ...step.row, id } as never);
              else if (await transaction.get('thing', id)) await transaction.delete('thing', id);
            }
          });
          for (const { asked, latest, sum } of watched) {
            const fresh = await replica.rows(asked);
            expect(plain(latest?.rows ?? [])).toEqual(plain(fresh));
            expect(plain([...sum.values()].sort(byId))).toEqual(plain([...fresh].sort(byId)));
          }
        }
        await replica.close();
      }),
      runs(150),
    ),
);
const byId = (a: unknown, b: unknown) => ((a as { id: string }).id < (b as { id: string }).id ? -1 : 1);

async function planted() {
  const replica = await openReplica({ schema: garden });
  await replica.insert('bed', { id: 'b1', name: 'north' });
  await replica.insertAll('plant', [
    { id: 'p1', bed: 'b1', kind: 'herb', height: 3 },
    { id: 'p2', bed: 'b1', kind: 'tree', height: 9 },
  ]);
  return replica;
}

test('one commit is one call; unconcerned subscribers hear nothing; after unsubscribing nothing is kept', async () => {
  const replica = await planted();
  const results: Result<{ id: string }>[] = [];
  let others = 0;
  const stop = replica
    .live({ from: 'plant', where: { height: { '>': 5 } }, columns: ['kind'] })
    .subscribe((result) => results.push(result));
  replica.live({ from: 'plant', where: { id: 'elsewhere' } }).subscribe(() => others++);
  expect(results.map(({ rows }) => rows)).toEqual([[{ id: 'p2', kind: 'tree' }]]);
  await replica.transaction(async (transaction) => {
    for (let n = 0; n < 5; n++) await transaction.update('plant', 'p1', { height: n + 4 });
    await transaction.insert('plant', { id: 'p3', bed: 'b1', kind: 'flower', height: 6 });
  });
  expect(results).toHaveLength(2);
  expect(results[1]).toMatchObject({
    origin: 'device',
    added: [{ id: 'p1' }, { id: 'p3' }],
    updated: [],
    removed: [],
    ready: true,
  });
  expect(results[1]?.rows[1]).toBe(results[0]?.rows[0]);
  await replica.update('plant', 'p1', { height: 1 });
  expect(results[2]).toMatchObject({ removed: [{ id: 'p1', kind: 'herb' }] });
  await expect(
    replica.transaction(async (transaction) => {
      await transaction.update('plant', 'p1', { height: 99 });
      throw new Error('changed my mind');
    }),
  ).rejects.toThrow('changed my mind');
  expect(results).toHaveLength(3);
  expect(others).toBe(1);
  stop();
  stop();
  await replica.update('plant', 'p1', { height: 50 });
  expect(results).toHaveLength(3);
  await replica.close();
});

test('joins, summaries, SQL templates and settings are live as well', async () => {
  const replica = await planted();
  const latest: Record<string, readonly unknown[]> = {};
  const follow = (name: string) => (result: Result<unknown>) => {
    latest[name] = result.rows;
  };
  replica
    .live({ from: 'bed', join: { plants: { from: 'plant', by: 'bed', order: ['height', 'desc'] } } })
    .subscribe(follow('join'));
  replica
    .liveSummary({ from: 'plant', by: ['kind'], measures: { how: 'count', tallest: ['max', 'height'] } })
    .subscribe(follow('summary'));
  replica
    .liveSelect(sql`SELECT name, (SELECT count(*) FROM plant WHERE bed = bed.id AND height > ${4}) AS tall FROM bed`)
    .subscribe(follow('select'));
  await replica.insert('plant', { id: 'p3', bed: 'b1', kind: 'tree', height: 20 });
  expect(latest.join).toMatchObject([{ id: 'b1', plants: [{ id: 'p3' }, { id: 'p2' }, { id: 'p1' }] }]);
  expect(latest.summary).toEqual([
    { kind: 'herb', how: 1, tallest: 3 },
    { kind: 'tree', how: 2, tallest: 20 },
  ]);
  expect(latest.select).toEqual([{ name: 'north', tall: 2 }]);
  await replica.close();
});

test('a listener hears old and new row, kind and origin, of the rows it asked for', async () => {
  const world = await World.inTest(garden);
  const replica = await world.replica();
  const heard: unknown[] = [];
  await replica.insert('bed', { id: 'b1', name: 'north' });
  const stop = replica.listen('plant', (events) => heard.push(...events), { where: { height: { '>': 5 } } });
  await replica.insert('plant', { id: 'p1', bed: 'b1', kind: 'herb', height: 3 });
  await replica.update('plant', 'p1', { height: 8 });
  await replica.sync();
  const shell = await world.shell();
  await shell.exec(
    "UPDATE plant SET height = 2 WHERE id = 'p1'; INSERT INTO plant VALUES ('p2', 'b1', 'tree', NULL, 30, 0, '[]')",
  );
  await replica.sync();
  stop();
  await replica.delete('plant', 'p2');
  expect(heard).toMatchObject([
    { kind: 'update', id: 'p1', before: { height: 3 }, after: { height: 8 }, origin: 'device' },
    { kind: 'update', id: 'p1', before: { height: 8 }, after: { height: 2 }, origin: 'server' },
    { kind: 'insert', id: 'p2', before: null, after: { height: 30 }, origin: 'server' },
  ]);
});

test('what cannot be run reaches the subscriber, and a subscriber that throws does not harm the others', async () => {
  const replica = await planted();
  const failures: unknown[] = [];
  replica.live({ from: 'plant', where: { hieght: 3 } as never }).subscribe(
    () => undefined,
    (error) => failures.push(error),
  );
  replica.liveSelect(sql`DELETE FROM plant`).subscribe(
    () => undefined,
    (error) => failures.push(error),
  );
  await replica.count({ from: 'plant' });
  expect(failures).toMatchObject([{ code: 'unknown-column', column: 'hieght' }, { code: 'query-writes' }]);
  const later: (() => void)[] = [];
  const spy = vi.spyOn(globalThis, 'queueMicrotask').mockImplementation((callback) => void later.push(callback));
  let reached = 0;
  const query: LiveQuery<Row<Garden, 'plant'>> = replica.live({ from: 'plant' });
  query.subscribe(({ rows }) => {
    if (rows.length === 3) throw new Error('a subscriber’s mistake');
  });
  query.subscribe(() => reached++);
  await replica.insert('plant', { id: 'p3', bed: 'b1', kind: 'herb' });
  spy.mockRestore();
  expect(later).toHaveLength(1);
  expect(later[0]).toThrow('a subscriber’s mistake');
  expect(reached).toBe(2);
  await replica.close();
});

test('a live query is an async iterable and a standard Observable', async () => {
  const replica = await planted();
  const seen: number[] = [];
  for await (const { rows } of replica.live({ from: 'plant' })) {
    seen.push(rows.length);
    if (seen.length === 1) {
      await replica.insert('plant', { id: 'p3', bed: 'b1', kind: 'herb' });
      await replica.insert('plant', { id: 'p4', bed: 'b1', kind: 'herb' });
    } else break;
  }
  expect(seen).toEqual([2, 4]);
  const counts: number[] = [];
  const subscription = replica
    .live({ from: 'plant' })
    .asObservable()
    .subscribe({ next: ({ rows }) => counts.push(rows.length) });
  await replica.delete('plant', 'p4');
  subscription.unsubscribe();
  await replica.delete('plant', 'p3');
  expect(counts).toEqual([4, 3]);
  await replica.close();
});

test('live queries follow what another process writes into the same file', async () => {
  const world = await World.inTest(garden);
  const [here, there] = [await world.replica({ file: 'shared.db' }), await world.replica({ file: 'shared.db' })];
  const names: string[][] = [];
  here.live({ from: 'bed', order: 'name' }).subscribe(({ rows }) => names.push(rows.map(({ name }) => name)));
  await there.insert('bed', { name: 'north' });
  await here.insert('bed', { name: 'south' });
  await expect.poll(() => names.at(-1)).toEqual(['north', 'south']);
});
