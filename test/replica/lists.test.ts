import type { ConflictOf, Replica } from '@koinon/client';
import { bytes, schema, setOfText, table, text } from '@koinon/core';
import { afterEach, expect, test } from 'vitest';
import { World } from '../support/world.ts';

// The lists that wait for a person: the same values as everywhere else, and kept up by themselves.

const album = schema({
  photo: table({
    title: text(),
    picture: bytes({ optional: true }),
    tags: setOfText(),
    value: text({ optional: true }),
  }),
  note: table({ words: text({ unique: true }) }),
});
let world: World<typeof album>;
afterEach(() => world.end());

/** Two devices that have given one photo another picture each, before the second one has synced. */
async function twoPictures(): Promise<readonly [Replica<typeof album>, Replica<typeof album>]> {
  world = await World.of(album);
  const [one, other] = [await world.replica(), await world.replica()];
  await one.insert('photo', { id: 'p', title: 'hive', picture: new Uint8Array([1, 2]) });
  await one.sync();
  await other.sync();
  await one.update('photo', 'p', { picture: new Uint8Array([3, 4]), value: 'one' });
  await one.sync();
  await other.update('photo', 'p', { picture: new Uint8Array([5, 6]), value: 'other' });
  return [one, other];
}

test('a picture in conflict is bytes, and only bytes decide it; what a conflict names goes into resolve as it is', async () => {
  const [one, other] = await twoPictures();
  await other.sync();
  const conflicts: readonly ConflictOf<typeof album>[] = await other.conflicts();
  expect(conflicts).toMatchObject([
    { column: 'picture', base: new Uint8Array([1, 2]), local: new Uint8Array([5, 6]), remote: new Uint8Array([3, 4]) },
    { column: 'value', base: null, local: 'other', remote: 'one' },
  ]);
  for (const wrong of ['AwQ=', 7, [3, 4], { length: 2 }, new Date()])
    await expect(other.resolve('photo', 'p', { picture: { value: wrong as never } })).rejects.toMatchObject({
      code: 'value-type',
      column: 'picture',
    });
  expect(await other.conflicts()).toEqual(conflicts);
  // A column of that name has a choice of its own.
  await other.resolve('photo', 'p', { value: 'remote' });
  for (const { table: name, id, column, remote } of await other.conflicts())
    await other.resolve(name, id, { [column as 'picture']: { value: remote as Uint8Array } });
  await other.sync();
  await one.sync();
  for (const replica of [one, other])
    expect(await replica.get('photo', 'p')).toMatchObject({ picture: new Uint8Array([3, 4]), value: 'one' });
  await one.delete('photo', 'p');
  await one.sync();
  const [deleted] = await one.trash();
  expect(deleted?.columns.picture).toEqual(new Uint8Array([3, 4]));
});

test('what libraries of Observables look for is on a live query, and on what it gives them', async () => {
  const [one] = await twoPictures();
  type Interop = Record<string, () => { subscribe(observer: object): { unsubscribe(): void } }>;
  const live = one.live({ from: 'photo' });
  for (const given of [live, live.asObservable()] as unknown as Interop[]) {
    const seen: number[] = [];
    // As they do it: the Observable is asked for itself, and then subscribed to.
    const subscription = given['@@observable']?.().subscribe({
      next: ({ rows }: { rows: unknown[] }) => seen.push(rows.length),
    });
    await expect.poll(() => seen.at(-1)).toBe(1);
    subscription?.unsubscribe();
  }
});

test('conflicts, refusals and the outbox are live, and end empty', async () => {
  const [one, other] = await twoPictures();
  const seen: string[] = [];
  const told = { conflicts: 0, rejections: 0, outbox: 0 };
  const stops = [
    other.liveConflicts().subscribe(({ rows }) => {
      told.conflicts = rows.length;
    }),
    other.liveRejections().subscribe(({ rows }) => {
      told.rejections = rows.length;
    }),
    other.liveOutbox().subscribe(({ rows }) => {
      told.outbox = rows.length;
      for (const { changes } of rows)
        for (const change of changes)
          if (change.kind === 'update' && change.columns.picture instanceof Uint8Array) seen.push('bytes');
    }),
  ];
  await expect.poll(() => told).toEqual({ conflicts: 0, rejections: 0, outbox: 1 });
  expect(seen).not.toEqual([]);
  await other.sync();
  await expect.poll(() => told).toEqual({ conflicts: 2, rejections: 0, outbox: 1 });
  await one.insert('note', { id: 'n1', words: 'the same' });
  await one.sync();
  await other.insert('note', { id: 'n2', words: 'the same' });
  await other.sync({ direction: 'push' });
  await expect.poll(() => told).toMatchObject({ rejections: 1 });
  const [rejection] = await other.rejections();
  await other.revert(rejection?.rows[0]?.table ?? 'photo', rejection?.rows[0]?.id ?? '');
  await expect.poll(() => told).toEqual({ conflicts: 2, rejections: 0, outbox: 1 });
  await other.resolve('photo', 'p', 'remote');
  await other.sync();
  await expect.poll(() => told).toEqual({ conflicts: 0, rejections: 0, outbox: 0 });
  for (const stop of stops) stop();
});
