import { openReplica, type Replica } from '@koinon/client';
import { integer, KoinonError, reference, schema, sql, table, text } from '@koinon/core';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { furnished, type Household, household, openings } from '../support/household.ts';

// The replica alone, as an app works with it all day.

describe.each(Object.entries(openings))('a replica %s', (_where, open) => {
  let replica: Replica<Household>;
  beforeEach(async () => {
    replica = await furnished(open);
  });
  afterEach(() => replica.close());

  test('a row has its defaults, keeps its values exactly, and is frozen', async () => {
    const row = await replica.insert('thing', {
      name: 'Größe 😀',
      worth: 0.1 + 0.2,
      bought: '2024-02-29',
      seen: '2026-11-23T05:54:28.123Z',
      label: { b: [1, null], a: 'x' },
      picture: new Uint8Array([0, 255]),
      tags: ['z', 'a'],
    });
    expect({ ...(await replica.get('thing', row.id)) }).toEqual({
      id: row.id,
      shelf: null,
      name: 'Größe 😀',
      worth: 0.30000000000000004,
      bought: '2024-02-29',
      seen: '2026-11-23T05:54:28.123Z',
      label: { b: [1, null], a: 'x' },
      picture: new Uint8Array([0, 255]),
      used: 0,
      tags: ['a', 'z'],
      inventory: null,
    });
    expect(await replica.get('my shelf', 's1')).toMatchObject({ order: 7 });
    expect(row.id).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7/);
    for (const each of [row, await replica.get('thing', row.id), (await replica.rows({ from: 'thing' }))[0]])
      expect(() => Object.assign(each as object, { name: 'other' })).toThrow(/FrozenRow_change_it_with_update/);
  });

  test.each<[string, (r: Replica<Household>) => Promise<unknown>, object]>([
    [
      'a table that is not there',
      (r) => r.insert('thnig' as 'thing', { name: 'x' }),
      { code: 'unknown-table', table: 'thnig' },
    ],
    [
      'a column that is not there',
      (r) => r.insert('thing', { name: 'x', colour: 'red' } as never),
      { code: 'unknown-column', column: 'colour' },
    ],
    [
      'a missing value',
      (r) => r.insert('thing', {} as never),
      { code: 'value-missing', table: 'thing', column: 'name' },
    ],
    [
      'a value of another type',
      (r) => r.update('thing', 't1', { name: 7 as never }),
      { code: 'value-type', column: 'name' },
    ],
    [
      'an unsafe integer',
      (r) => r.update('my shelf', 's1', { order: 2 ** 53 }),
      { code: 'value-type', column: 'order' },
    ],
    [
      'an infinite number',
      (r) => r.update('thing', 't1', { worth: Number.POSITIVE_INFINITY }),
      { code: 'value-type', column: 'worth' },
    ],
    [
      'a number out of range',
      (r) => r.update('thing', 't1', { worth: 1001 }),
      { code: 'value-range', rule: 'maximum 1000' },
    ],
    ['half a character', (r) => r.update('thing', 't1', { name: 'x\ud83d' }), { code: 'value-type', column: 'name' }],
    ['a NUL', (r) => r.update('thing', 't1', { name: 'x\0y' }), { code: 'value-type', column: 'name' }],
    [
      'a day that is none',
      (r) => r.update('thing', 't1', { bought: '2023-02-29' }),
      { code: 'value-type', column: 'bought' },
    ],
    [
      'a time without its zone',
      (r) => r.update('thing', 't1', { seen: '2026-11-23T05:54:28' }),
      { code: 'value-type', column: 'seen' },
    ],
    [
      'JSON with a function',
      (r) => r.update('thing', 't1', { label: { f: () => 1 } as never }),
      { code: 'value-type', column: 'label' },
    ],
    [
      'too many bytes',
      (r) => r.update('thing', 't1', { picture: new Uint8Array(11) }),
      { code: 'value-range', column: 'picture' },
    ],
    [
      'a text too long',
      (r) => r.insert('room', { name: 'conservatory' }),
      { code: 'value-range', rule: 'at most 8 characters, this has 12' },
    ],
    [
      'what only the server gives',
      (r) => r.update('thing', 't1', { inventory: 7 } as never),
      { code: 'value-assigned', column: 'inventory' },
    ],
    [
      'a row check',
      (r) => r.update('thing', 't1', { bought: '2026-01-01', seen: '2025-01-01T00:00:00.000Z' }),
      { code: 'row-check', column: 'seen' },
    ],
    ['a counter below its limit', (r) => r.add('thing', 't1', 'used', -1), { code: 'value-range', column: 'used' }],
    ['a member twice', (r) => r.update('thing', 't1', { tags: ['a', 'a'] }), { code: 'value-type', column: 'tags' }],
    ['an id twice', (r) => r.insert('thing', { id: 't1', name: 'x' }), { code: 'duplicate-id', value: 't1' }],
    ['another id', (r) => r.update('thing', 't1', { id: 't2' } as never), { code: 'row-read-only', column: 'id' }],
    [
      'a value another row has',
      (r) => r.insert('room', { name: 'attic' }),
      { code: 'duplicate-value', column: 'name' },
    ],
    [
      'values another row has together',
      (r) => r.insert('thing', { shelf: 's1', name: 'lamp' }),
      { code: 'duplicate-value', rule: 'unique (shelf, name)' },
    ],
    [
      'a reference to nothing',
      (r) => r.update('thing', 't1', { shelf: 's9' }),
      { code: 'no-such-reference', column: 'shelf' },
    ],
    ['a row others refer to', (r) => r.delete('room', 'r1'), { code: 'row-referenced', table: 'room' }],
    ['a row that is not there', (r) => r.update('thing', 't9', { name: 'x' }), { code: 'no-such-row', value: 't9' }],
    ['no condition', (r) => r.deleteWhere('thing', {}), { code: 'condition-missing', table: 'thing' }],
    [
      'many, one of them wrong',
      (r) => r.insertAll('thing', [{ name: 'a' }, { name: 'b' }, { name: 3 as never }]),
      { code: 'value-type' },
    ],
    ['a setting of another type', (r) => r.setSetting('units', 3 as never), { code: 'value-type', column: 'units' }],
    ['a setting that is not there', (r) => r.setting('unit' as 'units'), { code: 'unknown-column' }],
    ['SQL that writes', (r) => r.select(sql`WITH x AS (SELECT 1) DELETE FROM thing`), { code: 'query-writes' }],
    ['SQL that sets', (r) => r.select(sql`PRAGMA user_version = 3`), { code: 'query-writes' }],
    ['two statements', (r) => r.select(sql`SELECT 1; SELECT 2`), { code: 'query-invalid' }],
    ['SQL with a mistake', (r) => r.select(sql`SELECT * FROM thnig`), { code: 'query-invalid' }],
  ])('%s is refused by table, column and rule, and nothing changes', async (_what, act, error) => {
    const before = [
      await replica.rows({ from: 'thing' }),
      await replica.rows({ from: 'room' }),
      await replica.outbox(),
    ];
    await expect(act(replica)).rejects.toMatchObject(error);
    await expect(act(replica)).rejects.toBeInstanceOf(KoinonError);
    expect([
      await replica.rows({ from: 'thing' }),
      await replica.rows({ from: 'room' }),
      await replica.outbox(),
    ]).toEqual(before);
  });

  test.each([
    [{ koinon_x: table({ a: text() }) }, 'koinon_'],
    [{ a: table({ a: text() }), A: table({ a: text() }) }, 'only in case'],
    [{ a: table({ x: text(), X: text() }) }, 'only in case'],
    [{ a: table({ or: text() }) }, 'query language'],
    [{ a: table({ constructor: text() }) }, 'constructor'],
    [{ toString: table({ a: text() }) }, 'toString'],
    [{ a: table({ id: text() }) }, 'id'],
    [{ a: table({ 'x;y': text() }) }, 'x;y'],
    [{ a: table({ b: reference('nowhere') }) }, 'nowhere'],
    [{ a: table({ n: integer({ default: 3, maximum: 2 }) }) }, 'default 3'],
  ])('a schema that cannot work is refused when it is defined: %#', (tables, names) => {
    expect(() => schema(tables as never)).toThrow(
      expect.objectContaining({ code: 'schema-invalid', message: expect.stringContaining(names) }),
    );
  });

  test('writes by condition, functions, upserts and no-ops count and queue what they change', async () => {
    await replica.insertAll('thing', [
      { id: 't2', name: 'rug', worth: 5 },
      { id: 't3', name: 'vase', worth: 50 },
    ]);
    const queued = (await replica.outbox()).length;
    expect(await replica.updateWhere('thing', { worth: { '>': 1 } }, { worth: 50 })).toBe(1);
    await replica.update('thing', 't2', { name: 'rug' });
    await replica.exclude('thing', 't2', 'tags', 'none');
    expect((await replica.outbox()).length).toBe(queued + 1);
    expect(await replica.update('thing', 't2', ({ worth }) => ({ worth: (worth ?? 0) / 2 }))).toMatchObject({
      worth: 25,
    });
    expect(await replica.upsert('thing', { id: 't2', name: 'carpet' })).toMatchObject({ name: 'carpet', worth: 25 });
    expect(await replica.upsert('thing', { id: 't4', name: 'clock' })).toMatchObject({ name: 'clock', used: 0 });
    await replica.include('thing', 't4', 'tags', 'old', 'loud');
    expect(await replica.exclude('thing', 't4', 'tags', 'loud')).toMatchObject({ tags: ['old'] });
    expect(await replica.deleteWhere('thing', { name: { prefix: 'c' } })).toBe(2);
    expect(await replica.deleteWhere('thing', 'every row')).toBe(2);
    await replica.insert('cache', { value: 'kept here' });
    expect((await replica.outbox()).flatMap(({ changes }) => changes).some(({ table: name }) => name === 'cache')).toBe(
      false,
    );
    await replica.setSetting('units', 'imperial');
    expect([await replica.setting('units'), await replica.setting('last')]).toEqual(['imperial', null]);
  });

  test('history 14: two rows swap a unique value in one transaction', async () => {
    await replica.insert('room', { id: 'r2', name: 'cellar' });
    await replica.transaction(async (transaction) => {
      await transaction.update('room', 'r1', { name: 'cellar' });
      expect(await transaction.check()).toMatchObject([{ code: 'duplicate-value' }]);
      await transaction.update('room', 'r2', { name: 'attic' });
    });
    expect(await replica.rows({ from: 'room', columns: ['name'] })).toEqual([
      { id: 'r1', name: 'cellar' },
      { id: 'r2', name: 'attic' },
    ]);
  });

  test('transactions read their own writes, queue behind each other, roll back, and never hang for ever', async () => {
    const first = replica.transaction(async (transaction) => {
      await transaction.add('thing', 't1', 'used', 1);
      await new Promise((done) => setTimeout(done, 20));
      return (await transaction.get('thing', 't1'))?.used;
    });
    const second = replica.transaction(async (transaction) => (await transaction.add('thing', 't1', 'used', 10)).used);
    expect([await first, await second]).toEqual([1, 11]);
    let escaped: { get(table: 'thing', id: string): Promise<unknown> } | undefined;
    await expect(
      replica.transaction(async (transaction) => {
        escaped = transaction;
        await transaction.delete('thing', 't1');
        throw new Error('no');
      }),
    ).rejects.toThrow('no');
    expect(await replica.get('thing', 't1')).toMatchObject({ used: 11 });
    await expect(escaped?.get('thing', 't1')).rejects.toMatchObject({ code: 'transaction-over' });
    const quick = await openReplica({ schema: household, stallLimit: 50 });
    await expect(openReplica({ schema: household, durability: 'power' as never })).rejects.toThrow('not "power"');
    await expect(quick.transaction(() => new Promise(() => undefined))).rejects.toMatchObject({
      code: 'transaction-stalled',
    });
    await quick.close();
  });

  test('a unique group names the column that was changed', async () => {
    await replica.insert('thing', { id: 't2', shelf: 's1', name: 'rug' });
    await expect(replica.update('thing', 't2', { name: 'lamp' })).rejects.toMatchObject({
      code: 'duplicate-value',
      column: 'name',
    });
    await replica.update('thing', 't2', { shelf: null, name: 'lamp' });
    await expect(replica.update('thing', 't2', { shelf: 's1' })).rejects.toMatchObject({ column: 'shelf' });
  });

  test('a call on the replica inside of its own transaction is refused at once, and is not carried out later', async () => {
    for (const stray of [
      () => replica.insert('thing', { id: 'stray', name: 'stray' }),
      () => replica.transaction((inner) => inner.insert('thing', { id: 'stray', name: 'stray' })),
      () => replica.undo(),
      () => replica.count({ from: 'thing' }),
    ])
      await expect(
        replica.transaction(async (transaction) => {
          await transaction.update('thing', 't1', { name: 'torch' });
          await stray();
        }),
      ).rejects.toMatchObject({ code: 'called-inside' });
    expect(await replica.rows({ from: 'thing', columns: ['name'] })).toMatchObject([{ id: 't1', name: 'lamp' }]);
    // What was begun inside and goes on when the transaction is over may call again.
    let later: Promise<unknown> | undefined;
    await replica.transaction(async (transaction) => {
      await transaction.add('thing', 't1', 'used', 1);
      later = new Promise((done) => setTimeout(done, 20)).then(() => replica.add('thing', 't1', 'used', 1));
    });
    expect(await later).toMatchObject({ used: 2 });
  });

  test('joins nest, summaries group, SQL templates bind', async () => {
    await replica.insertAll('thing', [
      { shelf: 's1', name: 'rug', worth: 5 },
      { name: 'vase', worth: 50 },
    ]);
    const things = await replica.rows({
      from: 'thing',
      order: 'name',
      columns: ['name'],
      join: { place: { by: 'shelf' } },
    });
    expect(things.map(({ name, place }) => [name, place?.order])).toEqual([
      ['lamp', 7],
      ['rug', 7],
      ['vase', undefined],
    ]);
    const [shelf] = await replica.rows({
      from: 'my shelf',
      join: { holds: { from: 'thing', by: 'shelf', where: { worth: null } }, in: { by: 'room' } },
    });
    expect([shelf?.holds.map(({ name }) => name), shelf?.in?.name]).toEqual([['lamp'], 'attic']);
    expect(
      await replica.summary({
        from: 'thing',
        by: ['shelf'],
        measures: { many: 'count', mean: ['avg', 'worth'], first: ['min', 'name'] },
      }),
    ).toEqual([
      { shelf: null, many: 1, mean: 50, first: 'vase' },
      { shelf: 's1', many: 2, mean: 5, first: 'lamp' },
    ]);
    const name = "'; DROP TABLE thing; --";
    expect(
      await replica.select(
        sql`SELECT count(*) AS n, ${name} AS name, ${true} AS yes FROM thing WHERE ${sql`worth > ${1}`}`,
      ),
    ).toEqual([{ n: 2, name, yes: 1 }]);
    expect(
      await replica.select(
        sql`SELECT name, rank() OVER (ORDER BY worth DESC) AS place FROM thing ORDER BY place, name LIMIT 1`,
      ),
    ).toEqual([{ name: 'vase', place: 1 }]);
  });
});
