import { readFile } from 'node:fs/promises';
import type { Replica } from '@koinon/client';
import type { LiveMessage, TrashedRow } from '@koinon/core';
import { restampPostgres, restampSqlite } from '@koinon/server';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { type Commons, commons, commonsScopes, commonsWorld, replicaOf, wayOf } from './support/commons.ts';
import { storeKinds } from './support/stores.ts';
import type { World } from './support/world.ts';

// Who gets what: rows and columns by user, rows that come and go, and nothing of anybody else's, not even in the file.

let world: World<Commons>;
let office: Replica<Commons>;
let mika: Replica<Commons>;
let tove: Replica<Commons>;

const ids = async (replica: Replica<Commons>, table: 'plot' | 'crop' | 'note' | 'tenancy') =>
  (await replica.rows({ from: table, order: ['id'] })).map(({ id }) => id);
const inFile = async (person: string, words: string) =>
  (
    await Promise.all(
      ['', '-wal'].map((end) => readFile(world.path(`${person}.db${end}`)).catch(() => Buffer.from(''))),
    )
  ).some((bytes) => bytes.includes(words));

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
    world = await commonsWorld(kind);
    office = await replicaOf(world, 'office');
    mika = await replicaOf(world, 'mika');
    tove = await replicaOf(world, 'tove');
    for (const name of ['north', 'south', 'pond'])
      await office.insert('plot', { id: name, name, open: name === 'pond' });
    await office.insert('tenancy', { id: 'mn', plot: 'north', person: 'mika' });
    await office.insert('tenancy', { id: 'ts', plot: 'south', person: 'tove' });
    for (const [id, plot] of [
      ['leek', 'north'],
      ['kale', 'north'],
      ['bean', 'south'],
    ] as const)
      await office.insert('crop', { id, plot, label: `secret of ${plot}`, height: 1, price: 99 });
    for (const replica of [office, mika, tove]) await replica.sync();
  });
  afterEach(() => world.end());

  test('each gets his part, without what is withheld, and changes of others’ rows are not even counted', async () => {
    expect(await ids(mika, 'plot')).toEqual(['north', 'pond']);
    expect(await ids(mika, 'crop')).toEqual(['kale', 'leek']);
    expect(await ids(tove, 'crop')).toEqual(['bean']);
    expect(await mika.get('crop', 'leek')).toMatchObject({ label: 'secret of north', price: null });
    expect(await office.get('crop', 'leek')).toMatchObject({ price: 99 });
    await office.update('crop', 'bean', { label: 'changed' });
    await office.update('crop', 'leek', { price: 100 });
    await office.sync();
    expect(await mika.toCome()).toEqual({});
    expect(await mika.sync()).toMatchObject({ received: 0 });
    await tove.sync();
    expect(await tove.get('crop', 'bean')).toMatchObject({ label: 'changed' });
    expect(await inFile('mika', 'south')).toBe(false);
  });

  test('membership changes move only the difference, both ways; what leaves is out of the file, and not called deleted', async () => {
    const events: unknown[] = [];
    await mika.update('crop', 'leek', { label: 'typed and sent' });
    await mika.sync();
    await office.sync();
    mika.listen('crop', (some) => events.push(...some.map(({ kind: what, id }) => [what, id])));
    await office.insert('tenancy', { id: 'ms', plot: 'south', person: 'mika' });
    await office.sync();
    expect((await mika.sync()).down).toEqual({ insert: 3, update: 0, delete: 0, leave: 0 });
    expect(await ids(mika, 'crop')).toEqual(['bean', 'kale', 'leek']);
    await office.delete('tenancy', 'mn');
    await office.update('crop', 'kale', { height: 8 });
    await office.sync();
    expect((await mika.sync()).down).toMatchObject({ insert: 0, update: 0, leave: 3, delete: 1 });
    expect(await ids(mika, 'crop')).toEqual(['bean']);
    expect(events).toEqual([
      ['insert', 'bean'],
      ['leave', 'kale'],
      ['leave', 'leek'],
    ]);
    await mika.close();
    for (const words of ['secret of north', 'typed and sent', 'leek', 'kale'])
      expect(await inFile('mika', words), words).toBe(false);
  });

  test('a row that comes into the old scope while the new one takes it in comes whole; one that left and was deleted then has left', async () => {
    await office.insert('tenancy', { id: 'ms', plot: 'south', person: 'mika' });
    await office.update('crop', 'bean', { plot: 'north' });
    await office.update('crop', 'leek', { plot: 'pond' });
    await office.delete('crop', 'leek');
    await office.sync();
    // Deleted, and made again where he does not see it.
    await (await world.shell()).exec(
      "DELETE FROM crop WHERE id = 'kale'; INSERT INTO crop (id, plot, picked) VALUES ('kale', 'pond', 0)",
    );
    expect((await mika.sync()).down).toMatchObject({ leave: 2, delete: 0 });
    expect(await mika.get('crop', 'bean')).toMatchObject({ plot: 'north', label: 'secret of south', height: 1 });
    expect(await ids(mika, 'crop')).toEqual(['bean']);
  });

  test('history 9: a row that enters after a first download began, is paged and leaves, is gone at the end; filter and row together as well', async () => {
    let pages = 0;
    const good = wayOf(world, 'mika');
    const late = await replicaOf(world, 'mika', {
      file: world.path('late.db'),
      server: wayOf(world, 'mika', {
        pull: async (request, signal) => {
          const page = await good.pull({ ...request, limit: 1 }, signal);
          const brings = (id: string) => page.rows.some((row) => row.kind === 'insert' && row.id === id);
          // Page by page: comes in while others are paged, is paged, and goes again.
          if (++pages === 1) await office.insert('crop', { id: 'zinnia', plot: 'north', label: 'in passing' });
          if (brings('zinnia')) await office.update('crop', 'zinnia', { plot: 'south' });
          if (pages === 2) await office.insert('crop', { id: 'yarrow', plot: 'north' });
          if (brings('yarrow')) await office.delete('crop', 'yarrow');
          await office.sync();
          return page;
        },
      }),
    });
    await late.sync();
    expect(await ids(late, 'crop')).toEqual(['kale', 'leek']);
    await office.transaction(async (transaction) => {
      await transaction.update('crop', 'leek', { plot: 'south' });
      await transaction.delete('tenancy', 'mn');
      await transaction.insert('tenancy', { id: 'mp', plot: 'pond', person: 'mika' });
      await transaction.update('crop', 'bean', { plot: 'pond' });
    });
    await office.sync();
    for (const replica of [late, mika, tove]) {
      await replica.sync();
      await replica.sync();
    }
    expect(await ids(late, 'crop')).toEqual(['bean']);
    expect(await ids(mika, 'crop')).toEqual(['bean']);
    expect(await ids(tove, 'crop')).toEqual(['leek', 'zinnia']);
    await late.close();
    expect(await inFile('late', 'in passing')).toBe(false);
  });

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

  test('what a person typed into a row that leaves is kept for him, and nothing else of it', async () => {
    await mika.update('crop', 'leek', { label: 'typed words' });
    await mika.update('crop', 'kale', { height: 78 });
    await mika.insert('note', { id: 'n', person: 'mika', words: 'mine' });
    await mika.delete('crop', 'kale');
    await office.update('crop', 'leek', { plot: 'south' });
    await office.update('crop', 'kale', { plot: 'south' });
    await office.sync();
    await mika.sync();
    expect(await ids(mika, 'crop')).toEqual([]);
    expect(await mika.rejections()).toMatchObject([
      { rows: [{ table: 'crop', id: 'leek', columns: { label: 'typed words' } }], problems: [{ code: 'scope-left' }] },
      { rows: [{ table: 'crop', id: 'kale', columns: { height: 78 } }], problems: [{ code: 'scope-left' }] },
    ]);
    expect(await ids(mika, 'note')).toEqual(['n']);
    expect(await mika.status()).toMatchObject({ pending: 0, rejected: 2 });
    for (const id of ['leek', 'kale']) await mika.revert('crop', id);
    expect(await mika.status()).toMatchObject({ pending: 0, rejected: 0 });
    await mika.close();
    for (const words of ['secret of north', 'leek', 'typed words'])
      expect(await inFile('mika', words), words).toBe(false);
  });

  test('a device that has to start over takes what is missing for rows that left, not for deletions', async () => {
    await mika.update('crop', 'leek', { label: 'typed words' });
    await world.restart(undefined, async () => {
      const shell = await world.database.shell();
      await shell.exec("UPDATE crop SET plot = 'south' WHERE id = 'leek'");
      await shell.close();
      // Whoever gets only some of the rows cannot go on from before this.
      const { address } = world.database;
      await (kind === 'SQLite' ? restampSqlite(commons, address) : restampPostgres(commons, address));
    });
    expect(await mika.sync()).toMatchObject({ startedOver: true, down: { delete: 0, leave: 1 } });
    expect(await ids(mika, 'crop')).toEqual(['kale']);
    expect(await mika.rejections()).toMatchObject([
      { rows: [{ id: 'leek', columns: { label: 'typed words' } }], problems: [{ code: 'scope-left' }] },
    ]);
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
    expect(await ids(mika, 'crop')).toEqual(of('north'));
  });

  test('live: a change reaches those who may see it, and nobody else hears a thing; who joins or leaves is told at once', async () => {
    const heard: Record<string, string[]> = { mika: [], tove: [] };
    const lives: Record<string, Replica<Commons>> = {};
    for (const person of ['mika', 'tove']) {
      const good = wayOf(world, person);
      const replica = await replicaOf(world, person, {
        file: world.path(`${person}-live.db`),
        sync: { when: { timer: false } },
        server: {
          ...good,
          live: (listener) =>
            good.live?.({
              ...listener,
              message: (message) => {
                if (message.tell !== 'beat') heard[person]?.push(JSON.stringify(message));
                listener.message(message);
              },
            }) as never,
        },
      });
      lives[person] = replica;
      await vi.waitFor(async () => expect(heard[person]?.length).toBe(1), 5_000);
    }
    const kinds: unknown[] = [];
    lives.mika?.listen('crop', (events) =>
      kinds.push(...events.map(({ kind: what, id, origin }) => [what, id, origin])),
    );
    await office.update('crop', 'bean', { label: 'for tove' });
    await office.sync();
    await vi.waitFor(async () => expect(await lives.tove?.get('crop', 'bean')).toMatchObject({ label: 'for tove' }));
    await office.update('crop', 'leek', { plot: 'south' });
    await office.sync();
    await vi.waitFor(async () => expect(kinds).toEqual([['leave', 'leek', 'server']]));
    await vi.waitFor(async () => expect(await ids(lives.tove as never, 'crop')).toEqual(['bean', 'leek']));
    expect(heard.mika?.join('')).not.toContain('tove');
    expect(heard.mika).toHaveLength(2);
    // What he sends out of his own sight is confirmed to him all the same.
    await lives.mika?.update('crop', 'kale', { label: 'on its way' });
    await vi.waitFor(async () => expect(await lives.mika?.status()).toMatchObject({ pending: 0 }));
    await office.insert('tenancy', { id: 'ms', plot: 'south', person: 'mika' });
    await office.sync();
    await vi.waitFor(async () => expect(await ids(lives.mika as never, 'crop')).toEqual(['bean', 'kale', 'leek']));
    await office.delete('tenancy', 'mn');
    await office.sync();
    await vi.waitFor(async () => expect(await ids(lives.mika as never, 'crop')).toEqual(['bean', 'leek']));
    expect(heard.tove?.join('')).not.toMatch(/mika|on its way/);
  });

  test('no cursor, filter, list of tables or feed widens a scope, and nothing withheld can be found out by asking', async () => {
    const way = wayOf(world, 'mika');
    const theirs = (await wayOf(world, 'tove').pull({})).header.cursor;
    const offices = (await wayOf(world, 'office').pull({})).header.cursor;
    for (const cursor of [theirs, offices])
      await expect(way.pull({ cursor })).rejects.toMatchObject({ code: 'unknown-cursor' });
    const seen = async (request: object) =>
      (await way.pull(request)).rows.map(({ table, id }) => `${table} ${id}`).sort();
    const all = ['crop kale', 'crop leek', 'plot north', 'plot pond', 'tenancy mn'];
    expect(await seen({})).toEqual(all);
    expect(await seen({ where: { crop: { or: [{ plot: 'south' }, { not: { plot: 'south' } }] } } })).toEqual(all);
    expect(await seen({ tables: ['crop'] })).toEqual(all.slice(0, 2));
    expect(await seen({ where: { crop: { id: 'bean' } } })).toEqual(all.slice(2));
    for (const where of [
      { crop: { price: 99 } },
      { crop: { label: { prefix: 'secret' } } },
      { crop: { "id' OR 1": 'x' } },
    ])
      await expect(way.pull({ where })).rejects.toMatchObject({
        code: expect.stringMatching(/query-invalid|unknown-column/),
      });
    await expect(way.pull({ tables: ["crop' --"] })).rejects.toMatchObject({ code: 'unknown-table' });
    // An app that knows less is sent less, and nothing of what it does not know.
    const columns = { crop: ['label'], note: ['words'] };
    const old = await way.pull({ columns });
    expect(old.rows).toMatchObject([{ id: 'kale' }, { id: 'leek' }]);
    expect(old.rows.map((row) => 'columns' in row && Object.keys(row.columns ?? {}))).toEqual([['label'], ['label']]);
    await office.update('crop', 'leek', { height: 5 });
    await office.sync();
    expect((await way.pull({ columns, cursor: old.header.cursor })).rows).toEqual([]);
    const feed = async (query: string) =>
      (await fetch(`${world.server.url}/v1/feed?${query}`, { headers: { authorization: 'Bearer mika' } })).text();
    expect(await feed('table=crop')).not.toMatch(/bean|south|price/);
    expect(await feed(`after=${encodeURIComponent(theirs)}`)).toContain('unknown-cursor');
    const restored = await fetch(`${world.server.url}/v1/restore`, {
      method: 'POST',
      headers: { authorization: 'Bearer mika', 'content-type': 'application/json' },
      body: JSON.stringify({ table: 'crop', id: 'bean' }),
    });
    expect(restored.status).toBe(404);
    // Who joins live is told of no other's transactions.
    const before = await way.pull({});
    await office.update('crop', 'leek', { label: 'seen by him' });
    await office.sync();
    const joined = await new Promise<LiveMessage>((told) => {
      const listener = { open: () => channel?.say(join), message: told, closed: () => undefined };
      const join = { join: 1, cursor: before.header.cursor, replica: '00000000-0000-4000-8000-000000000002' };
      const channel = way.live?.(listener);
    });
    expect(joined).toMatchObject({ tell: 'joined', rows: [{ id: 'leek' }], applied: [] });
    // Another's transactions: neither whether they were applied, nor what became of them.
    await tove.update('crop', 'bean', { height: 2 });
    const [unsent] = await tove.outbox();
    await tove.sync({ direction: 'push' });
    const own = [unsent?.id as string];
    expect((await way.pull({ own })).header.covers).toEqual([]);
    expect((await wayOf(world, 'tove').pull({ own })).header.covers).toEqual(own);
  });

  test('a rule that changes with the server’s next deployment moves only the difference, without a new app', async () => {
    const all = wayOf(world, 'mika');
    await all.pull({});
    await world.restart(undefined, undefined, {
      scopes: {
        ...commonsScopes,
        plot: { read: () => 'all' },
        crop: { ...commonsScopes.crop, withhold: ['price', 'label'] },
        note: { read: () => 'none' },
      },
    });
    await mika.insert('note', { id: 'n', person: 'mika', words: 'not taken any more' });
    const { down, up } = await mika.sync();
    expect(down).toMatchObject({ insert: 1, delete: 0, leave: 0 });
    expect(up).toMatchObject({ rejected: 1 });
    expect(await ids(mika, 'plot')).toEqual(['north', 'pond', 'south']);
    expect(await mika.get('crop', 'leek')).toMatchObject({ label: null, price: null, height: 1 });
    await mika.close();
    expect(await inFile('mika', 'secret of north'), 'what is withheld now').toBe(false);
    const way = wayOf(world, 'mika');
    await way.pull({});
    expect(way.bytes?.down).toBeLessThan(all.bytes?.down ?? 0);
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

  test('a pull in small pages is told all that became of a row which changed again behind the page', async () => {
    const slow = await replicaOf(world, 'office', {
      file: world.path('slow.db'),
      server: wayOf(world, 'office', {
        pull: (request, signal) => wayOf(world, 'office').pull({ ...request, limit: 1 }, signal),
      }),
    });
    await slow.sync();
    for (const [id, patch] of [
      ['leek', { label: 'first' }],
      ['kale', { label: 'between' }],
      ['leek', { height: 9 }],
    ] as const) {
      await office.update('crop', id, patch);
      await office.sync();
    }
    await slow.sync();
    expect(await slow.get('crop', 'leek')).toMatchObject({ label: 'first', height: 9 });
  });
});

/** A push of one transaction, as a program of this user's own would make it. */
async function pushAs(person: string, changes: readonly unknown[]) {
  const way = wayOf(world, person);
  const { header } = await way.pull({});
  const id = `${crypto.randomUUID().slice(0, 14)}4${crypto.randomUUID().slice(15)}`;
  const replica = `00000000-0000-4000-8000-${Buffer.from(person.padEnd(6, '.')).toString('hex').slice(0, 12)}`;
  const transaction = { id, editedAt: new Date().toISOString(), own: [], changes };
  const answer = await way.push(JSON.stringify({ replica, base: header.cursor, transactions: [transaction] }));
  const given = answer as { outcomes: { id?: string; outcome: string; problems?: { code: string }[] }[] };
  return { outcomes: given.outcomes.map(({ id: _, ...rest }) => rest) };
}
