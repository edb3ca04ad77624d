import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica } from '@koinon/client';
import { openSource, type SourceAnswer, type SourceRequest } from '@koinon/client/sources';
import { type NewRow, real, reference, schema, table, text } from '@koinon/core';
import { expect, onTestFinished, test, vi } from 'vitest';

// Tables that a service of others fills: its answers come late, wrong, never, or not at all.

const apiary = schema({
  site: table({ name: text() }),
  forecast: table(
    { site: reference('site'), degrees: real({ minimum: -60 }), wind: text({ optional: true }) },
    { home: 'device' },
  ),
});
type Row = NewRow<typeof apiary, 'forecast'>;

const row = (site: string, degrees: number, wind?: string): Row => ({ id: site, site, degrees, ...(wind && { wind }) });

async function device(name = 'phone.db') {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-sources-'));
  const open = () => openReplica({ schema: apiary, file: join(folder, name) });
  const replica = await open();
  for (const site of ['a', 'b', 'c']) await replica.insert('site', { id: site, name: `Site ${site}` });
  onTestFinished(() => rm(folder, { recursive: true, force: true }));
  return { replica, open };
}

test('rows follow the service: only what differs changes, all at once; age and validators outlive the process', async () => {
  const { replica, open } = await device();
  let answer: SourceAnswer<Row> = { rows: [row('a', 12, 'west'), row('b', 9)], etag: '"1"', lastModified: 'Tue' };
  const asked: Omit<SourceRequest, 'signal'>[] = [];
  const refresh = async ({ etag, lastModified }: SourceRequest) => {
    asked.push({ etag, lastModified });
    return answer;
  };
  const source = await openSource(replica, 'forecast', { refresh });
  expect(source.state).toEqual({ phase: 'idle', checkedAt: null, isStale: true, error: null });
  await source.refresh();
  expect(source.state).toMatchObject({ phase: 'idle', isStale: false, error: null });
  const events: string[] = [];
  replica.listen('forecast', (heard) => void events.push(...heard.map(({ kind, id }) => `${kind} ${id}`)));
  const seen: number[] = [];
  const stop = replica.live({ from: 'forecast' }).subscribe(({ rows }) => void seen.push(rows.length));
  answer = { rows: [row('a', 12), row('c', 4)], etag: '"2"' };
  await source.refresh();
  await expect.poll(() => events.sort()).toEqual(['delete b', 'insert c', 'update a']);
  expect(await replica.rows({ from: 'forecast', order: 'id', join: { at: { by: 'site' } } })).toMatchObject([
    { id: 'a', degrees: 12, wind: null, at: { name: 'Site a' } },
    { id: 'c', degrees: 4 },
  ]);
  answer = 'unchanged';
  await source.refresh();
  expect(asked).toEqual([
    { etag: undefined, lastModified: undefined },
    { etag: '"1"', lastModified: 'Tue' },
    { etag: '"2"', lastModified: undefined },
  ]);
  // No query has seen a part of an answer.
  expect(seen.filter((length) => length !== 2)).toEqual([]);
  stop();
  // Nothing of it is to be sent.
  expect((await replica.outbox()).flatMap(({ changes }) => changes.map(({ table: of }) => of))).not.toContain(
    'forecast',
  );
  const { checkedAt } = source.state;
  await source.close();
  await replica.close();
  const again = await open();
  const reopened = await openSource(again, 'forecast', { refresh });
  expect(reopened.state.checkedAt).toBe(checkedAt);
  await reopened.refresh();
  expect(asked.at(-1)?.etag).toBe('"2"');
  await reopened.close();
  await again.close();
});

test('an answer that fails, does not fit or never comes leaves the rows as they are, and says why', async () => {
  const { replica } = await device();
  let refresh: (request: SourceRequest) => Promise<SourceAnswer<Row>> = async () => ({ rows: [row('a', 12)] });
  const source = await openSource(replica, 'forecast', { refresh: (request) => refresh(request), timeout: 50 });
  await source.refresh();
  const { checkedAt } = source.state;
  const rows = await replica.rows({ from: 'forecast' });
  let wasCut = false;
  for (const [answer, wrong] of [
    [async () => Promise.reject(new TypeError('no route')), { message: 'no route' }],
    [async () => ({ rows: [row('b', 3), row('c', -100)] }), { code: 'value-range' }],
    [async () => ({ rows: [row('b', 3), row('nowhere', 1)] }), { code: 'no-such-reference' }],
    [async () => ({ rows: [{ site: 'a', degrees: 1 }] }), { code: 'value-missing' }],
    [async () => ({ rows: [row('b', 3), { ...row('c', 1), colour: 'red' }] }), { code: 'unknown-column' }],
    [
      ({ signal }) =>
        new Promise(() => {
          signal.addEventListener('abort', () => {
            wasCut = true;
          });
        }),
      { code: 'source-timeout' },
    ],
  ] as [typeof refresh, object][]) {
    refresh = answer;
    await expect(source.refresh()).rejects.toMatchObject(wrong);
    expect(source.state).toMatchObject({ phase: 'waiting', checkedAt, error: wrong });
    expect(await replica.rows({ from: 'forecast' })).toEqual(rows);
  }
  expect(wasCut).toBe(true);
  refresh = async () => 'unchanged';
  await source.refresh();
  expect(source.state).toMatchObject({ phase: 'idle', error: null });
  await expect(openSource(replica, 'site' as 'forecast', { refresh })).rejects.toMatchObject({
    code: 'argument-invalid',
  });
  await source.close();
  await replica.close();
});

test('it asks by itself: at intervals, after a failure later and later, not while it must not, and never after it was closed', async () => {
  const { replica } = await device();
  vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout', 'Date'] });
  onTestFinished(() => void vi.useRealTimers());
  let [asked, isAllowed, isDown] = [0, true, false];
  const source = await openSource(replica, 'forecast', {
    interval: 60_000,
    allow: () => isAllowed,
    async refresh() {
      asked++;
      if (isDown) throw new TypeError('no route');
      return { rows: [row('a', asked)] };
    },
  });
  const states: string[] = [];
  source.subscribe(() => void states.push(source.state.phase));
  const pass = async (milliseconds: number) => {
    await vi.advanceTimersByTimeAsync(milliseconds);
    // The database answers in real time.
    for (let n = 0; n < 50; n++) await new Promise((done) => setImmediate(done));
  };
  await pass(0);
  expect(asked).toBe(1);
  await pass(60_000);
  expect([asked, (await replica.get('forecast', 'a'))?.degrees]).toEqual([2, 2]);
  isAllowed = false;
  await pass(60_000);
  expect([asked, source.state.phase]).toEqual([2, 'held-back']);
  // By hand it is asked in any case.
  await source.refresh();
  expect(asked).toBe(3);
  isAllowed = true;
  isDown = true;
  await pass(60_000);
  expect([asked, source.state.phase]).toEqual([4, 'waiting']);
  await pass(2_000);
  expect(asked).toBe(4);
  await pass(3_000);
  expect(asked).toBe(5);
  // The second delay is 5 to 10 seconds, the first was 2.5 to 5.
  await pass(2_400);
  expect(asked).toBe(5);
  expect(source.state.isStale).toBe(false);
  await pass(180_000);
  expect(source.state.isStale).toBe(true);
  const before = asked;
  await source.close();
  await pass(600_000);
  expect([asked, states.includes('refreshing')]).toEqual([before, true]);
  vi.useRealTimers();
  await replica.close();
});
