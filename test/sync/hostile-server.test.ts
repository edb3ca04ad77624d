import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, openReplica, type Transport, verifyFile } from '@koinon/client';
import { KoinonError, type PushRequest } from '@koinon/core';
import { serveInProcess, sqliteStore } from '@koinon/server';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { garden, never } from '../support/world.ts';

// A server that answers anything: what a good one would answer, with something in it replaced, removed or added. Whatever it says,
// the replica is never told that its file is damaged, its file stays sound, and a good server gets every edit once.

const junk: fc.Arbitrary<unknown> = fc.oneof(
  fc.constantFrom<unknown>(
    null,
    '',
    'x',
    -1,
    0,
    1,
    2 ** 53,
    1e308,
    true,
    [],
    {},
    [[]],
    { hive: 'mark' },
    'yesterday',
    '7; DROP TABLE bed',
    // Every object has members of these names.
    'constructor',
    'toString',
  ),
  fc.jsonValue({ maxDepth: 2 }),
);

/** The optional members of an answer. */
const optional = [
  'unsupported',
  'user',
  'remaining',
  'digests',
  'times',
  'uploads',
  'values',
  'columns',
  'constructor',
];

/** The place where something is spoilt, how, and with what. */
const spoiling = fc.record({
  path: fc.array(fc.nat(7), { maxLength: 4 }),
  how: fc.constantFrom('replace', 'remove', 'add', 'twice'),
  with: junk,
  /** Tells whether a push gets an answer, and is looked at by nobody. */
  isIgnored: fc.boolean(),
});
type Spoiling = typeof spoiling extends fc.Arbitrary<infer S> ? S : never;

function spoilt(value: unknown, { path, how, with: put }: Omit<Spoiling, 'isIgnored'>): unknown {
  const [step, ...rest] = path;
  if (step === undefined || typeof value !== 'object' || value === null) return how === 'remove' ? undefined : put;
  const members = Object.entries(value);
  const [name, member] = members[step % Math.max(1, members.length)] ?? ['x', undefined];
  if (Array.isArray(value)) {
    const at = Number(name) || 0;
    if (value.length === 0) return [put];
    if (rest.length === 0 && how === 'remove') return value.toSpliced(at, 1);
    if (rest.length === 0 && how === 'twice') return [...value, ...value];
    if (rest.length === 0 && how === 'add') return [...value, put];
    return value.with(Math.min(at, Math.max(0, value.length - 1)), spoilt(member, { path: rest, how, with: put }));
  }
  if (rest.length === 0 && how === 'remove') return Object.fromEntries(members.filter(([each]) => each !== name));
  if (rest.length === 0 && how === 'add') return { ...value, [optional[step % optional.length] as string]: put };
  return { ...value, [name]: spoilt(member, { path: rest, how, with: put }) };
}

/** Answers in one history. */
const answers = 40;

test('a server answers anything: no damage is told of, the file stays sound, and a good server gets every edit once', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-hostile-'));
  const codes = new Map<string, number>();
  let given = 0;
  let histories = 0;
  // One for all histories: making it takes longer than a history.
  const store = await sqliteStore(garden, join(folder, 'server.db'));
  const server = serveInProcess({ store });
  const history = async (spoilings: readonly Spoiling[]) => {
    const name = `${++histories}:`;
    let next = 0;
    const spoil = async (answer: Promise<unknown>): Promise<never> => {
      const good = JSON.parse(JSON.stringify(await answer)) as unknown;
      const how = spoilings[next++];
      given++;
      return (how === undefined ? good : spoilt(good, how)) as never;
    };
    const transport: Transport = {
      pull: (request) => spoil(server.connect().pull(request)),
      push: (body) => {
        if (spoilings[next]?.isIgnored !== true) return spoil(server.connect().push(body));
        const { transactions } = JSON.parse(body) as PushRequest;
        const outcomes = transactions.map(({ id }) => ({ id, outcome: 'applied', position: 7 }));
        return spoil(Promise.resolve({ outcomes, time: '2026-11-30T10:00:00.000Z' }));
      },
      applied: (request) => spoil(server.connect().applied(request)),
    };
    const driver = await openNodeDriver({ file: ':memory:' });
    const replica = await openReplica({
      schema: garden,
      driver,
      server: transport,
      sync: { when: never, live: false },
    });
    const other = await openReplica({ schema: garden, server: server.connect(), sync: { when: never, live: false } });
    let made = 0;
    for (let n = 0; next < spoilings.length; n++) {
      made++;
      await replica.insert('bed', { id: `mine ${name} ${n}`, name: `mine ${name} ${n}` });
      await replica.insert('plant', { id: `mine ${name} ${n}`, bed: `mine ${name} ${n}`, kind: 'herb' });
      await replica.add('plant', `mine ${name} ${n}`, 'watered', 1);
      await other.insert('bed', { id: `other ${name} ${n}`, name: `other ${name} ${n}` });
      await other.sync();
      const before = next;
      for (let time = 0; time < 3; time++)
        await replica.sync().catch((error: unknown) => {
          expect(error).toBeInstanceOf(KoinonError);
          const { code, message } = error as KoinonError;
          expect(['storage-damaged', 'internal-failure', 'outbox-inconsistent'], message).not.toContain(code);
          codes.set(code, (codes.get(code) ?? 0) + 1);
        });
      expect(verifyFile(driver, garden)).toEqual([]);
      if (next === before) next = spoilings.length;
    }
    next = spoilings.length;
    // What the liar said was refused or wanted a decision is taken back or decided; what he said was applied is asked about again.
    for (let time = 0; time < 4; time++) {
      await replica.sync().catch((error: KoinonError) => codes.set(`after: ${error.code}`, 1));
      for (const { transaction } of await replica.rejections()) await replica.resend(transaction);
      for (const { table, id } of await replica.conflicts())
        await replica.resolve(table as 'bed', id, 'local').catch(() => undefined);
    }
    await other.sync();
    expect(await replica.outbox()).toEqual([]);
    const mine = await other.rows({ from: 'plant', where: { bed: { prefix: `mine ${name}` } } });
    expect(mine.map(({ watered }) => watered)).toEqual(Array.from({ length: made }, () => 1));
    expect(await other.count({ from: 'bed', where: { name: { prefix: `mine ${name}` } } })).toBe(made);
    expect(verifyFile(driver, garden)).toEqual([]);
    await replica.close();
    // The next history begins with little to download.
    for (const { id } of mine) await other.delete('plant', id);
    await other.deleteWhere('bed', 'every row');
    await other.sync();
    await other.close();
  };
  await fc.assert(fc.asyncProperty(fc.array(spoiling, { minLength: answers, maxLength: answers }), history), {
    ...runs(60),
    endOnFailure: true,
  });
  expect(codes.get('server-answer')).toBeGreaterThan(given / 4);
  await server.close();
  await store.close();
  await rm(folder, { recursive: true });
  expect(given).toBeGreaterThan(0);
}, 600_000);
