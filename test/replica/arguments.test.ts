import { LiveQuery, openReplica, type Replica } from '@koinon/client';
import { exportRows, importRows } from '@koinon/client/transfer';
import { KoinonError } from '@koinon/core';
import { serveInProcess } from '@koinon/server';
import { describe, expect, test } from 'vitest';
import { type Household, household, openings } from '../support/household.ts';

// Every public function with wrong arguments, on a healthy replica: a mistake in the app is told as that, nothing changes, and
// the replica goes on.

const throwing = () => {
  throw new TypeError('from a getter');
};
const cycle: Record<string, unknown> = {};
cycle.self = cycle;
/** The arguments that an app may pass by mistake, or by malice. */
const wrong: readonly unknown[] = [
  undefined,
  null,
  7,
  Number.NaN,
  '',
  'x',
  10n,
  Symbol('s'),
  true,
  [],
  [null],
  [[]],
  {},
  { unknown: 1 },
  () => 1,
  new Date(),
  new Map([['a', 1]]),
  cycle,
  Object.defineProperty({}, 'id', { get: throwing, enumerable: true }),
  Object.defineProperty({}, 'name', { get: throwing, enumerable: true }),
  new Proxy({}, { get: throwing, ownKeys: throwing, getPrototypeOf: throwing, has: throwing }),
  [new Proxy({}, { get: throwing, ownKeys: throwing })],
];

type Call = (replica: Replica<Household>, ...given: never[]) => unknown;
/** Functions by name, with arguments that are right: each of them is replaced by what is wrong. */
const calls: readonly (readonly [name: keyof Replica<Household>, ...given: unknown[]])[] = [
  ['get', 'thing', 't1'],
  ['rows', { from: 'thing', where: { name: 'lamp' }, limit: 2 }],
  ['count', { from: 'thing' }],
  ['summary', { from: 'thing', measures: { all: { count: true } } }],
  ['select', { text: 'SELECT 1', values: [] }],
  ['rowState', 'thing', 't1'],
  ['insert', 'room', { id: 'new', name: 'new' }],
  ['insertAll', 'room', [{ id: 'new', name: 'new' }]],
  ['update', 'room', 'r1', { name: 'cellar' }],
  ['updateWhere', 'room', { name: 'none' }, { name: 'cellar' }],
  ['upsert', 'room', { id: 'new', name: 'new' }],
  ['upsertAll', 'room', [{ id: 'new', name: 'new' }]],
  ['add', 'thing', 't1', 'used', 1],
  ['include', 'thing', 't1', 'tags', 'old'],
  ['exclude', 'thing', 't1', 'tags', 'old'],
  ['delete', 'thing', 'none'],
  ['deleteWhere', 'thing', { name: 'none' }],
  ['setting', 'theme'],
  ['setSetting', 'theme', 'dark'],
  ['transaction', async () => undefined],
  ['revert', 'thing', 'none', {}],
  ['revert', [{ table: 'thing', id: 'none' }], {}],
  ['discard', 'none', {}],
  ['resolve', 'thing', 't1', 'local'],
  ['resolve', [{ table: 'thing', id: 't1', choices: 'local' }]],
  ['unresolve', 'thing', 't1'],
  ['invoke', 'lend', { thing: 't1', to: 'runa' }, { locally: async () => undefined }],
  ['resultOf', { id: 'none', name: 'lend' }, {}],
  ['amend', { id: 'none', name: 'lend' }, { thing: 't1', to: 'runa' }],
  ['resend', 'none'],
  ['trash', { table: 'thing', limit: 1 }],
  ['restore', 'thing', 'none'],
  ['sync', { direction: 'pull' }],
  ['unlink', { rows: 'keep' }],
  ['journal', 3],
  ['live', { from: 'thing', where: { name: 'lamp' } }],
  ['liveSummary', { from: 'thing', measures: { all: 'count' } }],
  ['liveSelect', { text: 'SELECT 1', values: [] }],
  ['liveSetting', 'theme'],
];

/** The argument that was passed, in words that a failed test can show. */
const named = (value: unknown) => {
  try {
    return typeof value === 'object' ? Object.prototype.toString.call(value) : String(value);
  } catch {
    return 'something that cannot be shown';
  }
};

// A browser's replica is the same code behind a port.
describe.each(Object.entries(openings).filter(([where]) => where !== 'in a browser'))(
  'a replica %s',
  (_where, open) => {
    test('every function with wrong arguments: an error of Koinon or nothing, never damage, and nothing is changed', async () => {
      const replica = await open();
      await replica.insert('room', { id: 'r1', name: 'attic' });
      await replica.insert('thing', { id: 't1', name: 'lamp' });
      const held = async () => [
        await replica.rows({ from: 'room', order: ['id'] }),
        await replica.rows({ from: 'thing', order: ['id'] }),
        await replica.rows({ from: 'my shelf', order: ['id'] }),
      ];
      const before = await held();
      const codes = new Set<string>();
      for (const [name, ...given] of calls)
        for (let at = 0; at < given.length; at++)
          for (const bad of wrong) {
            const what = `${name}, argument ${at + 1}: ${named(bad)}`;
            const words = given.map((each, n) => (n === at ? bad : each));
            const run = async () => {
              const pending = (await replica.status()).pending;
              const called = (replica[name] as Call).call(replica, ...(words as [never]));
              if (called instanceof LiveQuery) for await (const _ of called) break;
              else await called;
              // Some of it is right by chance.
              if ((await replica.status()).pending > pending) await replica.undo();
            };
            const error = await run().then(
              () => undefined,
              (failure: unknown) => failure,
            );
            if (error === undefined) continue;
            expect(error, what).toBeInstanceOf(KoinonError);
            const { code, message } = error as KoinonError;
            expect(['storage-damaged', 'internal-failure'], `${what}: ${message}`).not.toContain(code);
            expect(message.length, what).toBeGreaterThan(20);
            codes.add(code);
            if (name === 'insert' || name === 'update') expect(await replica.count({ from: 'room' }), what).toBe(1);
          }
      expect([...codes]).toEqual(expect.arrayContaining(['argument-invalid', 'unknown-table', 'value-type']));
      expect(await held()).toEqual(before);
      for (const bad of [undefined, null, 7, '', ':memory:', '/nowhere/copy.db'])
        await expect(replica.copyTo(bad as never)).rejects.toBeInstanceOf(KoinonError);
      await replica.update('thing', 't1', { name: 'torch' });
      expect((await replica.get('thing', 't1'))?.name).toBe('torch');
      await replica.close();
    });
  },
);

test('how a replica is opened: what contradicts itself, has no effect or is no option is refused before a file is made', async () => {
  const schema = household;
  const transport = serveInProcess;
  const refused: readonly (readonly [options: unknown, said: string])[] = [
    [undefined, 'options'],
    [{}, 'schema'],
    [{ schema, sevrer: 'http://127.0.0.1:1' }, 'sevrer'],
    [{ schema, file: 7 }, 'file'],
    [{ schema, file: '' }, 'file'],
    [{ schema, file: 'a.db', driver: {} }, 'file'],
    [{ schema, sync: 'automatic' }, 'sync'],
    [{ schema, token: () => 'x' }, 'token'],
    [{ schema, server: { pull: transport }, token: () => 'x' }, 'token'],
    [{ schema, server: '' }, 'server'],
    [{ schema, server: 'localhost' }, 'server'],
    [{ schema, server: 'ws://127.0.0.1' }, 'HTTP'],
    [{ schema, server: 'http://127.0.0.1/?a=1' }, 'query'],
    [{ schema, server: 'http://127.0.0.1', sync: { evry: 3 } }, 'evry'],
    [{ schema, server: 'http://127.0.0.1', sync: { every: -1 } }, 'every'],
    [{ schema, server: 'http://127.0.0.1', sync: { upload: 'all' } }, 'every step'],
    [{ schema, durability: 'disk' }, 'durability'],
    [{ schema, stallLimit: '1' }, 'stallLimit'],
  ];
  for (const [options, said] of refused) {
    const error = await openReplica(options as never).then(
      () => undefined,
      (failure: unknown) => failure,
    );
    expect(error, said).toMatchObject({ code: 'argument-invalid', message: expect.stringContaining(said) });
  }
});

test('what a function of the app throws stays what it is; a row check that returns no list is told as that', async () => {
  const mine = new TypeError('mine');
  let check: () => unknown = () => [];
  const checked = {
    ...household,
    tables: { ...household.tables, room: { ...household.tables.room, check: () => check() } },
  } as unknown as Household;
  const replica = await openReplica({ schema: checked });
  check = () => {
    throw mine;
  };
  await expect(replica.insert('room', { name: 'attic' })).rejects.toBe(mine);
  await expect(replica.transaction((inside) => inside.insert('room', { name: 'attic' }))).rejects.toBe(mine);
  check = () => 'too small';
  await expect(replica.insert('room', { name: 'attic' })).rejects.toMatchObject({ code: 'schema-invalid' });
  check = () => [];
  await replica.insert('room', { id: 'r', name: 'attic' });
  await expect(
    replica.update('room', 'r', () => {
      throw mine;
    }),
  ).rejects.toBe(mine);
  expect(await replica.count({ from: 'room' })).toBe(1);
  for (const bad of [undefined, null, 7, {}] as never[])
    for (const call of [
      () => importRows(bad, household, []),
      () => importRows(replica, bad, []),
      () => importRows(replica, household, bad),
      () => importRows(replica, household, [], { format: 'xml' as never }),
      () => exportRows(replica, bad).next(),
      () => exportRows(replica, household, { table: bad ?? 'none' }).next(),
    ])
      await expect(call()).rejects.toBeInstanceOf(KoinonError);
  await replica.close();
  await replica.close();
});

test('what an app does with its objects after a call changes nothing', async () => {
  const replica = await openReplica({ schema: household });
  const row = { id: 'r', name: 'attic' };
  const inTurn = replica.transaction(async () => undefined);
  const written = replica.insert('room', row);
  row.name = 'cellar';
  await Promise.all([inTurn, written]);
  expect((await replica.get('room', 'r'))?.name).toBe('attic');
  await replica.close();
});

test('a value that no request could carry is refused where it is written, with the limit', async () => {
  const replica = await openReplica({ schema: household });
  for (const columns of [{ name: 'x'.repeat(80_000_000) }, { name: 'lamp', label: ['x'.repeat(40_000_000)] }])
    await expect(replica.insert('thing', columns)).rejects.toMatchObject({
      code: 'too-large',
      message: expect.stringContaining('33554432'),
    });
  await replica.insert('thing', { name: 'x'.repeat(20_000_000) });
  expect(await replica.count({ from: 'thing' })).toBe(1);
  await replica.close();
});

test('an error of another copy of this package is one of Koinon’s; what it does not have it does not show', () => {
  const foreign = Object.defineProperty(new Error('x'), Symbol.for('koinon.error'), { value: true });
  expect(foreign).toBeInstanceOf(KoinonError);
  expect(new Error('x')).not.toBeInstanceOf(KoinonError);
  class Own extends KoinonError {}
  expect(new KoinonError('no-such-row', 'There is none.')).not.toBeInstanceOf(Own);
  expect(new Own('no-such-row', 'There is none.')).toBeInstanceOf(Own);
  expect(Object.keys(new KoinonError('no-such-row', 'There is none.', { table: 'note' }))).toEqual(['code', 'table']);
});
