import type { Replica } from '@koinon/client';
import type { TrashedRow } from '@koinon/core';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { type Commons, idsOf, Plots, wayOf } from '../support/commons.ts';
import { storeKinds } from '../support/stores.ts';
import type { World } from '../support/world.ts';

// The rows that each may write: rows of his own and of others, rows that have left, what is withheld from him, what was deleted.

let plots: Plots;
let world: World<Commons>;
let office: Replica<Commons>;
let mika: Replica<Commons>;
let tove: Replica<Commons>;
const inFile = (person: string, words: string) => plots.inFile(person, words);

const fetchRestore = async (id: string) => {
  const response = await fetch(`${world.server.url}/v1/restore`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', authorization: 'Bearer mika' },
    body: JSON.stringify({ table: 'crop', id }),
  });
  expect(response.status, await response.text()).toBe(204);
};

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    plots = await Plots.of(kind);
    ({ world, office, mika, tove } = plots);
  });
  afterEach(() => world.end());

  test('history 10: a push to a row that has left, or to a guessed id, is answered as one to no row at all', async () => {
    await office.update('crop', 'leek', { plot: 'south' });
    await office.sync();
    const problems = [];
    for (const id of ['leek', 'bean', 'nowhere'])
      for (const change of [{ kind: 'update', columns: { height: 3 } }, { kind: 'delete' }])
        problems.push(
          (await pushAs('mika', [{ table: 'crop', id, ...change }]).then(JSON.stringify)).replaceAll(id, 'ID'),
        );
    expect(new Set(problems).size).toBe(1);
    expect(problems[0]).toContain('no-such-row');
    // What stands in the way of a deletion is not named to who does not see it.
    await office.insert('plot', { id: 'meadow', name: 'free for all', open: true });
    await office.insert('crop', { id: 'unseen', plot: 'meadow' });
    await office.sync();
    const deleted = JSON.stringify(await pushAs('mika', [{ table: 'plot', id: 'meadow', kind: 'delete' }]));
    expect(deleted).toContain('row-referenced');
    expect(deleted).not.toMatch(/unseen|crop/);
    // Nor can it be told by a reference, or by what stands in the way of a deletion.
    const [to, nowhere] = await Promise.all(
      ['south', 'nowhere'].map(async (plot) =>
        JSON.stringify(
          await pushAs('mika', [{ kind: 'insert', table: 'crop', id: 'new', columns: { plot } }]),
        ).replaceAll(plot, 'PLOT'),
      ),
    );
    expect(to).toContain('no-such-reference');
    expect(nowhere).toContain('no-such-reference');
    await office.sync();
    expect(await office.get('crop', 'bean')).toMatchObject({ height: 1 });
  });

  test('of several edits of a row that has left, one is taken back, and the others stay', async () => {
    for (const height of [11, 12, 13]) await mika.update('crop', 'leek', { height });
    await office.update('crop', 'leek', { plot: 'south' });
    await office.sync();
    await mika.sync();
    const typed = async () =>
      (await mika.rejections()).flatMap(({ rows }) => rows.map(({ columns }) => columns?.height));
    expect(await typed()).toEqual([11, 12, 13]);
    await mika.undo();
    expect(await typed()).toEqual([11, 12]);
    const [first] = await mika.rejections();
    await mika.discard(first?.transaction as string, { dependent: 'take back' });
    expect(await typed()).toEqual([]);
  });

  test('what a person typed into a row that leaves is kept for him, and nothing else of it', async () => {
    await mika.update('crop', 'leek', { label: 'typed words' });
    await mika.update('crop', 'kale', { height: 78 });
    await mika.insert('note', { id: 'n', person: 'mika', words: 'mine' });
    await mika.delete('crop', 'kale');
    await office.update('crop', 'leek', { plot: 'south' });
    await office.update('crop', 'kale', { plot: 'south' });
    await office.sync();
    await mika.sync();
    expect(await idsOf(mika, 'crop')).toEqual([]);
    expect(await mika.rejections()).toMatchObject([
      { rows: [{ table: 'crop', id: 'leek', columns: { label: 'typed words' } }], problems: [{ code: 'scope-left' }] },
      { rows: [{ table: 'crop', id: 'kale', columns: { height: 78 } }], problems: [{ code: 'scope-left' }] },
    ]);
    expect(await idsOf(mika, 'note')).toEqual(['n']);
    expect(await mika.status()).toMatchObject({ pending: 0, rejected: 2 });
    for (const id of ['leek', 'kale']) await mika.revert('crop', id);
    expect(await mika.status()).toMatchObject({ pending: 0, rejected: 0 });
    await mika.close();
    for (const words of ['secret of north', 'leek', 'typed words'])
      expect(await inFile('mika', words), words).toBe(false);
  });

  test('what was confirmed of rows that left is forgotten, and the rest of it still comes back to a restored server as it was', async () => {
    const restore = await world.backup();
    await mika.insert('note', { id: 'before', person: 'mika', words: 'alone' });
    await mika.transaction(async (tx) => {
      await tx.update('crop', 'leek', { label: 'typed once' });
      await tx.update('crop', 'leek', { label: 'typed twice' });
      await tx.update('crop', 'kale', { label: 'typed as well' });
      await tx.insert('note', { id: 'together', person: 'mika', words: 'with the others' });
    });
    await mika.sync();
    await office.delete('tenancy', 'mn');
    await office.sync();
    await mika.sync();
    expect(await idsOf(mika, 'crop')).toEqual([]);
    await restore();
    const { up } = await mika.sync();
    expect(up).toMatchObject({ applied: 2, rejected: 0 });
    const shell = await world.shell();
    expect(await shell.all('SELECT id FROM note ORDER BY id')).toEqual([{ id: 'before' }, { id: 'together' }]);
    expect(await mika.rejections()).toEqual([]);
    await mika.close();
    for (const words of ['typed once', 'typed twice', 'typed as well']) expect(await inFile('mika', words)).toBe(false);
  });

  test('he may write what he may read, where no rule says otherwise; rules see before and after; withheld columns take no part', async () => {
    const refused = async (changes: readonly unknown[]) => {
      const answer = await pushAs('mika', changes);
      return answer.outcomes[0]?.problems?.map(({ code }) => code) ?? answer.outcomes[0]?.outcome;
    };
    expect(
      await refused([{ kind: 'insert', table: 'note', id: 'x', columns: { person: 'tove', words: 'hi' } }]),
    ).toEqual(['not-permitted']);
    expect(await refused([{ kind: 'update', table: 'tenancy', id: 'mn', columns: { person: 'tove' } }])).toEqual([
      'not-permitted',
    ]);
    expect(await refused([{ kind: 'insert', table: 'plot', id: 'x', columns: { name: 'x' } }])).toEqual([
      'not-permitted',
    ]);
    expect(await refused([{ kind: 'update', table: 'crop', id: 'leek', columns: { price: 1 } }])).toEqual([
      'not-permitted',
    ]);
    expect(await refused([{ kind: 'insert', table: 'crop', id: 'x', columns: { plot: 'north', price: 1 } }])).toEqual([
      'not-permitted',
    ]);
    expect(await refused([{ kind: 'insert', table: 'crop', id: 'bean', columns: { plot: 'north' } }])).toEqual([
      'duplicate-id',
    ]);
    expect(await refused([{ kind: 'update', table: 'plot', id: 'north', columns: { name: 'our north' } }])).toBe(
      'applied',
    );
    expect(
      await refused([{ kind: 'insert', table: 'crop', id: 'dill', columns: { plot: 'north', price: null } }]),
    ).toBe('applied');
    // One who makes a place and belongs to it in one transaction may put things there.
    expect(
      await refused([
        { kind: 'insert', table: 'tenancy', id: 'mp', columns: { plot: 'pond', person: 'mika' } },
        { kind: 'insert', table: 'crop', id: 'rush', columns: { plot: 'pond' } },
      ]),
    ).toBe('applied');
  });

  test('history 16, for one who does not see all columns: deleted against edited in both orders', async () => {
    // He deletes while another edits what he does not get: nothing stands against it.
    await office.update('crop', 'leek', { price: 5 });
    await office.sync();
    await mika.delete('crop', 'leek');
    expect((await mika.sync({ direction: 'push' })).up).toMatchObject({ applied: 1, stale: 0 });
    await mika.sync();
    // He edits while another deletes: his edit survives over the last image, and with it what he does not get.
    await mika.update('crop', 'kale', { label: 'kept alive' });
    await office.sync();
    await office.update('crop', 'kale', { price: 123 });
    await office.delete('crop', 'kale');
    await office.sync();
    await mika.sync();
    await office.sync();
    expect(await office.get('crop', 'kale')).toMatchObject({ label: 'kept alive', price: 123 });
    expect(await mika.get('crop', 'kale')).toMatchObject({ label: 'kept alive', price: null });
    // So does what an older app does not know of.
    await office.insert('crop', { id: 'chard', plot: 'north', price: 7, height: 4 });
    await office.sync();
    await office.delete('crop', 'chard');
    await office.sync();
    await pushAs('office', [{ kind: 'insert', table: 'crop', id: 'chard', columns: { plot: 'north', label: 'back' } }]);
    await office.sync();
    expect(await office.get('crop', 'chard')).toMatchObject({ label: 'back', price: 7, height: 4 });
    // And what he does see is compared.
    await office.update('crop', 'kale', { height: 50 });
    await office.sync();
    await mika.delete('crop', 'kale');
    expect((await mika.sync({ direction: 'push' })).up).toMatchObject({ stale: 1 });
    // In the trash each sees his own, without what is withheld from him.
    expect((await mika.trash()).map(({ id, columns }) => [id, columns.price])).toEqual([['leek', undefined]]);
    expect(await tove.trash()).toEqual([]);
  });

  test('the trash is read in pages, also where one statement has deleted everybody’s rows; each gets all of his, once', async () => {
    const shell = await world.shell();
    for (let n = 0; n < 12; n++)
      for (const plot of ['north', 'south'])
        await office.insert('crop', { id: `${n}-${plot}`, plot, label: `row ${n}`, height: 1, price: 99 });
    await office.sync();
    await shell.exec('DELETE FROM crop');
    const readAll = async (replica: Replica<Commons>) => {
      const found: string[] = [];
      for (let page = await replica.trash({ limit: 3 }); page.length > 0; ) {
        found.push(...page.map(({ id }) => id));
        page = await replica.trash({ limit: 3, before: page.at(-1) as TrashedRow });
      }
      return found.sort();
    };
    const of = (plot: string) => Array.from({ length: 12 }, (_, n) => `${n}-${plot}`).sort();
    expect(await readAll(mika)).toEqual([...of('north'), 'kale', 'leek'].sort());
    expect(await readAll(tove)).toEqual([...of('south'), 'bean'].sort());
    expect(await readAll(office)).toHaveLength(27);
    // Brought back many at once: each in the transaction in which it is looked for.
    await Promise.all(of('north').map((id) => fetchRestore(id)));
    await mika.sync();
    expect(await idsOf(mika, 'crop')).toEqual(of('north'));
  });

  test('a conflict tells who the other side was, where it was one and he is known', async () => {
    await office.insert('tenancy', { id: 'tn', plot: 'north', person: 'tove' });
    await office.sync();
    await tove.sync();
    await tove.update('crop', 'leek', { label: 'as Tove has it', height: 3 });
    await mika.update('crop', 'leek', { label: 'as Mika has it' });
    await tove.sync();
    await mika.sync();
    const [asked] = await mika.conflicts();
    expect(asked).toMatchObject({ column: 'label', remote: 'as Tove has it', remoteBy: 'tove' });
    // Of what another program has written nobody is named.
    await (await world.shell()).exec("UPDATE crop SET label = 'by the office' WHERE id = 'leek'");
    await mika.sync();
    expect(await mika.conflicts()).toMatchObject([{ remote: 'by the office', remoteBy: null }]);
  });
});

/** A push of one transaction, as a program of this user's own would make it. */
async function pushAs(person: string, changes: readonly unknown[]) {
  const way = wayOf(world, person);
  const { header } = await way.pull({});
  const id = `${crypto.randomUUID().slice(0, 14)}4${crypto.randomUUID().slice(15)}`;
  const replica = `00000000-0000-4000-8000-${Buffer.from(person.padEnd(6, '.')).toString('hex').slice(0, 12)}`;
  const transaction = { id, editedAt: new Date().toISOString(), dependsOn: [], changes };
  const answer = await way.push(JSON.stringify({ replica, base: header.cursor, transactions: [transaction] }));
  const given = answer as { outcomes: { id?: string; outcome: string; problems?: { code: string }[] }[] };
  return { outcomes: given.outcomes.map(({ id: _, ...rest }) => rest) };
}
