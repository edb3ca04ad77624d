import { openReplica, type Replica } from '@koinon/client';
import fc from 'fast-check';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { type Garden, garden, never, plantedBy, rowsOf, World } from '../support/world.ts';

// The decisions of a person: conflicts by column and by row, and rows the server refused.

let world: World;
let mine: Replica<Garden>;
let theirs: Replica<Garden>;
beforeEach(async () => {
  world = await World.of(garden);
  [mine, theirs] = [await world.replica(), await world.replica()];
  await theirs.insert('bed', { id: 'b', name: 'north' });
  await theirs.insertAll('plant', [
    { id: 'p', bed: 'b', kind: 'herb', label: 'before', height: 1, watered: 1, tags: ['old'] },
    { id: 'q', bed: 'b', kind: 'herb' },
  ]);
  await theirs.sync();
  await mine.sync();
});
afterEach(() => world.end());

const plant = async (replica: Replica<Garden>, id = 'p') => {
  const row = await replica.get('plant', id);
  return row && { label: row.label, height: row.height, watered: row.watered, tags: row.tags };
};

/** Both edit label and height of one plant; mine also waters it, tags it, and labels another in the same transaction. */
async function disagree(): Promise<void> {
  await theirs.update('plant', 'p', { label: 'theirs', height: 20 });
  await theirs.sync();
  await mine.transaction(async (transaction) => {
    await transaction.update('plant', 'p', { label: 'mine', height: 10 });
    await transaction.add('plant', 'p', 'watered', 5);
    await transaction.include('plant', 'p', 'tags', 'new');
    await transaction.update('plant', 'q', { label: 'along' });
  });
  await mine.sync();
  expect(await mine.conflicts()).toMatchObject([
    { id: 'p', column: 'height', base: 1, local: 10, remote: 20 },
    { id: 'p', column: 'label', base: 'before', local: 'mine', remote: 'theirs' },
  ]);
  expect(await plant(theirs, 'q'), 'the transaction waits whole').toMatchObject({ label: null });
}

/** Both sync, and end with the same rows as the server. */
async function settles(expected: object | undefined): Promise<void> {
  await mine.sync();
  await theirs.sync();
  expect([await mine.conflicts(), await mine.outbox(), await mine.rejections()]).toEqual([[], [], []]);
  expect(await plant(mine)).toEqual(expected);
  const shell = await world.shell();
  for (const replica of [mine, theirs]) expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
}

const along = { watered: 6, tags: ['new', 'old'] };
test.each([
  ['local', { label: 'mine', height: 10, ...along }],
  ['remote', { label: 'theirs', height: 20, ...along }],
  [{ label: 'local', height: 'remote' } as const, { label: 'mine', height: 20, ...along }],
  [{ label: { value: 'agreed' }, height: 'local' } as const, { label: 'agreed', height: 10, ...along }],
] as const)(
  'resolved by %j the row is that everywhere; counters, sets and the rest of the transaction go along',
  async (choices, expected) => {
    await disagree();
    await mine.resolve('plant', 'p', choices);
    expect(await plant(mine), 'on screen at once').toEqual(expected);
    await settles(expected);
    expect(await plant(theirs, 'q')).toMatchObject({ label: 'along' });
  },
);

test('a conflict is resolved column by column; what the server changes meanwhile is asked about again', async () => {
  await disagree();
  await mine.resolve('plant', 'p', { label: 'local' });
  expect(await mine.conflicts()).toMatchObject([{ column: 'height', base: 1, local: 10, remote: 20 }]);
  await mine.sync();
  expect(await plant(theirs, 'q'), 'still held').toMatchObject({ label: null });
  await theirs.update('plant', 'p', { label: 'theirs again' });
  await theirs.sync();
  await mine.sync();
  expect((await mine.conflicts()).map(({ column, remote }) => [column, remote])).toEqual([
    ['height', 20],
    ['label', 'theirs again'],
  ]);
  await mine.resolve('plant', 'p', { height: { value: 15 }, label: 'remote' });
  await settles({ label: 'theirs again', height: 15, ...along });
});

test('a choice that does not fit is refused and changes nothing', async () => {
  await disagree();
  const before = [await mine.conflicts(), await mine.outbox(), await plant(mine)];
  const refused = (code: string, choices: never, id = 'p') =>
    expect(mine.resolve('plant', id, choices)).rejects.toMatchObject({ code });
  await refused('value-range', { height: { value: -1 } } as never);
  await refused('value-type', { value: { no: 'text' } } as never);
  await refused('no-such-conflict', { kind: 'local' } as never);
  await refused('no-such-conflict', 'local' as never, 'q');
  expect([await mine.conflicts(), await mine.outbox(), await plant(mine)]).toEqual(before);
});

test.each([
  ['local', undefined],
  ['remote', { label: 'theirs', height: 1, watered: 1, tags: ['old'] }],
] as const)('deleted here and edited there, resolved by %s', async (choice, expected) => {
  await theirs.update('plant', 'p', { label: 'theirs' });
  await theirs.sync();
  await mine.delete('plant', 'p');
  await mine.sync();
  expect(await mine.conflicts()).toMatchObject([{ id: 'p', column: null, local: null }]);
  await expect(mine.resolve('plant', 'p', { value: 1 })).rejects.toMatchObject({ code: 'value-not-listed' });
  await mine.resolve('plant', 'p', choice);
  await settles(expected);
});

test.each([
  ['local', { label: 'mine', height: 1, watered: 6, tags: ['old'] }],
  ['remote', undefined],
] as const)('edited here and deleted there, resolved by %s', async (choice, expected) => {
  await theirs.delete('plant', 'p');
  await theirs.sync();
  await mine.update('plant', 'p', { label: 'mine' });
  await mine.add('plant', 'p', 'watered', 5);
  await mine.sync();
  expect(await mine.conflicts()).toMatchObject([{ id: 'p', column: null, remote: null }]);
  await mine.resolve('plant', 'p', choice);
  await settles(expected);
});

test('the same id made on both sides is asked about column by column', async () => {
  await theirs.insert('plant', { id: 'twin', bed: 'b', kind: 'herb', label: 'theirs', height: 7 });
  await theirs.sync();
  await mine.insert('plant', { id: 'twin', bed: 'b', kind: 'tree', label: 'mine', height: 7 });
  await mine.sync();
  const columns = (await mine.conflicts()).map(({ column }) => column);
  expect(columns).toEqual(expect.arrayContaining(['kind', 'label']));
  await mine.resolve('plant', 'twin', 'local');
  await mine.sync();
  await theirs.sync();
  expect(await theirs.get('plant', 'twin')).toMatchObject({ kind: 'tree', label: 'mine', height: 7 });
  expect(await mine.outbox()).toEqual([]);
});

test('what two devices count in a row that both have made is added up, and their sets are joined: nobody is asked', async () => {
  for (const [replica, amount] of [
    [mine, 4],
    [theirs, 3],
  ] as const) {
    await replica.insert('plant', { id: 'both', bed: 'b', kind: 'herb', tags: [`begun ${amount}`] });
    await replica.add('plant', 'both', 'watered', amount);
    await replica.include('plant', 'both', 'tags', `by ${amount}`);
  }
  for (const replica of [theirs, mine, theirs]) await replica.sync();
  const all = { watered: 7, tags: ['begun 3', 'begun 4', 'by 3', 'by 4'] };
  for (const replica of [mine, theirs]) expect(await replica.get('plant', 'both')).toMatchObject(all);
  expect([await mine.conflicts(), await mine.outbox()]).toEqual([[], []]);
  // A value that a row was made with may be what the other one has counted: that is asked.
  for (const [replica, watered] of [
    [mine, 4],
    [theirs, 3],
  ] as const)
    await replica.insert('plant', { id: 'counted', bed: 'b', kind: 'herb', watered });
  await theirs.sync();
  await mine.sync();
  expect(await mine.conflicts()).toMatchObject([{ id: 'counted', column: 'watered', local: 4, remote: 3 }]);
});

test('a row that refers to one that is not on the device is decided, taken back and edited; new references are checked', async () => {
  const part = await openReplica({
    ...{ schema: garden, file: world.path('part.db'), server: world.server.url },
    ...{ only: { tables: ['plant'] }, sync: { when: never, live: false } },
  });
  await part.sync();
  await theirs.update('plant', 'p', { label: 'theirs', height: 20 });
  await theirs.sync();
  await part.update('plant', 'p', { label: 'part', height: 10 });
  await part.sync();
  await part.resolve('plant', 'p', { label: 'local', height: 'remote' });
  await part.sync();
  expect([await part.conflicts(), await plant(part)]).toMatchObject([[], { label: 'part', height: 20 }]);
  for (const takeBack of [() => part.undo(), () => part.revert('plant', 'p')]) {
    await part.update('plant', 'p', { bed: 'b', label: 'taken back' });
    await takeBack();
    expect(await plant(part)).toMatchObject({ label: 'part' });
  }
  await part.delete('plant', 'p');
  await part.undo();
  await part.update('plant', 'p', { label: 'last' });
  for (const write of [
    () => part.update('plant', 'p', { bed: 'elsewhere' }),
    () => part.insert('plant', { bed: 'b', kind: 'herb' }),
  ])
    await expect(write()).rejects.toMatchObject({ code: 'no-such-reference' });
  expect((await part.sync()).up).toMatchObject({ applied: 1, rejected: 0 });
  await part.close();
  // One that was deleted here is not referred to again by half of what is taken back.
  await mine.transaction(async (transaction) => {
    for (const id of ['p', 'q']) await transaction.delete('plant', id);
    await transaction.delete('bed', 'b');
  });
  const half = mine.revert([{ table: 'plant', id: 'p' }], { transactions: 'these rows only' });
  await expect(half).rejects.toMatchObject({ code: 'no-such-reference' });
});

test('what was typed into a row that has left can be dropped, although rows that stay refer to it', async () => {
  let isHidden = false;
  const office = await World.of(garden, 'SQLite', {
    scopes: { bed: { read: () => (isHidden ? { id: { in: [] } } : 'all') }, plant: 'all' },
  });
  await plantedBy(office);
  const replica = await office.replica();
  await replica.sync();
  await replica.insert('plant', { id: 'own', bed: 'b', kind: 'herb' });
  await replica.update('bed', 'b', { name: 'typed' });
  isHidden = true;
  await replica.sync({ direction: 'pull' });
  const left = { rows: [{ id: 'b' }], problems: [{ code: 'scope-left' }] };
  expect(await replica.rejections()).toMatchObject([left]);
  // Nobody has taken the new reference yet.
  await expect(replica.revert('bed', 'b')).rejects.toMatchObject({ code: 'row-referenced' });
  await replica.sync();
  expect(await replica.rejections()).toMatchObject([{ rows: [{ id: 'own' }] }, left]);
  await replica.revert('plant', 'own');
  await replica.revert('bed', 'b');
  expect(await replica.rejections()).toEqual([]);
  expect(await replica.count({ from: 'plant', where: { bed: 'b' } })).toBe(2);
  await office.end();
});

test('a row the server refused is edited and goes up as one with what was refused; what it was refused with stays whole', async () => {
  const shell = await world.shell();
  await shell.exec(
    "CREATE TRIGGER no_weeds BEFORE INSERT ON plant WHEN new.label = 'weed' BEGIN SELECT raise(ABORT, 'no weeds'); END",
  );
  await mine.transaction(async (transaction) => {
    await transaction.insert('plant', { id: 'w', bed: 'b', kind: 'herb', label: 'weed', watered: 2 });
    await transaction.update('plant', 'q', { label: 'beside' });
  });
  await mine.sync();
  expect(await mine.rejections()).toMatchObject([{ rows: [{ id: 'w' }, { id: 'q' }] }]);
  await mine.update('plant', 'w', { label: 'mint' });
  await mine.add('plant', 'w', 'watered', 3);
  expect([await mine.rejections(), (await mine.outbox()).map(({ state }) => state)]).toEqual([
    [],
    ['pending', 'pending', 'pending'],
  ]);
  await mine.sync();
  await theirs.sync();
  expect(await theirs.get('plant', 'w')).toMatchObject({ label: 'mint', watered: 5 });
  expect(await theirs.get('plant', 'q')).toMatchObject({ label: 'beside' });
  expect([await mine.outbox(), await mine.rejections()]).toEqual([[], []]);
});

test('however both edit, delete and resolve, they end equal to the server, and nothing is left to ask', () =>
  fc.assert(
    fc.asyncProperty(
      fc.array(
        fc.record({
          who: fc.constantFrom('mine', 'theirs'),
          do: fc.constantFrom('label', 'height', 'water', 'delete', 'insert', 'sync', 'resolve'),
          n: fc.nat(3),
        }),
        { minLength: 5, maxLength: 30 },
      ),
      fc.array(fc.constantFrom('local' as const, 'remote' as const), { minLength: 1 }),
      async (steps, choices) => {
        const here = await World.of(garden);
        const replicas = { mine: await here.replica(), theirs: await here.replica() };
        await replicas.theirs.insert('bed', { id: 'b', name: 'north' });
        await replicas.theirs.sync();
        await replicas.mine.sync();
        let made = 0;
        const resolveAll = async (replica: Replica<Garden>) => {
          for (const { table, id } of await replica.conflicts())
            await replica
              .resolve(table as 'plant', id, choices[made++ % choices.length] as 'local')
              .catch((error) => expect(error.code).toBe('no-such-conflict'));
        };
        // An id made on both sides may be refused where it was deleted again: then the person takes it back.
        const takeBackRefused = async (replica: Replica<Garden>) => {
          for (const { rows } of await replica.rejections())
            for (const { table, id } of rows) await replica.revert(table as 'plant', id);
        };
        for (const { who, do: what, n } of steps) {
          const replica = replicas[who];
          const row = await replica.get('plant', `p${n}`);
          if (what === 'sync') await replica.sync();
          else if (what === 'resolve') await resolveAll(replica);
          else if (what === 'insert' && !row)
            await replica.insert('plant', { id: `p${n}`, bed: 'b', kind: 'herb', label: `${who} ${made++}` });
          else if (row && what === 'label') await replica.update('plant', `p${n}`, { label: `${who} ${made++}` });
          else if (row && what === 'height') await replica.update('plant', `p${n}`, { height: made++ });
          else if (row && what === 'water') await replica.add('plant', `p${n}`, 'watered', 1);
          else if (row && what === 'delete') await replica.delete('plant', `p${n}`);
        }
        for (let round = 0; round < 8; round++)
          for (const replica of Object.values(replicas)) {
            await replica.sync();
            await resolveAll(replica);
            await takeBackRefused(replica);
          }
        const shell = await here.shell();
        for (const replica of Object.values(replicas)) {
          expect([await replica.conflicts(), await replica.rejections(), await replica.outbox()]).toEqual([[], [], []]);
          expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
        }
        await here.end();
      },
    ),
    runs(25),
  ));
