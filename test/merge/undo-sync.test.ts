import type { Replica } from '@koinon/client';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { type Garden, garden, rowsOf, World } from '../support/world.ts';

// Undo, revert and drafts in the middle of syncing: whatever is taken back was never sent, and whatever was sent stays.

const id = fc.nat(2).map((n) => `p${n}`);
const step = fc.oneof(
  fc.record({ do: fc.constant('edit' as const), id, label: fc.constantFrom('a', 'b', 'c') }),
  fc.record({ do: fc.constant('water' as const), id, amount: fc.integer({ min: 1, max: 5 }) }),
  fc.record({ do: fc.constant('both' as const), id, label: fc.constantFrom('x', 'y') }),
  fc.record({ do: fc.constant('fail' as const), id, label: fc.constantFrom('f', 'g') }),
  fc.record({ do: fc.constant('office' as const), id, label: fc.constantFrom('o', 'p') }),
  fc.record({
    do: fc.constantFrom('undo' as const, 'revert all' as const, 'sync' as const, 'pull' as const, 'push' as const),
  }),
  fc.record({ do: fc.constant('revert' as const), id }),
  fc.record({ do: fc.constant('draft' as const), id, label: fc.constantFrom('d', 'e'), commits: fc.boolean() }),
);
type Step = typeof step extends fc.Arbitrary<infer Value> ? Value : never;

async function take(replica: Replica<Garden>, shell: { exec(sql: string): void }, given: Step): Promise<void> {
  // What cannot be taken back, since it was sent or is not there, is refused and changes nothing.
  const refused = (error: { code?: string }) => {
    expect(['already-sent', 'nothing-to-undo']).toContain(error.code);
  };
  if (given.do === 'edit') await replica.update('plant', given.id, { label: given.label });
  else if (given.do === 'water') await replica.add('plant', given.id, 'watered', given.amount);
  else if (given.do === 'both')
    await replica.transaction(async (transaction) => {
      await transaction.update('plant', given.id, { label: given.label });
      await transaction.include('plant', 'p0', 'tags', given.label);
    });
  else if (given.do === 'fail') {
    const failing = replica.transaction(async (transaction) => {
      await transaction.update('plant', given.id, { label: given.label });
      throw new Error('on second thoughts');
    });
    await expect(failing).rejects.toThrow('on second thoughts');
  } else if (given.do === 'office')
    await shell.exec(`UPDATE plant SET label = '${given.label}' WHERE id = '${given.id}'`);
  else if (given.do === 'undo') await replica.undo().catch(refused);
  else if (given.do === 'revert')
    await replica.revert('plant', given.id, { transactions: 'these rows only' }).catch(refused);
  else if (given.do === 'revert all') await replica.revertAll().catch(refused);
  else if (given.do === 'draft') {
    const draft = replica.draft();
    await draft.update('plant', given.id, { label: given.label });
    if (given.commits) await draft.commit();
    else draft.discard();
  } else await replica.sync({ direction: given.do === 'sync' ? 'both' : given.do });
}

test('after any mix of edits, undo, revert, drafts and syncs, reverting what is left gives the server’s rows', () =>
  fc.assert(
    fc.asyncProperty(fc.array(step, { minLength: 3, maxLength: 25 }), async (history) => {
      const world = await World.of(garden);
      try {
        const shell = await world.shell();
        await shell.exec("INSERT INTO bed VALUES ('b', 'bed', 1)");
        for (let n = 0; n < 3; n++)
          await shell.exec(`INSERT INTO plant VALUES ('p${n}', 'b', 'herb', NULL, 0, 0, '[]')`);
        const replica = await world.replica();
        await replica.sync();
        for (const given of history) {
          await take(replica, shell, given);
          // A row's state always tells the truth: where nothing is its own, base and present are the same.
          const state = await replica.rowState('plant', 'p0');
          expect({ ...state.present }).toEqual({ ...(await replica.get('plant', 'p0')) });
          if (state.changed.length === 0) expect({ ...state.base }).toEqual({ ...state.present });
        }
        await replica.sync();
        const { conflicted, pending } = await replica.status();
        if (conflicted === 0) expect(pending).toBe(0);
        await replica.revertAll();
        expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
        expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
        const other = await world.replica();
        await other.sync();
        expect(await rowsOf(other)).toEqual(await rowsOf(replica));
      } finally {
        await world.end();
      }
    }),
    runs(60),
  ));

test('taking back the one row of a transaction leaves the rest of it, under another id', async () => {
  const world = await World.inTest(garden);
  const replica = await world.replica();
  await replica.insert('bed', { id: 'b', name: 'bed' });
  await replica.insertAll('plant', [
    { id: 'p0', bed: 'b', kind: 'herb' },
    { id: 'p1', bed: 'b', kind: 'herb' },
  ]);
  await replica.sync();
  await replica.transaction(async (transaction) => {
    await transaction.update('plant', 'p0', { label: 'first' });
    await transaction.update('plant', 'p1', { label: 'second' });
    await transaction.add('plant', 'p1', 'watered', 2);
  });
  const [before] = await replica.outbox();
  await expect(replica.revert('plant', 'p0')).rejects.toMatchObject({
    code: 'transaction-shared',
    message: expect.stringContaining('plant "p1"'),
  });
  await replica.revert('plant', 'p0', { transactions: 'these rows only' });
  const [after, ...none] = await replica.outbox();
  expect(none).toEqual([]);
  expect(after?.id).not.toBe(before?.id);
  expect(after?.editedAt).toBe(before?.editedAt);
  expect(after?.changes.map(({ id: row }) => row)).toEqual(['p1', 'p1']);
  await replica.sync();
  expect(await rowsOf(await world.shell())).toMatchObject({
    'plant p0': { label: null },
    'plant p1': { label: 'second', watered: 2 },
  });
  // A new row that others refer to cannot be taken back from under them.
  await replica.insert('bed', { id: 'b2', name: 'new' });
  await replica.insert('plant', { id: 'p2', bed: 'b2', kind: 'tree' });
  await expect(replica.revert('bed', 'b2')).rejects.toMatchObject({ code: 'change-needed' });
  expect(await replica.get('bed', 'b2')).toMatchObject({ name: 'new' });
  expect(await replica.outbox()).toHaveLength(2);
});

test('what a rollback took back, and what another process wrote, is not mistaken for the base', async () => {
  const world = await World.inTest(garden);
  const [one, other] = [await world.replica({ file: 'shared.db' }), await world.replica({ file: 'shared.db' })];
  await one.insert('bed', { id: 'b', name: 'bed' });
  for (const id of ['p0', 'p1']) await one.insert('plant', { id, bed: 'b', kind: 'herb', label: 'server' });
  await one.sync();
  const failing = one.transaction(async (transaction) => {
    await transaction.update('plant', 'p0', { label: 'rolled back' });
    throw new Error('no');
  });
  await expect(failing).rejects.toThrow('no');
  await one.update('plant', 'p0', { label: 'mine' });
  await other.update('plant', 'p1', { label: 'of the other process' });
  await one.update('plant', 'p1', { height: 3 });
  for (const id of ['p0', 'p1']) {
    expect(await one.rowState('plant', id)).toMatchObject({ base: { label: 'server', height: null } });
    await one.revert('plant', id);
    expect(await one.get('plant', id)).toMatchObject({ label: 'server', height: null });
  }
  expect(await one.status()).toMatchObject({ pending: 0 });
});
