import { inspectReplica, type Replica } from '@koinon/client';
import { integer, type KoinonError, oneOf, reference, type Schema, schema, table, text } from '@koinon/core';
import { type Rules, writeRows } from '@koinon/server';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// The server's rules: what it checks, fills in and derives; how its refusals reach the person; what was deleted and comes back.

const shop = schema({
  customer: table({ name: text({ unique: true }), orders: integer({ default: 0 }) }),
  order: table({
    customer: reference('customer'),
    number: integer({ assigned: true }),
    note: text({ default: '' }),
    amount: integer({ default: 1, minimum: 0 }),
    speed: oneOf(['slow', 'fast'], { default: 'slow' }),
  }),
});
type Shop = typeof shop;

let held: { entered: () => void; left: Promise<void> } | undefined;
const rules: Rules<Shop> = {
  customer: {
    validate: async ({ after }) => {
      if (held && after?.name === 'slow to check') {
        held.entered();
        await held.left;
      }
      return after?.name.startsWith('!') ? [{ column: 'name', message: 'A name does not begin with !.' }] : undefined;
    },
  },
  order: {
    before: async ({ kind, after }, { query }) => {
      if (after?.note === 'fail in before') throw new Error('secret of the server');
      const [last] = await query<{ last: number | null }>('SELECT max(number) AS last FROM "order"');
      return {
        ...(kind === 'insert' ? { number: Number(last?.last ?? 100) + 1 } : {}),
        ...(after && after.note !== after.note.trim() ? { note: after.note.trim() } : {}),
      };
    },
    validate: async ({ after, changed }, { get, signal }) => {
      if (after?.note === 'too slow') await new Promise((resolve) => signal.addEventListener('abort', resolve));
      if (after?.note === 'nonsense') return 'no' as never;
      const problems = [];
      if (after && after.amount > 10) problems.push({ column: 'amount', message: 'We have ten at most.' });
      if (
        after &&
        changed.includes('speed') &&
        after.speed === 'fast' &&
        (await get('customer', after.customer))?.name === 'new'
      )
        problems.push({ column: 'speed', message: 'New customers wait.' });
      return problems;
    },
    after: async ({ kind, after, before }, { get, update }) => {
      const id = (after ?? before)?.customer as string;
      const customer = await get('customer', id);
      const change = kind === 'insert' ? 1 : kind === 'delete' ? -1 : 0;
      if (customer && change !== 0) await update('customer', id, { orders: customer.orders + change });
    },
  },
};

let world: World<Shop>;
let mine: Replica<Shop>;
let theirs: Replica<Shop>;
const problems = async () =>
  (await mine.rejections()).flatMap((each) => each.problems.map(({ code, column }) => [code, column]));

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    held = undefined;
    world = await World.of(shop, kind, { rules, ruleTimeLimit: 300 });
    [mine, theirs] = [await world.replica({ file: 'mine.db' }), await world.replica()];
    await mine.insert('customer', { id: 'c', name: 'new' });
    await mine.sync();
    await theirs.sync();
  });
  afterEach(() => world.end());

  test('what hooks fill in, correct and derive is on the device with the confirmation, and on every other', async () => {
    await mine.insert('order', { id: 'o', customer: 'c', note: '  by post ' });
    await mine.sync({ direction: 'push' });
    expect(await mine.get('order', 'o'), 'before anything was pulled').toMatchObject({ number: 101, note: 'by post' });
    await mine.update('order', 'o', { amount: 2 });
    await mine.sync();
    await theirs.sync();
    for (const replica of [mine, theirs]) {
      expect(await replica.get('order', 'o')).toMatchObject({ number: 101, note: 'by post', amount: 2 });
      expect(await replica.get('customer', 'c')).toMatchObject({ orders: 1 });
    }
    // What a hook wrote is not the device's own: who did not see it yet is overtaken by it.
    await theirs.insert('order', { id: 'p', customer: 'c', note: ' x ' });
    await theirs.sync({ direction: 'push' });
    await theirs.update('order', 'p', { note: 'mine' });
    expect((await theirs.sync({ direction: 'push' })).up).toMatchObject({ stale: 1 });
  });

  test('a refusal names every reason by column, holds what depends on it, and lets everything else go on', async () => {
    await mine.insert('order', { id: 'o', customer: 'c', amount: 11, speed: 'fast' });
    await mine.update('order', 'o', { note: 'depends on it' });
    await mine.insert('order', { id: 'p', customer: 'c' });
    await mine.sync();
    expect((await problems()).sort()).toEqual([
      ['rule-refused', 'amount'],
      ['rule-refused', 'speed'],
    ]);
    const [refused] = await mine.rejections();
    expect(refused?.problems.map((problem) => Object.keys(problem).sort())[0], 'and nothing of what was sent').toEqual([
      'code',
      'column',
      'id',
      'message',
      'table',
    ]);
    await theirs.sync();
    expect((await theirs.rows({ from: 'order' })).map(({ id }) => id)).toEqual(['p']);
    expect(await theirs.get('customer', 'c'), 'nothing of it was kept').toMatchObject({ orders: 1 });
    await mine.update('order', 'o', { amount: 10, speed: 'slow' });
    await mine.sync();
    await theirs.sync();
    expect(await theirs.get('order', 'o')).toMatchObject({ amount: 10, note: 'depends on it', number: 102 });
    expect([await mine.outbox(), await mine.rejections()]).toEqual([[], []]);
    await mine.update('order', 'o', { amount: 99 });
    await mine.sync();
    await mine.revert('order', 'o');
    expect(await mine.get('order', 'o')).toMatchObject({ amount: 10 });
  });

  test.each(['fail in before', 'nonsense', 'too slow'])(
    'a rule that goes wrong (%s) refuses only what it was asked about, without telling its inside; it can be sent again',
    async (note) => {
      await mine.insert('order', { id: 'o', customer: 'c', note });
      await mine.insert('order', { id: 'p', customer: 'c' });
      await mine.sync();
      const [refused] = await mine.rejections();
      expect(refused?.problems).toMatchObject([{ code: 'rule-failed', table: 'order', id: 'o' }]);
      expect(JSON.stringify(refused)).not.toContain('secret');
      await theirs.sync();
      expect((await theirs.rows({ from: 'order' })).map(({ id }) => id)).toEqual(['p']);
      await mine.resend(refused?.transaction as string);
      expect(await mine.rejections()).toEqual([]);
      await mine.sync();
      expect(await problems(), 'asked again').toEqual([['rule-failed', undefined]]);
      await mine.update('order', 'o', { note: 'fine' });
      await mine.sync();
      expect(await mine.outbox()).toEqual([]);
    },
  );

  test('history 13: while a validator awaits, others read and write and see nothing of it', async () => {
    let leave = () => {};
    const entered = new Promise<void>((resolve) => {
      const left = new Promise<void>((done) => {
        leave = done;
      });
      held = { entered: resolve, left };
    });
    await mine.insert('customer', { id: 's', name: 'slow to check' });
    const syncing = mine.sync();
    await entered;
    const { down } = await theirs.sync({ direction: 'pull' });
    expect(down).toMatchObject({ insert: 0, update: 0, delete: 0 });
    await theirs.insert('customer', { id: 't', name: '!refused' });
    const other = theirs.sync();
    await new Promise((resolve) => setTimeout(resolve, 50));
    leave();
    await Promise.all([syncing, other]);
    await theirs.sync();
    expect((await theirs.rows({ from: 'customer' })).map(({ id }) => id)).toEqual(['c', 's', 't']);
    expect(await theirs.rejections()).toMatchObject([{ rows: [{ id: 't' }] }]);
  });

  test('an import that is refused row by row names each reason at its row, and holds up nothing else', async () => {
    const many = 12_000;
    await mine.insertAll(
      'customer',
      Array.from({ length: many }, (_, n) => ({ id: `c${n}`, name: `!${n}` })),
    );
    await mine.insert('order', { id: 'o', customer: 'c' });
    expect((await mine.sync()).up).toMatchObject({ applied: 1, rejected: 1 });
    expect((await mine.rejections())[0]?.problems).toHaveLength(many);
    const [row] = await mine.rows({ from: 'customer', where: { id: 'c7' }, join: { sync: 'status' } });
    expect(row?.sync).toMatchObject({ status: 'rejected', problems: [{ id: 'c7', column: 'name' }] });
    const file = await inspectReplica(world.path('mine.db'));
    expect(file.outbox()[0]?.problems).toHaveLength(many);
    file.close();
  });

  test('a unique value taken and a referenced row deleted meanwhile are refusals at their columns, and can be mended', async () => {
    await theirs.insert('customer', { id: 'd', name: 'dora' });
    await theirs.sync();
    await mine.sync();
    await theirs.insert('customer', { id: 'e', name: 'taken' });
    await theirs.delete('customer', 'd');
    await theirs.sync();
    await mine.insert('customer', { id: 'f', name: 'taken' });
    await mine.insert('order', { id: 'o', customer: 'd' });
    await mine.sync();
    expect((await problems()).sort()).toEqual([
      ['duplicate-value', 'name'],
      ['no-such-reference', 'customer'],
    ]);
    await mine.update('customer', 'f', { name: 'free' });
    await mine.update('order', 'o', { customer: 'f' });
    await mine.sync();
    expect([await mine.outbox(), await mine.rejections()]).toEqual([[], []]);
  });

  test('the status of rows comes with a query, live, with what changed, the base, the reasons and what it waits for', async () => {
    await mine.insert('order', { id: 'o', customer: 'c' });
    await mine.sync();
    const results: unknown[] = [];
    const query = { from: 'order', join: { sync: 'status' } } as const;
    const stop = mine.live(query).subscribe(({ rows, ready }) => {
      if (ready) results.push(rows.map(({ id, sync }) => [id, sync.status, sync.isNew, sync.changed.join()]));
    });
    await mine.rows(query);
    await mine.update('order', 'o', { amount: 50 });
    expect(results.at(-1)).toEqual([['o', 'pending', false, 'amount']]);
    await mine.transaction(async (transaction) => {
      await transaction.insert('order', { id: 'p', customer: 'c' });
      const [, p] = await transaction.rows(query);
      expect(p?.sync, 'within the transaction').toMatchObject({ status: 'pending', isNew: true, base: null });
    });
    await mine.sync();
    expect(results.at(-1)).toEqual([
      ['o', 'rejected', false, 'amount'],
      ['p', 'synced', false, ''],
    ]);
    await mine.transaction(async (transaction) => {
      await transaction.update('order', 'o', { note: 'more' });
      await transaction.update('order', 'p', { note: 'with it' });
    });
    const [o] = await mine.rows({ ...query, where: { id: 'o' } });
    expect(o?.sync.base).toMatchObject({ amount: 1 });
    await mine.update('order', 'o', { amount: 60 });
    await mine.sync();
    await mine.update('order', 'p', { speed: 'fast' });
    await theirs.sync();
    await theirs.update('order', 'p', { speed: 'fast' });
    await theirs.sync();
    const statusOf = async (id: string) => (await mine.rows({ ...query, where: { id } }))[0]?.sync;
    // An edit of any row of what was refused sends all of it again.
    expect(await statusOf('o')).toMatchObject({ status: 'pending', problems: [] });
    await mine.sync();
    expect(await statusOf('o')).toMatchObject({
      status: 'rejected',
      problems: [{ column: 'amount', message: 'We have ten at most.' }],
    });
    stop();
  });

  test('what is deleted can be brought back: unsent, sent, and by the server, with what it held last', async () => {
    await mine.insert('order', { id: 'o', customer: 'c', note: 'é\nline', amount: 3 });
    await mine.sync();
    await theirs.sync();
    await mine.delete('order', 'o');
    await mine.restore('order', 'o');
    expect(await mine.outbox(), 'nothing was sent, nothing is left to send').toEqual([]);
    await mine.delete('order', 'o');
    await mine.sync();
    await theirs.sync();
    expect(await theirs.trash({ table: 'order' })).toMatchObject([
      { table: 'order', id: 'o', columns: { note: 'é\nline', amount: 3, number: 101 } },
    ]);
    await theirs.restore('order', 'o');
    await theirs.sync();
    await mine.sync();
    expect(await mine.get('order', 'o')).toMatchObject({ note: 'é\nline', amount: 3, number: 101 });
    expect([await mine.trash(), await mine.get('customer', 'c')]).toMatchObject([[], { orders: 1 }]);
    await mine.delete('order', 'o');
    await mine.sync();
    expect(await world.request('/v1/restore', { table: 'order', id: 'o' })).toMatchObject({ status: 204 });
    expect(await world.request('/v1/restore', { table: 'order', id: 'o' })).toMatchObject({ status: 404 });
    await expect(theirs.restore('order', 'never')).rejects.toMatchObject({ code: 'no-such-row' });
    await theirs.sync();
    expect(await theirs.get('order', 'o')).toMatchObject({ amount: 3 });
  });

  test('a service of the server writes by the same rules, all or nothing', async () => {
    const change = (id: string, amount: number) =>
      ({ kind: 'insert', table: 'order', id, columns: { customer: 'c', amount } }) as const;
    await expect(writeRows(world.store, [change('x', 1), change('y', 11)], { rules })).rejects.toMatchObject({
      code: 'rule-refused',
      column: 'amount',
    });
    await writeRows(
      world.store,
      [change('x', 1), { kind: 'update', table: 'customer', id: 'c', columns: { name: 'old' } }],
      { rules },
    );
    await mine.sync();
    expect(await mine.rows({ from: 'order' })).toMatchObject([{ id: 'x', number: 101 }]);
    expect(await mine.get('customer', 'c')).toMatchObject({ name: 'old', orders: 1 });
  });
});

describe.each(storeKinds)('what people read on %s', (kind) => {
  const named = schema({
    keeper: table({ name: text({ label: 'the name', unique: true }) }, { label: 'bee-keeper', namedBy: 'name' }),
    skep: table(
      {
        keeper: reference('keeper', { label: 'its keeper', filterable: true }),
        mark: text({ label: 'the mark', minimumLength: 2 }),
        frames: integer({ label: 'the number of frames', default: 0 }),
      },
      {
        label: 'skep',
        namedBy: 'mark',
        check: ({ mark }) => (mark === 'XX' ? [{ message: 'XX is no mark.' }] : undefined),
      },
    ),
  });
  const uuid = /[0-9a-f]{8}-[0-9a-f]{4}-/;
  const unread = [uuid, /UNIQUE|CHECK|FOREIGN|constraint|\bat .*:\d+:\d+/, /(keeper|skep)\.\w/];

  test('messages name rows and columns by their labels and values: no ids, names of columns, or SQL', async () => {
    const world = await World.inTest(named as Schema, kind);
    const [here, there] = (await Promise.all([world.replica(), world.replica()])) as unknown as Replica<typeof named>[];
    if (here === undefined || there === undefined) throw new Error('two replicas');
    const told: string[] = [];
    const tells = async (work: Promise<unknown>) => {
      const error = (await work.then(
        () => undefined,
        (thrown) => thrown,
      )) as KoinonError;
      expect(error.code).toBeDefined();
      told.push(error.message);
      return error;
    };
    const ida = await here.insert('keeper', { name: 'Ida' });
    const skep = await here.insert('skep', { keeper: ida.id, mark: 'A1' });
    expect(await tells(here.insert('keeper', { name: 'Ida' }))).toMatchObject({ column: 'name', table: 'keeper' });
    await tells(here.delete('keeper', ida.id));
    await tells(here.update('skep', skep.id, { mark: 'A' }));
    await tells(here.update('skep', skep.id, { mark: 'XX' }));
    await tells(here.insert('skep', { keeper: '01900000-0000-7000-8000-000000000000', mark: 'A2' }));
    expect(await tells(here.update('skep', '01900000-0000-7000-8000-000000000001', { mark: 'A3' }))).toMatchObject({
      id: '01900000-0000-7000-8000-000000000001',
    });
    await tells(here.resolve('skep', skep.id, 'local'));
    await tells(
      here
        .revert('skep', skep.id)
        .then(() => here.undo())
        .then(() => here.undo()),
    );
    await here.revertAll();
    // By the server: a name that is taken there, a row that is gone, a rule of the database.
    await there.insert('keeper', { name: 'Ida' });
    const old = await there.insert('skep', { keeper: (await there.insert('keeper', { name: 'Tove' })).id, mark: 'B1' });
    await there.sync();
    await here.sync();
    await here.insert('keeper', { name: 'Mika' });
    const shell = await world.shell();
    await shell.exec("INSERT INTO keeper (id, name) VALUES ('office', 'Mika')");
    await here.sync({ direction: 'push' });
    await here.update('skep', old.id, { mark: 'B2' });
    await shell.exec(`DELETE FROM skep`);
    await here.sync();
    for (const { problems } of await here.rejections()) told.push(...problems.map(({ message }) => message));
    expect(told).toEqual([
      'The name "Ida" is taken by another bee-keeper.',
      'Bee-keeper "Ida" cannot be deleted: at least one skep refers to it.',
      expect.stringMatching(/^The mark "A": /),
      'XX is no mark.',
      'Its keeper: There is no such bee-keeper on this device.',
      'There is no such skep on this device.',
      'Skep "A1" is not in conflict.',
      expect.any(String),
      expect.stringMatching(/^The name is taken by another row\.$/),
    ]);
    for (const message of told) for (const each of unread) expect(message).not.toMatch(each);
  });
});
