import { copyFile } from 'node:fs/promises';
import { httpTransport, type Replica, type Transport } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { BadNetwork, type Garden, garden, rowsOf, World } from '../support/world.ts';

// The histories a sync must survive, each by its number in the design's list.

let world: World;
let first: Replica<Garden>;
let second: Replica<Garden>;
const bed = { id: 'bed-1', name: 'north wall' };
const A = { id: 'A', bed: 'bed-1', kind: 'herb', label: 'sage', height: 10 } as const;
const B = { id: 'B', bed: 'bed-1', kind: 'flower', label: 'aster', height: 20 } as const;

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    world = await World.of(garden, kind);
    first = await world.replica();
    second = await world.replica();
    await first.insert('bed', bed);
    await first.insert('plant', A);
    await first.insert('plant', B);
    await first.sync();
    await second.sync();
  });
  afterEach(() => world.end());

  test('history 1: of one old base, the disjoint edit is applied and the overlapping one is stale', async () => {
    await second.update('plant', 'A', { label: 'sage, old' });
    await second.sync();
    await first.update('plant', 'A', { height: 11 });
    await first.update('plant', 'A', { label: 'purple sage' });
    const report = await first.sync({ direction: 'push' });
    expect(report.up).toEqual({ applied: 1, stale: 1, waiting: 0, rejected: 0 });
    const { down } = await first.sync();
    expect(down).toMatchObject({ insert: 0, delete: 0 });
    expect(await first.conflicts()).toMatchObject([
      { table: 'plant', id: 'A', column: 'label', base: 'sage', local: 'purple sage', remote: 'sage, old' },
    ]);
    expect(await first.get('plant', 'A')).toMatchObject({ label: 'purple sage', height: 11 });
    await second.sync();
    expect(await second.get('plant', 'A')).toMatchObject({ label: 'sage, old', height: 11 });
  });

  test('history 2: applied with the reply lost, edited again, changed elsewhere, resent: once, and nothing asked', async () => {
    const network = new BadNetwork(world.server.url);
    const third = await world.replica({ server: network });
    await third.sync();
    await third.transaction(async (transaction) => {
      await transaction.update('plant', 'A', { label: 'mine' });
      await transaction.add('plant', 'A', 'watered', 5);
    });
    network.fates.push('lost reply');
    await expect(third.sync({ direction: 'push' })).rejects.toThrow('the reply was lost');
    await third.update('plant', 'A', { label: 'mine again' });
    await second.sync();
    await second.update('plant', 'A', { height: 99 });
    await second.add('plant', 'A', 'watered', 2);
    await second.sync();
    await third.sync();
    expect(network.bodies[1]).toBe(network.bodies[0]);
    expect(await third.conflicts()).toEqual([]);
    expect(await third.get('plant', 'A')).toMatchObject({ label: 'mine again', height: 99, watered: 7 });
    await second.sync();
    expect(await second.get('plant', 'A')).toMatchObject({ label: 'mine again', height: 99, watered: 7 });
  });

  test('history 3: a replica file copied to a second device doubles nothing and swallows nothing', async () => {
    await first.add('plant', 'A', 'watered', 3);
    await first.close();
    await copyFile(world.path('replica-1.db'), world.path('copy.db'));
    const original = await world.replica({ file: 'replica-1.db' });
    const copy = await world.replica({ file: 'copy.db' });
    await original.update('plant', 'A', { label: 'from the original' });
    await copy.update('plant', 'A', { label: 'from the copy' });
    await original.sync();
    const report = await copy.sync({ direction: 'push' });
    expect(report.up).toMatchObject({ applied: 1, stale: 1 });
    await copy.sync();
    expect(await copy.conflicts()).toMatchObject([
      { column: 'label', local: 'from the copy', remote: 'from the original' },
    ]);
    expect(await copy.get('plant', 'A')).toMatchObject({ watered: 3 });
    expect(await original.get('plant', 'A')).toMatchObject({ watered: 3, label: 'from the original' });
  });

  test('a copy by copyTo has an identity of its own: what both hold unsent is done once, also under a renewed id, and both go on', async () => {
    await second.update('plant', 'A', { height: 77 });
    await second.sync();
    await first.transaction(async (transaction) => {
      await transaction.update('plant', 'A', { height: 11 });
      await transaction.add('plant', 'A', 'watered', 5);
    });
    await first.add('plant', 'B', 'watered', 2);
    await first.copyTo(world.path('copy.db'));
    // Each of them merges what others did meanwhile, and decides: its transaction has another content and another id by then.
    const copy = await world.replica({ file: 'copy.db' });
    for (const replica of [first, copy]) {
      await replica.sync();
      for (const { id, column } of await replica.conflicts())
        await replica.resolve([{ table: 'plant', id, choices: { [column as 'height']: 'local' } }]);
      await replica.add('plant', 'B', 'watered', 1);
      await replica.sync();
    }
    for (const replica of [copy, first, second]) {
      await replica.sync();
      expect(await replica.get('plant', 'A')).toMatchObject({ height: 11, watered: 5 });
      expect(await replica.get('plant', 'B')).toMatchObject({ watered: 4 });
      expect(await replica.outbox()).toEqual([]);
    }
  });

  test('history 5: what depends on a stale transaction waits, and both follow in order', async () => {
    await second.update('plant', 'A', { label: 'theirs' });
    await second.sync();
    await first.transaction(async (transaction) => {
      await transaction.update('plant', 'A', { label: 'theirs' });
      await transaction.update('plant', 'B', { height: 1 });
    });
    await first.update('plant', 'B', { height: 2 });
    const report = await first.sync({ direction: 'push' });
    expect(report.up).toEqual({ applied: 0, stale: 1, waiting: 1, rejected: 0 });
    await first.sync();
    expect(await first.status()).toMatchObject({ pending: 0, conflicted: 0 });
    await second.sync();
    expect(await second.get('plant', 'B')).toMatchObject({ height: 2 });
  });

  test('a held conflict holds what depends on it and lets the rest go', async () => {
    await second.update('plant', 'A', { label: 'theirs' });
    await second.sync();
    await first.update('plant', 'A', { label: 'mine' });
    await first.update('plant', 'A', { height: 12 });
    await first.update('plant', 'B', { height: 21 });
    await first.sync();
    expect(await first.status()).toMatchObject({ pending: 2, conflicted: 1 });
    const shell = await world.shell();
    expect(await rowsOf(shell)).toMatchObject({
      'plant A': { label: 'theirs', height: 10 },
      'plant B': { height: 21 },
    });
    // The server moves on; the conflict follows, still from the base it began with, and ends when both say the same.
    await second.update('plant', 'A', { label: 'theirs, later' });
    await second.sync();
    await first.sync();
    expect(await first.conflicts()).toMatchObject([{ base: 'sage', local: 'mine', remote: 'theirs, later' }]);
    await second.update('plant', 'A', { label: 'mine' });
    await second.sync();
    await first.sync();
    expect(await first.status()).toMatchObject({ pending: 0, conflicted: 0 });
    await second.sync();
    expect(await rowsOf(first)).toEqual(await rowsOf(second));
  });

  test('delete against edit is held in both orders, and deleting on both sides is agreement', async () => {
    await second.delete('plant', 'A');
    await second.delete('plant', 'B');
    await second.sync();
    await first.update('plant', 'A', { label: 'still here' });
    await first.delete('plant', 'B');
    await first.sync();
    expect(await first.conflicts()).toMatchObject([
      { table: 'plant', id: 'A', column: null, local: { label: 'still here' }, remote: null },
    ]);
    expect(await first.get('plant', 'A')).toMatchObject({ label: 'still here' });
    expect(await first.get('plant', 'B')).toBeUndefined();

    await second.insert('plant', { ...A, id: 'C' });
    await second.sync();
    await first.sync();
    await first.delete('plant', 'C');
    await second.update('plant', 'C', { height: 77 });
    await second.sync();
    await first.sync();
    expect((await first.conflicts()).filter(({ id }) => id === 'C')).toMatchObject([
      { column: null, local: null, remote: { height: 77 } },
    ]);
    expect(await first.get('plant', 'C')).toBeUndefined();
  });

  test('a refused transaction is shown with the reasons and lets the rest go', async () => {
    await second.delete('plant', 'B');
    await second.delete('plant', 'A');
    await second.delete('bed', 'bed-1');
    await second.insert('bed', { id: 'bed-2', name: 'pond' });
    await second.sync();
    // Both know nothing of each other: one name twice, and a plant in a bed that is gone.
    await first.insert('bed', { id: 'bed-3', name: 'pond' });
    await first.insert('plant', { id: 'D', bed: 'bed-1', kind: 'tree' });
    await first.insert('bed', { id: 'bed-4', name: 'meadow' });
    const { up } = await first.sync({ direction: 'push' });
    expect(up).toEqual({ applied: 1, stale: 0, waiting: 0, rejected: 2 });
    expect(await first.rejections()).toMatchObject([
      { rows: [{ table: 'bed', id: 'bed-3' }], problems: [{ code: 'duplicate-value', column: 'name' }] },
      { rows: [{ table: 'plant', id: 'D' }], problems: [{ code: 'no-such-reference', column: 'bed' }] },
    ]);
    await second.sync();
    expect(Object.keys(await rowsOf(second)).sort()).toEqual(['bed bed-2', 'bed bed-4']);
  });

  test('a push repeated byte for byte changes nothing; the same id with other changes is refused', async () => {
    const network = new BadNetwork(world.server.url);
    const third = await world.replica({ server: network });
    await third.sync();
    await third.add('plant', 'A', 'watered', 4);
    network.fates.push('sent twice');
    await third.sync({ direction: 'push' });
    const shell = await world.shell();
    const after = await rowsOf(shell);
    const body = network.bodies[0] as string;
    const again = await world.request('/v1/push', body);
    expect(again.lines).toMatchObject([{ outcomes: [{ outcome: 'applied' }] }]);
    const forged = await world.request('/v1/push', body.replace('"add":4', '"add":9'));
    expect(forged.lines).toMatchObject([
      { outcomes: [{ outcome: 'rejected', problems: [{ code: 'transaction-id-reused' }] }] },
    ]);
    expect(await rowsOf(shell)).toEqual(after);
    expect(after).toMatchObject({ 'plant A': { watered: 4 } });
  });

  test('many edits of one column go up in one batch: each may overwrite what the one before it wrote', async () => {
    const network = new BadNetwork(world.server.url);
    const third = await world.replica({ server: network });
    await third.sync();
    for (let n = 1; n <= 20; n++) await third.update('plant', 'A', { label: `edit ${n}`, height: n });
    expect(await third.sync()).toMatchObject({ up: { applied: 20, stale: 0, waiting: 0, rejected: 0 } });
    expect(network.bodies).toHaveLength(1);
    const named = (
      JSON.parse(network.bodies[0] as string) as { transactions: { dependsOn: string[] }[] }
    ).transactions.map(({ dependsOn }) => dependsOn.length);
    expect(named).toEqual([0, ...Array(19).fill(1)]);
  });

  test('syncing again with nothing new moves no row in either direction', async () => {
    await second.update('plant', 'A', { label: 'theirs' });
    await second.sync();
    await first.update('plant', 'B', { label: 'mine' });
    await first.sync();
    await second.sync();
    for (const replica of [first, second]) {
      const report = await replica.sync();
      expect(report).toMatchObject({ received: 0, down: { insert: 0, update: 0, delete: 0 }, up: { applied: 0 } });
    }
  });

  test('history 4: confirmed edits that a restored backup lost come back from the replicas, once, also when the server has gone on since', async () => {
    await first.update('plant', 'B', { label: 'in the backup' });
    await first.add('plant', 'A', 'watered', 7);
    await first.sync();
    await second.sync();
    const restore = await world.backup();
    await second.add('plant', 'A', 'watered', 100);
    await second.update('plant', 'A', { label: 'lost with the server' });
    await second.insert('plant', { ...B, id: 'C', label: 'new and lost' });
    await second.delete('plant', 'B');
    await second.sync();
    await first.sync();
    // On top of what the other had done; and one that no cursor covers yet.
    await first.update('plant', 'A', { height: 33 });
    await first.sync();
    await first.add('plant', 'A', 'watered', 1000);
    await first.sync({ direction: 'push' });
    await first.update('plant', 'C', { height: 44 });
    await restore();
    const shell = await world.shell();
    // The feed has come further than any cursor by the time that somebody asks.
    for (let n = 0; n < 40; n++) await shell.exec(`UPDATE bed SET name = 'gone on ${n}'`);
    await second.close();
    second = await world.replica({ file: 'replica-2.db' });
    for (const replica of [second, first, second, first]) await replica.sync();
    expect(await rowsOf(shell)).toMatchObject({
      'plant A': { label: 'lost with the server', height: 33, watered: 1107 },
      'plant C': { label: 'new and lost', height: 44 },
      'bed bed-1': { name: 'gone on 39' },
    });
    expect(await rowsOf(shell)).not.toHaveProperty('plant B');
    for (const replica of [first, second]) {
      expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
      expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
    }
    // Somebody who did the same thing over after the loss is asked, where it was not the same.
    await second.update('plant', 'A', { label: 'mine' });
    await second.sync();
    await restore();
    await (await world.shell()).exec("UPDATE plant SET label = 'done over by the office' WHERE id = 'A'");
    await second.sync();
    expect(await second.conflicts()).toMatchObject([
      { column: 'label', base: 'sage', local: 'mine', remote: 'done over by the office' },
    ]);
  });

  test('pointed at an empty server, a replica keeps what it has not sent, and nothing else', async () => {
    const elsewhere = await World.of(garden, kind);
    await first.insert('bed', { id: 'mine', name: 'unsent' });
    await first.update('plant', 'A', { label: 'unsent edit' });
    await first.close();
    const moved = await elsewhere.replica({ file: world.path('replica-1.db') });
    expect(await moved.sync()).toMatchObject({ startedOver: true });
    expect(Object.keys(await rowsOf(moved)).sort()).toEqual(['bed mine', 'plant A']);
    expect(await moved.conflicts()).toMatchObject([
      { table: 'plant', id: 'A', column: null, local: { label: 'unsent edit' }, remote: null },
    ]);
    await moved.revert('plant', 'A');
    const shell = await elsewhere.shell();
    expect(await rowsOf(moved)).toEqual(await rowsOf(shell));
    await elsewhere.end();
  });

  test('history 15, its second half: a poisoned transaction in front of 100 good ones is shown, and they go on', async () => {
    const network = new BadNetwork(world.server.url);
    const poisoned: Transport = {
      pull: network.pull,
      push: (body, signal) =>
        body.includes('poison')
          ? Promise.reject(new KoinonError('malformed-request', 'label: this server cannot read it.'))
          : network.push(body, signal),
    };
    const third = await world.replica({ server: poisoned });
    await third.sync();
    await third.update('plant', 'A', { label: 'poison' });
    for (let n = 0; n < 100; n++) await third.insert('plant', { id: `good-${n}`, bed: 'bed-1', kind: 'herb' });
    await third.update('plant', 'A', { height: 1 });
    expect((await third.sync()).up).toEqual({ applied: 100, stale: 0, waiting: 0, rejected: 1 });
    expect(await third.rejections()).toMatchObject([
      { rows: [{ table: 'plant', id: 'A' }], problems: [{ code: 'malformed-request' }] },
    ]);
    expect(await third.status()).toMatchObject({ pending: 1, rejected: 1 });
    await third.revert('plant', 'A');
    expect(await third.status()).toMatchObject({ pending: 0, rejected: 0 });
    expect(await rowsOf(third)).toEqual(await rowsOf(await world.shell()));
  });

  test('history 15, its first half: a transaction of 100,001 rows goes up in parts, over a network that loses, and is applied whole or not at all', async () => {
    const network = new BadNetwork(world.server.url);
    const third = await world.replica({ file: 'third.db', server: network });
    await third.sync();
    const shell = await world.shell();
    await shell.exec("INSERT INTO bed VALUES ('taken', 'taken', true)");
    await third.transaction(async (transaction) => {
      await transaction.insertAll(
        'plant',
        Array.from({ length: 5_000 }, () => ({ bed: 'bed-1', kind: 'herb' as const, label: 'y'.repeat(1_000) })),
      );
      await transaction.insert('bed', { id: 'mine', name: 'taken' });
    });
    expect((await third.sync({ direction: 'push' })).up).toMatchObject({ applied: 0, rejected: 1 });
    expect(network.bodies.length).toBeGreaterThan(4);
    expect(await shell.all("SELECT id FROM plant WHERE label LIKE 'yy%' LIMIT 1")).toEqual([]);
    await third.revertAll();

    await third.insertAll(
      'bed',
      Array.from({ length: 100_001 }, (_, n) => ({ id: `many-${n}`, name: `many ${n} ${'x'.repeat(40)}` })),
    );
    await third.insert('plant', { id: 'after', bed: 'many-100000', kind: 'herb' });
    const beds = async () => (await shell.all<{ n: number }>('SELECT count(*) AS n FROM bed'))[0]?.n;
    network.fates.push('lost reply', 'sent twice', 'sent twice', 'lost request');
    for (const count of [2, 2, 100_003]) {
      await third.sync({ direction: 'push' }).catch(() => undefined);
      expect(await beds()).toBe(count);
    }
    expect(Math.max(...network.bodies.map((body) => body.length))).toBeLessThan(2 * 1024 * 1024);
    expect(await third.status()).toMatchObject({ pending: 0, rejected: 0 });
    expect(await shell.all("SELECT bed FROM plant WHERE id = 'after'")).toEqual([{ bed: 'many-100000' }]);
  });

  test('history 13: while one transaction of the server waits for something, another neither sees nor takes back what it does', async () => {
    const { store } = world;
    let goOn: (() => void) | undefined;
    const waited = new Promise<void>((done) => {
      goOn = done;
    });
    const change = (id: string, label: string) => ({
      kind: 'update' as const,
      table: 'plant',
      id,
      columns: { label },
      operations: {},
    });
    const slow = store.write(async (writer) => {
      await writer.apply([change('A', 'half done')], 'device');
      await waited;
      await writer.apply([change('B', 'half done')], 'device');
      throw new Error('refused after all');
    });
    slow.catch(() => undefined);
    const seen: unknown[] = [];
    // A push over the server's own store, an edit of its other row, and a read, all meanwhile.
    await first.update('plant', 'B', { label: 'from the device' });
    const pushed = first.sync().catch((error: unknown) => error);
    const failing = store.write(async (writer) => {
      await writer.apply([change('B', 'taken back')], 'device');
      throw new Error('this one too');
    });
    failing.catch(() => undefined);
    seen.push(await rowsOf(await world.shell()));
    await new Promise((done) => setTimeout(done, 50));
    goOn?.();
    await expect(slow).rejects.toThrow('refused after all');
    await expect(failing).rejects.toThrow('this one too');
    await pushed;
    await first.sync();
    expect(seen).toMatchObject([{ 'plant A': { label: 'sage' } }]);
    expect(await rowsOf(await world.shell())).toMatchObject({
      'plant A': { label: 'sage' },
      'plant B': { label: 'from the device' },
    });
    expect(await rowsOf(first)).toEqual(await rowsOf(await world.shell()));
  });

  test('history 14: unique values are swapped and passed around on push and arrive so, and a taken one is still refused', async () => {
    for (const n of [2, 3, 4]) await first.insert('bed', { id: `bed-${n}`, name: `name ${n}` });
    await first.sync();
    await second.sync();
    await first.transaction(async (transaction) => {
      await transaction.update('bed', 'bed-1', { name: 'name 2' });
      await transaction.update('bed', 'bed-2', { name: 'north wall' });
    });
    await first.transaction(async (transaction) => {
      // Around three, with a new row that takes a name set free, and one row changed twice.
      await transaction.insert('bed', { id: 'bed-5', name: 'name 3' });
      await transaction.update('bed', 'bed-3', { name: 'on the way' });
      await transaction.update('bed', 'bed-3', { name: 'name 4' });
      await transaction.update('bed', 'bed-4', { name: 'north wall' });
      await transaction.update('bed', 'bed-2', { name: 'last' });
    });
    expect((await first.sync()).up).toEqual({ applied: 2, stale: 0, waiting: 0, rejected: 0 });
    await second.sync();
    const names = (await second.rows({ from: 'bed' })).map(({ id, name }) => [id, name]);
    expect(names).toEqual([
      ['bed-1', 'name 2'],
      ['bed-2', 'last'],
      ['bed-3', 'name 4'],
      ['bed-4', 'north wall'],
      ['bed-5', 'name 3'],
    ]);
    expect(await rowsOf(first)).toEqual(await rowsOf(second));
    await second.update('bed', 'bed-1', { name: 'taken' });
    await second.sync();
    await first.update('bed', 'bed-2', { name: 'taken' });
    expect((await first.sync({ direction: 'push' })).up).toMatchObject({ applied: 0, rejected: 1 });
    expect(await rowsOf(await world.shell())).toMatchObject({ 'bed bed-2': { name: 'last' } });
  });

  test('more confirmed transactions than one pull may ask about: pull after pull asks about the rest, and none is left', async () => {
    const asked: number[] = [];
    const counting = httpTransport(world.server.url);
    const third = await world.replica({
      server: {
        push: counting.push,
        pull(request, signal) {
          asked.push(request.unacknowledged?.length ?? 0);
          return counting.pull(request, signal);
        },
      },
    });
    await third.sync();
    for (let n = 0; n < 2_100; n++) await third.add('plant', 'A', 'watered');
    expect((await third.sync()).up).toMatchObject({ applied: 2_100, rejected: 0 });
    // Brought back as it goes: no pull had to ask about all of them.
    expect(Math.max(...asked)).toBeLessThan(2_100);
    expect(await third.get('plant', 'A')).toMatchObject({ watered: 2_100 });
    expect(await rowsOf(await world.shell())).toMatchObject({ 'plant A': { watered: 2_100 } });
    expect((await third.sync()).received).toBe(0);
  });
});
