import { type Replica, systemHost } from '@koinon/client';
import { counter, integer, type JsonValue, json, oneOf, reference, schema, setOfText, table, text } from '@koinon/core';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// The decisions of a schema's rules when two devices did different things to one row, and what they leave to a person.

const farm = schema({
  field: table({ name: text() }),
  crop: table({
    field: reference('field', { merge: 'keep remote' }),
    local: text({ default: '', merge: 'keep local' }),
    remote: text({ default: '', merge: 'keep remote' }),
    latest: text({ default: '', merge: 'newest' }),
    most: integer({ default: 0, merge: ({ local, remote }) => Math.max(local, remote) }),
    notes: text({ default: '' }),
    soil: json({ default: {} as Record<string, JsonValue> }),
    asked: oneOf(['a', 'b', 'c'], { default: 'a' }),
    broken: integer({
      optional: true,
      merge: ({ local }) => {
        if (local === 13) throw new Error('thirteen');
        return 'nonsense' as never;
      },
    }),
    counted: counter(),
    tags: setOfText(),
  }),
  kept: table({ text: text({ default: '' }) }, { deletion: 'deletion wins', merge: 'keep local' }),
  asking: table({ text: text({ default: '' }) }, { deletion: 'ask', merge: 'newest' }),
});
type Farm = typeof farm;

let world: World<Farm>;
let first: Replica<Farm>;
let second: Replica<Farm>;
const sorted = <R extends { readonly id: string }>(rows: readonly R[]) =>
  [...rows].sort((a, b) => (a.id < b.id ? -1 : 1)).map((row) => ({ ...row }));
const all = async (replica: Replica<Farm>) => {
  const rows: Record<string, unknown> = {};
  for (const from of ['field', 'crop', 'kept', 'asking'] as const) rows[from] = sorted(await replica.rows({ from }));
  return rows;
};
/** Both sync until neither has anything to send, and hold the same rows. */
async function settle(...replicas: Replica<Farm>[]): Promise<void> {
  for (let round = 0; round < 3; round++) for (const replica of replicas) await replica.sync();
  const [one, ...others] = await Promise.all(replicas.map(all));
  for (const other of others) expect(other).toEqual(one);
}

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    world = await World.of(farm, kind);
    [first, second] = [await world.replica(), await world.replica()];
    await first.insert('field', { id: 'f', name: 'south' });
    await first.insert('crop', {
      id: 'c',
      field: 'f',
      notes: 'one\ntwo\nthree\nfour',
      soil: { ph: 6, deep: { a: 1 } },
    });
    await first.insert('kept', { id: 'k' });
    await first.insert('asking', { id: 'q' });
    await settle(first, second);
  });
  afterEach(() => world.end());

  test('every rule decides by itself, and both devices and the server end alike', async () => {
    await second.update('crop', 'c', {
      local: 'theirs',
      remote: 'theirs',
      latest: 'theirs, older',
      most: 8,
      notes: 'one\ntwo\nthree\nfour, theirs',
      soil: { ph: 7, deep: { a: 1, theirs: true } },
    });
    await new Promise((resolve) => setTimeout(resolve, 5));
    await first.transaction(async (transaction) => {
      await transaction.update('crop', 'c', {
        local: 'mine',
        remote: 'mine',
        latest: 'mine, newer',
        most: 5,
        notes: 'one, mine\ntwo\nthree\nfour',
        soil: { ph: 6, deep: { a: 1, mine: true } },
      });
      await transaction.update('field', 'f', { name: 'goes along' });
    });
    await second.sync();
    const [before] = await first.outbox();
    await first.sync({ direction: 'pull' });
    const merged = {
      local: 'mine',
      remote: 'theirs',
      latest: 'mine, newer',
      most: 8,
      notes: 'one, mine\ntwo\nthree\nfour, theirs',
      soil: { ph: 7, deep: { a: 1, mine: true, theirs: true } },
    };
    expect(await first.get('crop', 'c'), 'on screen at once').toMatchObject(merged);
    const [waiting] = await first.outbox();
    expect(waiting?.id, 'what a rule changed is another transaction').not.toBe(before?.id);
    expect(waiting?.changes[0], 'what was taken from there is not sent back').not.toHaveProperty('columns.remote');
    await settle(first, second);
    expect(await second.get('crop', 'c')).toMatchObject(merged);
    expect(await second.get('field', 'f')).toMatchObject({ name: 'goes along' });
    expect([await first.conflicts(), await first.outbox()]).toEqual([[], []]);
  });

  test('the newest edit wins whichever device syncs first, and in several transactions only the last of a column counts', async () => {
    await first.update('crop', 'c', { latest: 'early' });
    await first.update('crop', 'c', { latest: 'still early' });
    await new Promise((resolve) => setTimeout(resolve, 5));
    await second.update('crop', 'c', { latest: 'late' });
    await second.sync();
    await first.sync();
    expect(await first.outbox(), 'nothing of the older edits is left to send').toEqual([]);
    await settle(first, second);
    expect(await first.get('crop', 'c')).toMatchObject({ latest: 'late' });
  });

  test('a rule that throws, answers nonsense or meets lines both changed leaves the column to a person, with the reason', async () => {
    await second.update('crop', 'c', { broken: 1, notes: 'one, theirs\ntwo\nthree\nfour', local: 'theirs' });
    await second.sync();
    await first.update('crop', 'c', { broken: 13, notes: 'one, mine\ntwo\nthree\nfour', local: 'mine' });
    await first.update('field', 'f', { name: 'goes on' });
    await first.sync();
    const conflicts = await first.conflicts();
    expect(conflicts).toMatchObject([
      { column: 'broken', local: 13, remote: 1, reason: expect.stringContaining('thirteen') },
      { column: 'notes', reason: null },
    ]);
    for (const { localAt, remoteAt } of conflicts)
      expect(Date.parse(remoteAt ?? '')).toBeLessThanOrEqual(Date.parse(localAt ?? '') + 1_000);
    expect((await second.sync()).down, 'only what is independent went on').toMatchObject({ update: 1 });
    await first.update('crop', 'c', { broken: 2 });
    await second.update('crop', 'c', { broken: 3 });
    await second.sync();
    await first.sync();
    expect(await first.conflicts()).toMatchObject([
      // It began with the first of the two edits, and shows the last.
      { column: 'broken', local: 2, remote: 3, reason: expect.stringContaining('thirteen') },
      { column: 'notes' },
    ]);
    await first.resolve('crop', 'c', { broken: { value: 4 }, notes: 'remote' });
    await settle(first, second);
    expect(await second.get('crop', 'c')).toMatchObject({ broken: 4, local: 'mine' });
  });

  test('a row made under one id on both sides is one row, merged by the rules', async () => {
    await second.insert('crop', { id: 'new', field: 'f', local: 'theirs', most: 3, asked: 'b' });
    await second.sync();
    await first.insert('crop', { id: 'new', field: 'f', local: 'mine', most: 2, asked: 'c' });
    await first.sync();
    expect(await first.conflicts()).toMatchObject([
      { id: 'new', column: 'asked', base: null, local: 'c', remote: 'b' },
    ]);
    await first.resolve('crop', 'new', 'local');
    await settle(first, second);
    expect(await second.get('crop', 'new')).toMatchObject({ local: 'mine', most: 3, asked: 'c' });
    expect(await first.rejections()).toEqual([]);
  });

  describe('history 16: one deletes a row while another edits it, in both orders', () => {
    const orders = [
      ['the deletion is there first', async () => second.sync(), async () => first.sync()],
      ['the edit is there first', async () => first.sync(), async () => second.sync()],
    ] as const;
    for (const [name, early, late] of orders) {
      test(`${name}: the edit survives, over what the row held last`, async () => {
        const third = await world.replica();
        await third.sync();
        await third.update('crop', 'c', { asked: 'b' });
        await third.sync();
        await second.sync();
        await second.delete('crop', 'c');
        await first.update('crop', 'c', { remote: 'edited' });
        await first.add('crop', 'c', 'counted', 2);
        await early();
        await late();
        await settle(first, second, third);
        expect(await third.get('crop', 'c')).toMatchObject({ remote: 'edited', asked: 'b', counted: 2 });
        expect(await first.conflicts()).toEqual([]);
      });

      test(`${name}: the deletion wins where the table says so`, async () => {
        await second.delete('kept', 'k');
        await first.update('kept', 'k', { text: 'edited' });
        await early();
        await late();
        await settle(first, second);
        expect(await first.get('kept', 'k')).toBeUndefined();
        expect([await first.outbox(), await second.outbox()]).toEqual([[], []]);
      });

      test(`${name}: a person is asked where the table says so`, async () => {
        await second.delete('asking', 'q');
        await first.update('asking', 'q', { text: 'edited' });
        await early();
        await late();
        const asked = [...(await first.conflicts()), ...(await second.conflicts())];
        expect(asked).toMatchObject([{ id: 'q', column: null }]);
      });
    }
  });

  test('history 20: a clock two years ahead, then corrected: "newest" does not win for ever', async () => {
    let ahead = 2 * 365 * 86_400_000;
    const third = await world.replica({ host: { ...systemHost, now: () => Date.now() + ahead } });
    // Its offset is not known yet: the edit carries a time that is still to come.
    await third.insert('field', { id: 'g', name: 'north' });
    await third.insert('crop', { id: 'future', field: 'g', latest: 'from the future' });
    await third.sync();
    await first.sync();
    await first.update('crop', 'future', { latest: 'today' });
    await first.sync();
    await third.sync();
    expect(await third.get('crop', 'future')).toMatchObject({ latest: 'today' });
    // Now the offset is known: its edits are as old as they are.
    await third.update('crop', 'future', { latest: 'ahead, but earlier' });
    await new Promise((resolve) => setTimeout(resolve, 1_100));
    await first.update('crop', 'future', { latest: 'later' });
    await first.sync();
    await third.sync();
    expect(await third.get('crop', 'future')).toMatchObject({ latest: 'later' });
    // The clock is set right while it is away.
    ahead = 0;
    await third.update('crop', 'future', { latest: 'two years ago, says the offset' });
    await third.sync();
    await third.update('crop', 'future', { latest: 'set right' });
    await first.sync();
    await settle(third, first);
    expect(await first.get('crop', 'future')).toMatchObject({ latest: 'set right' });
  });

  test('a decision can be taken back until it is sent', async () => {
    await second.update('crop', 'c', { asked: 'b' });
    await second.delete('asking', 'q');
    await second.sync();
    await first.update('crop', 'c', { asked: 'c', local: 'along' });
    await first.update('asking', 'q', { text: 'mine' });
    await first.sync();
    const asked = await first.conflicts();
    const shown = await all(first);
    for (const choice of ['remote', 'local'] as const) {
      await first.resolve('crop', 'c', choice);
      await first.resolve('asking', 'q', choice);
      expect(await first.conflicts()).toEqual([]);
      await first.unresolve('asking', 'q');
      await first.unresolve('crop', 'c');
      expect([await first.conflicts(), await all(first)]).toEqual([asked, shown]);
    }
    await expect(first.unresolve('crop', 'c')).rejects.toMatchObject({ code: 'nothing-to-undo' });
    await first.resolve('crop', 'c', { asked: { value: 'a' } });
    await first.resolve('asking', 'q', 'local');
    await settle(first, second);
    await expect(first.unresolve('crop', 'c')).rejects.toMatchObject({ code: 'nothing-to-undo' });
    expect(await second.get('crop', 'c')).toMatchObject({ asked: 'a', local: 'along' });
    expect(await second.get('asking', 'q')).toMatchObject({ text: 'mine' });
  });

  test('five devices edit and delete 2,000 times apart, under every rule: they end alike, and each question is listed', async () => {
    const replicas = [first, second, ...(await Promise.all([1, 2, 3].map(() => world.replica())))];
    for (const id of Array.from({ length: 40 }, (_, i) => `r${i}`)) {
      await first.insert('crop', { id, field: 'f', notes: 'a\nb\nc\nd\ne' });
      await first.insert('kept', { id });
      await first.insert('asking', { id });
    }
    await settle(...replicas);
    const draw = fc.sample(fc.nat(1_000_000), { numRuns: 12_000, seed: 6 }).values();
    const next = (n: number) => (draw.next().value as number) % n;
    let added = 0;
    for (let i = 0; i < 2_000; i++) {
      const replica = replicas[next(5)] as Replica<Farm>;
      const id = `r${next(40)}`;
      const from = (['crop', 'crop', 'crop', 'kept', 'asking'] as const)[next(5)] as 'crop' | 'kept' | 'asking';
      const row = await replica.get(from, id);
      if (row === undefined) continue;
      const n = next(100);
      if (from !== 'crop') {
        if (next(12) === 0) await replica.delete(from, id);
        else await replica.update(from, id, { text: `${i}` });
      } else if (n < 15) {
        await replica.add('crop', id, 'counted', n);
        added += n;
      } else if (n < 30) await replica.include('crop', id, 'tags', `t${n}`);
      else if (n < 45) {
        const lines = (row as unknown as { notes: string }).notes.split('\n');
        lines[next(5)] = `${i}`;
        await replica.update('crop', id, { notes: lines.join('\n') });
      } else if (n < 60) {
        const { soil } = row as unknown as { soil: Record<string, JsonValue> };
        await replica.update('crop', id, { soil: { ...soil, [`m${next(6)}`]: i } });
      } else
        await replica.update('crop', id, {
          [['local', 'remote', 'latest'][next(3)] as 'local']: `${i}`,
          most: i,
          ...(n > 90 ? { asked: 'abc'[next(3)] as 'a' } : {}),
        });
      if (next(150) === 0) await replica.sync();
    }
    for (let round = 0; round < 4; round++) for (const replica of replicas) await replica.sync();
    let asked = 0;
    for (const replica of replicas) {
      const conflicts = await replica.conflicts();
      asked += conflicts.length;
      const unsent = await replica.outbox();
      expect(unsent.length > 0, 'what is not sent waits for a person').toBe(conflicts.length > 0);
      for (const { column } of conflicts) expect(['asked', 'notes', 'soil', null]).toContain(column);
      for (const { table: from, id, column } of conflicts) {
        const row = await replica.get(from as 'crop', id);
        if (column !== null)
          expect(row?.[column as 'asked'], 'what was typed is on screen').toEqual(
            conflicts.find((each) => each.id === id && each.column === column)?.local,
          );
      }
      for (const { table: from, id } of conflicts)
        await replica.resolve(from as 'crop', id, 'local').catch((error) => {
          // One decision settles all columns of a row.
          if (error.code !== 'no-such-conflict') throw error;
        });
      await replica.sync();
    }
    expect(asked).toBeGreaterThan(10);
    for (let round = 0; round < 4; round++)
      for (const replica of replicas) {
        for (const { table: from, id } of await replica.conflicts())
          await replica.resolve(from as 'crop', id, 'local').catch(() => undefined);
        await replica.sync();
      }
    await settle(...replicas);
    const crops = await first.rows({ from: 'crop' });
    expect(crops.reduce((sum, { counted }) => sum + counted, 0)).toBe(added);
    expect(await Promise.all(replicas.map((replica) => replica.rejections()))).toEqual(replicas.map(() => []));
  });
});
