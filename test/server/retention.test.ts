import { openReplica } from '@koinon/client';
import { schema, table, text } from '@koinon/core';
import { RetentionJob, renewKeyPostgres, renewKeySqlite, serveInProcess, sqliteStore } from '@koinon/server';
import { expect, test, vi } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { BadNetwork, garden, rowsOf, World } from '../support/world.ts';

// The records that the server keeps for a time only, and whom it has met.

const day = 86_400_000;

/** A server whose days pass when the test says so. */
async function years() {
  const world = await World.of(garden);
  const store = await sqliteStore(garden, world.path('server.db'));
  let now = Date.now();
  const retention = new RetentionJob(store, { now: () => now });
  const shell = await world.shell();
  const later = async (days: number) => {
    // Time is noted as it would be by a server that runs all along.
    for (let passed = 0; passed < days; passed++) {
      await retention.tidy();
      now += day;
    }
    // Receipts carry the server's own clock: it has moved on as well.
    await shell.exec(
      `UPDATE koinon_receipt SET received_at = strftime('%Y-%m-%dT%H:%M:%fZ', julianday(received_at) - ${days})`,
    );
    await retention.tidy();
  };
  const left = async (table: 'koinon_stamp WHERE deleted' | 'koinon_receipt') =>
    (await shell.all<{ n: number }>(`SELECT count(*) AS n FROM ${table}`))[0]?.n;
  return { world, shell, later, left, end: () => Promise.all([store.close(), world.end()]) };
}

test('after 90 days deletions and receipts are gone; a device away for longer starts over and loses nothing, one that was not just hears of them', async () => {
  const { world, shell, later, left, end } = await years();
  const network = new BadNetwork(world.server.url);
  const away = await world.replica({ server: network });
  const near = await world.replica();
  await away.insert('bed', { id: 'b', name: 'north' });
  await away.insertAll('plant', [
    { id: 'kept', bed: 'b', kind: 'herb' },
    { id: 'gone', bed: 'b', kind: 'herb' },
    { id: 'edited', bed: 'b', kind: 'herb' },
  ]);
  await away.sync();
  await near.sync();
  // Confirmed and not seen again; then sent with its reply lost; then never sent.
  await away.add('plant', 'kept', 'watered', 5);
  await away.sync({ direction: 'push' });
  await away.add('plant', 'kept', 'watered', 100);
  network.fates.push('lost reply');
  await away.sync({ direction: 'push' }).catch(() => undefined);
  await away.update('plant', 'edited', { label: 'typed here' });
  await away.insert('plant', { id: 'mine', bed: 'b', kind: 'tree' });
  await shell.exec("DELETE FROM plant WHERE id = 'gone'");
  await later(60);
  expect((await near.sync()).startedOver).toBe(false);
  expect(await near.get('plant', 'gone')).toBeUndefined();
  expect(await left('koinon_stamp WHERE deleted')).toBe(1);
  await shell.exec("UPDATE plant SET label = 'from the office' WHERE id = 'kept'");
  await later(31);
  expect([await left('koinon_stamp WHERE deleted'), await left('koinon_receipt')]).toEqual([0, 0]);

  const report = await away.sync();
  expect(report.startedOver).toBe(true);
  expect(await away.rejections()).toMatchObject([{ problems: [{ code: 'outcome-unknown' }], rows: [{ id: 'kept' }] }]);
  // The office's database has what was confirmed once, and what was lost on the way is the person's to decide.
  await away.revert('plant', 'kept');
  expect(await away.get('plant', 'kept')).toMatchObject({ watered: 105, label: 'from the office' });
  expect(await away.get('plant', 'gone')).toBeUndefined();
  await away.sync();
  await near.sync();
  expect(await rowsOf(away)).toEqual(await rowsOf(shell));
  expect(await rowsOf(near)).toEqual(await rowsOf(shell));
  expect(await near.get('plant', 'edited')).toMatchObject({ label: 'typed here' });
  expect(await near.get('plant', 'mine')).toBeDefined();
  await end();
});

test.each(storeKinds)(
  '%s: what a row held before is forgotten as well; a device from after that still hears that the row has left it',
  async (kind) => {
    const things = schema({ thing: table({ owner: text({ filterable: true }) }) });
    const world = await World.inTest(things, kind);
    const store = await world.database.open(things);
    let now = Date.now();
    const retention = new RetentionJob(store, { now: () => now });
    const later = async (days: number) => {
      for (let passed = 0; passed < days; passed += 10) {
        await retention.tidy();
        now += 10 * day;
      }
      await retention.tidy();
    };
    const shell = await world.shell();
    const stamps = kind === 'SQLite' ? 'koinon_stamp' : 'koinon.stamp';
    const held = async () => {
      const rows = await shell.all<{ past: string }>(
        `SELECT CAST(past AS text) AS past FROM ${stamps} ORDER BY row_id`,
      );
      return rows.map(({ past }) => Object.keys(JSON.parse(past)).map((values) => JSON.parse(values).owner));
    };
    const give = (id: string, owner: string) => shell.exec(`UPDATE thing SET owner = '${owner}' WHERE id = '${id}'`);
    await shell.exec("INSERT INTO thing VALUES ('a', 'ida'), ('b', 'ida')");
    for (const owner of ['bo', 'cy', 'ida']) await give('a', owner);
    await give('b', 'bo');
    await give('b', 'ida');
    expect((await held()).map((owners) => owners.sort())).toEqual([
      ['bo', 'cy', 'ida'],
      ['bo', 'ida'],
    ]);
    await later(60);
    const replica = await world.closed(
      openReplica({ schema: things, server: world.server.url, only: { where: { thing: { owner: 'ida' } } } }),
    );
    await replica.sync();
    await give('a', 'dee');
    await give('a', 'eve');
    await later(40);
    // A transaction of another database of the server may be open, and keep a day's position back.
    await expect
      .poll(async () => {
        await later(1);
        return (await held()).map((owners) => owners.sort());
      })
      .toEqual([['dee', 'ida'], []]);
    expect((await replica.sync()).down).toMatchObject({ leave: 1 });
    expect((await replica.rows({ from: 'thing' })).map(({ id }) => id)).toEqual(['b']);
    await store.close();
  },
);

test('a first download that was left half done for too long begins again', async () => {
  const { world, shell, later, end } = await years();
  await shell.exec(
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 7000) INSERT INTO bed SELECT 'b' || i, 'bed ' || i, 1 FROM n",
  );
  const network = new BadNetwork(world.server.url);
  const { pull } = network;
  let pages = 0;
  network.pull = (request, signal) =>
    ++pages === 2 ? Promise.reject(new Error('the signal went')) : pull(request, signal);
  const replica = await world.replica({ server: network });
  await replica.sync().catch(() => undefined);
  expect(await replica.count({ from: 'bed' })).toBe(5_000);
  // Of a page that has come already, and of one that has not.
  await shell.exec("DELETE FROM bed WHERE id IN ('b1', 'b999')");
  await later(100);
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
  await end();
});

test('ten thousand deletions are forgotten in small steps, between which the server answers', async () => {
  const { world, shell, later, left, end } = await years();
  await shell.exec(
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 10000) INSERT INTO bed SELECT 'b' || i, 'bed ' || i, 1 FROM n; DELETE FROM bed",
  );
  await later(1);
  const replica = await world.replica();
  let answered = 0;
  let isOver = false;
  const forgetting = later(95).finally(() => {
    isOver = true;
  });
  while (!isOver) {
    await replica.sync();
    answered++;
  }
  await forgetting;
  expect(await left('koinon_stamp WHERE deleted')).toBe(0);
  expect(answered).toBeGreaterThan(5);
  await end();
});

test('the server knows its replicas; one that is blocked is refused, and keeps its data', async () => {
  const { world, shell, end } = await years();
  const live = () =>
    world.closed(openReplica({ schema: garden, server: world.server.url, sync: { minDelay: 50, maxDelay: 200 } }));
  const [replica, another] = [await live(), await live()];
  const stateOf = async (each: typeof replica) => {
    for await (const { rows } of each.syncState()) return rows[0]?.error?.code ?? rows[0]?.phase;
  };
  const states = () => Promise.all([replica, another].map((each) => stateOf(each)));
  await replica.insert('bed', { name: 'north' });
  await replica.sync();
  const { replicaId } = await replica.status();
  await world.restart();
  const store = await sqliteStore(garden, world.path('server.db'));
  const met = (await store.read((reader) => reader.replicas())).find(({ id }) => id === replicaId);
  await expect.poll(states).toEqual(['live', 'live']);
  expect(met).toMatchObject({
    id: replicaId,
    schemaVersion: 1,
    rowsUp: 1,
    position: expect.any(Number),
    isBlocked: false,
  });
  expect(await store.write((writer) => writer.blockReplica(replicaId, true))).toBe(true);
  // The server that is running hears of it, and so does who is connected; somebody else stays.
  await expect.poll(states).toEqual(['replica-blocked', 'live']);
  await replica.insert('bed', { name: 'south' });
  await expect(replica.sync()).rejects.toMatchObject({ code: 'replica-blocked' });
  await store.close();
  expect(await replica.status()).toMatchObject({ pending: 1 });
  expect(await shell.all('SELECT count(*) AS n FROM bed')).toEqual([{ n: 1 }]);
  await end();
});

test.each(storeKinds)(
  '%s: the key of cursors is renewed under running servers; old cursors are read as long as deletions are kept, and nobody else can read any',
  async (kind) => {
    vi.useFakeTimers({ toFake: ['Date'] });
    const world = await World.of(garden, kind);
    const { address } = world.database;
    const pull = async (cursor?: string) => {
      const { lines } = await world.request('/v1/pull', cursor === undefined ? {} : { cursor });
      return lines[0] as never as { readonly cursor?: string; readonly code?: string };
    };
    const readKeys = async () => world.store.keys.replace(await world.store.read((reader) => reader.cursorKeys()));
    const first = (await pull()).cursor as string;
    expect(first).toMatch(/^1\./);
    expect(Buffer.from(first.split('.')[1] as string, 'base64url').toString()).not.toContain('known');
    const putBack = await world.backup();
    const other = await world.database.open(garden);
    expect(await (kind === 'SQLite' ? renewKeySqlite(address) : renewKeyPostgres(address))).toBe(2);
    await readKeys();
    expect((await pull(first)).cursor, 'others have not read it yet').toMatch(/^1\./);
    vi.setSystemTime(Date.now() + 61_000);
    const second = (await pull(first)).cursor as string;
    expect(second).toMatch(/^2\./);
    expect((await pull(second)).cursor).toMatch(/^2\./);
    const elsewhere = serveInProcess({ store: other }).connect();
    expect((await elsewhere.pull({ cursor: second })).header.kind, 'a process that has not read the new key').toBe(
      'changes',
    );
    await other.close();
    expect((await pull(second.replace(/^2/, '1'))).code).toBe('unknown-cursor');
    const retention = new RetentionJob(world.store, { now: () => Date.now() + 91 * day });
    await retention.tidy();
    await readKeys();
    expect((await pull(first)).code).toBe('forgotten-cursor');
    expect((await pull(second)).code, 'what it stands on is kept').not.toBe('unknown-cursor');
    await putBack();
    expect((await pull(second)).code, 'the database does not know the key any more').toBe('feed-restored');
    await world.end();
    vi.useRealTimers();
  },
);
