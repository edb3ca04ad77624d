import type { Replica } from '@koinon/client';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { furnished, type Household, household, openings } from '../support/household.ts';
import { runs } from '../support/runs.ts';
import { World } from '../support/world.ts';

// Trying edits and taking them back.

describe.each(Object.entries(openings))('a replica %s', (where, open) => {
  let replica: Replica<Household>;
  beforeEach(async () => {
    replica = await furnished(open);
  });
  afterEach(() => replica.close());
  describe('drafts', () => {
    test('a draft is seen through itself only, checks itself, and commits as one or not at all', async () => {
      const draft = replica.draft();
      await draft.insert('room', { id: 'r2', name: 'cellar' });
      await draft.update('thing', 't1', { name: 'lantern', worth: 3 });
      await draft.update('thing', 't1', { worth: null });
      await draft.insert('thing', { id: 't2', name: 'anvil' });
      expect(await draft.rows({ from: 'thing', order: 'name', columns: ['name'], limit: 1 })).toEqual([
        { id: 't2', name: 'anvil' },
      ]);
      expect(await draft.rows({ from: 'thing', where: { name: 'lamp' } })).toEqual([]);
      expect(await replica.rows({ from: 'thing', columns: ['name'] })).toEqual([{ id: 't1', name: 'lamp' }]);
      await expect(draft.update('thing', 't1', { worth: -1 })).rejects.toMatchObject({ code: 'value-range' });
      await draft.insert('room', { id: 'r3', name: 'attic' });
      expect(await draft.check()).toMatchObject([{ code: 'duplicate-value', table: 'room', id: 'r3' }]);
      await expect(draft.commit()).rejects.toMatchObject({ code: 'duplicate-value' });
      expect(await replica.count({ from: 'room' })).toBe(1);
      await draft.delete('room', 'r3');
      expect(draft.changes().map(({ kind, table: name, id, columns }) => [kind, name, id, columns.length])).toEqual([
        ['insert', 'room', 'r2', 1],
        ['update', 'thing', 't1', 2],
        ['insert', 'thing', 't2', 10],
      ]);
      const outbox = (await replica.outbox()).length;
      await draft.commit();
      expect((await replica.outbox()).length).toBe(outbox + 1);
      expect(await replica.get('thing', 't1')).toMatchObject({ name: 'lantern', worth: null });
      expect(draft.changes()).toEqual([]);
    });

    test('a draft tells of rows that changed underneath', async () => {
      const draft = replica.draft();
      let told = 0;
      draft.subscribe(() => told++);
      await draft.update('thing', 't1', { name: 'lantern' });
      await replica.update('thing', 't1', { worth: 9 });
      expect(draft.overtaken()).toMatchObject([
        { id: 't1', before: { worth: null }, now: { worth: 9 }, after: { name: 'lantern' } },
      ]);
      expect(told).toBe(3);
      draft.discard();
      expect([draft.overtaken(), await replica.get('thing', 't1')]).toMatchObject([[], { name: 'lamp', worth: 9 }]);
    });

    test('random edits seen through a draft are what its commit leaves', () =>
      fc.assert(
        fc.asyncProperty(
          fc.array(fc.record({ do: fc.constantFrom('insert', 'update', 'delete'), n: fc.nat(5), worth: fc.nat(3) }), {
            maxLength: 15,
          }),
          async (edits) => {
            const scratch = await open();
            for (let n = 0; n < 3; n++) await scratch.insert('thing', { id: `t${n}`, name: `n${n}`, worth: n });
            const draft = scratch.draft();
            for (const { do: what, n, worth } of edits) {
              const isThere = (await draft.get('thing', `t${n}`)) !== undefined;
              if (what === 'insert' && !isThere) await draft.insert('thing', { id: `t${n}`, name: `n${n}`, worth });
              else if (what === 'update' && isThere) await draft.update('thing', `t${n}`, { worth });
              else if (what === 'delete' && isThere) await draft.delete('thing', `t${n}`);
            }
            const query = {
              from: 'thing',
              where: { worth: { '>': 0 } },
              order: [['worth', 'desc']],
              limit: 3,
            } as const;
            const seen = [await draft.rows({ from: 'thing' }), await draft.rows(query)];
            await draft.commit();
            expect(
              [await scratch.rows({ from: 'thing' }), await scratch.rows(query)].map((rows) =>
                rows.map((row) => ({ ...row })),
              ),
            ).toEqual(seen.map((rows) => rows.map((row) => ({ ...row }))));
            await scratch.close();
          },
        ),
        runs(where === 'in a browser' ? 4 : 60),
      ));
  });

  describe('undo', () => {
    test('undone one by one, transactions lead back through every state to the beginning', () =>
      fc.assert(
        fc.asyncProperty(
          fc.array(
            fc.record({ do: fc.constantFrom('insert', 'update', 'add', 'delete'), n: fc.nat(3), worth: fc.nat(9) }),
            { minLength: 1, maxLength: 10 },
          ),
          async (edits) => {
            const scratch = await open();
            const state = async () => (await scratch.rows({ from: 'thing' })).map((row) => ({ ...row }));
            const states = [await state()];
            for (const { do: what, n, worth } of edits) {
              const isThere = (await scratch.get('thing', `t${n}`)) !== undefined;
              const before = (await scratch.outbox()).length;
              if (what === 'insert' && !isThere)
                await scratch.insertAll('thing', [{ id: `t${n}`, name: `n${n}`, worth }, { name: `x${before}` }]);
              else if (what === 'update' && isThere) await scratch.update('thing', `t${n}`, { worth });
              else if (what === 'add' && isThere) await scratch.add('thing', `t${n}`, 'used', worth);
              else if (what === 'delete' && isThere) await scratch.delete('thing', `t${n}`);
              if ((await scratch.outbox()).length > before) states.push(await state());
            }
            for (let last = states.pop(); states.length > 0; last = states.pop()) {
              expect(await state()).toEqual(last);
              await scratch.undo();
            }
            expect(await state()).toEqual([]);
            await expect(scratch.undo()).rejects.toMatchObject({ code: 'nothing-to-undo' });
            await scratch.close();
          },
        ),
        runs(where === 'in a browser' ? 4 : 60),
      ));

    test('a row, or everything, goes back to what the server last gave; what was sent does not', async () => {
      const world = await World.inTest(household);
      const [mine, other] = [await world.replica(), await world.replica()];
      await mine.insertAll('thing', [
        { id: 'a', name: 'a', worth: 1 },
        { id: 'b', name: 'b' },
      ]);
      await mine.sync();
      await other.sync();
      await expect(mine.undo()).rejects.toMatchObject({ code: 'nothing-to-undo' });
      await mine.transaction(async (transaction) => {
        await transaction.update('thing', 'a', { name: 'aa', worth: 2 });
        await transaction.update('thing', 'b', { name: 'bb' });
      });
      await mine.update('thing', 'a', { worth: 3 });
      expect(await mine.rowState('thing', 'a')).toMatchObject({
        base: { name: 'a', worth: 1 },
        present: { name: 'aa', worth: 3 },
        changed: ['name', 'worth'],
      });
      await other.update('thing', 'a', { worth: 9 });
      await other.sync();
      await mine.sync();
      expect(await mine.status()).toMatchObject({ conflicted: 1, pending: 2 });
      await expect(mine.revert('thing', 'a')).rejects.toMatchObject({ code: 'transaction-shared' });
      await mine.revert('thing', 'a', { transactions: 'these rows only' });
      expect(await mine.get('thing', 'a')).toMatchObject({ name: 'a', worth: 9 });
      expect(await mine.status()).toMatchObject({ conflicted: 0, pending: 1 });
      await mine.insert('thing', { id: 'c', name: 'c' });
      await mine.delete('thing', 'a');
      expect(await mine.revertAll()).toBe(3);
      expect(await rowsOfThings(mine)).toEqual(await rowsOfThings(other));
      await mine.update('thing', 'b', { name: 'sent' });
      await mine.sync({ direction: 'push' });
      await expect(mine.undo()).rejects.toMatchObject({ code: 'already-sent' });
    });
    const rowsOfThings = async (replica: Replica<Household>) =>
      (await replica.rows({ from: 'thing' })).map((row) => ({ ...row }));
  });
});
