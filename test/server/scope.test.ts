import { httpTransport, openReplica, type Replica } from '@koinon/client';
import { type LiveMessage, schema, table, text } from '@koinon/core';
import { resendAllPostgres, resendAllSqlite } from '@koinon/server';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { type Commons, commons, commonsScopes, idsOf, Plots, replicaOf, wayOf } from '../support/commons.ts';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// The rights of users: rows and columns by user, rows that come and go, and nothing of anybody else's, not even in the file.

let plots: Plots;
let world: World<Commons>;
let office: Replica<Commons>;
let mika: Replica<Commons>;
let tove: Replica<Commons>;
const inFile = (person: string, words: string) => plots.inFile(person, words);

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    plots = await Plots.of(kind);
    ({ world, office, mika, tove } = plots);
  });
  afterEach(() => world.end());

  test('each gets his part, without what is withheld, and changes of others’ rows are not even counted', async () => {
    expect(await idsOf(mika, 'plot')).toEqual(['north', 'pond']);
    expect(await idsOf(mika, 'crop')).toEqual(['kale', 'leek']);
    expect(await idsOf(tove, 'crop')).toEqual(['bean']);
    expect(await mika.get('crop', 'leek')).toMatchObject({ label: 'secret of north', price: null });
    expect(await office.get('crop', 'leek')).toMatchObject({ price: 99 });
    await office.update('crop', 'bean', { label: 'changed' });
    await office.update('crop', 'leek', { price: 100 });
    await office.sync();
    expect(await mika.estimatePull()).toEqual({});
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
    expect(await idsOf(mika, 'crop')).toEqual(['bean', 'kale', 'leek']);
    await office.delete('tenancy', 'mn');
    await office.update('crop', 'kale', { height: 8 });
    await office.sync();
    expect((await mika.sync()).down).toMatchObject({ insert: 0, update: 0, leave: 3, delete: 1 });
    expect(await idsOf(mika, 'crop')).toEqual(['bean']);
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
    expect(await idsOf(mika, 'crop')).toEqual(['bean']);
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
    expect(await idsOf(late, 'crop')).toEqual(['kale', 'leek']);
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
    expect(await idsOf(late, 'crop')).toEqual(['bean']);
    expect(await idsOf(mika, 'crop')).toEqual(['bean']);
    expect(await idsOf(tove, 'crop')).toEqual(['leek', 'zinnia']);
    await late.close();
    expect(await inFile('late', 'in passing')).toBe(false);
  });

  test('a device that has to start over takes what is missing for rows that left, not for deletions', async () => {
    await mika.update('crop', 'leek', { label: 'typed words' });
    await mika.insert('note', { id: 'new', person: 'mika', words: 'of nobody else yet' });
    await world.restart(undefined, async () => {
      const shell = await world.database.shell();
      await shell.exec("UPDATE crop SET plot = 'south' WHERE id = 'leek'");
      await shell.close();
      // Whoever gets only some of the rows cannot go on from before this.
      const { address } = world.database;
      await (kind === 'SQLite' ? resendAllSqlite(commons, address) : resendAllPostgres(commons, address));
    });
    expect(await mika.sync()).toMatchObject({ startedOver: true, down: { delete: 0, leave: 1 } });
    expect(await idsOf(mika, 'crop')).toEqual(['kale']);
    expect(await mika.rejections()).toMatchObject([
      { rows: [{ id: 'leek', columns: { label: 'typed words' } }], problems: [{ code: 'scope-left' }] },
    ]);
    // A new row cannot have left; the server had none to name.
    expect(await idsOf(mika, 'note')).toEqual(['new']);
    expect(await (await world.shell()).all('SELECT id FROM note')).toEqual([{ id: 'new' }]);
  });

  test('history 21: a cursor from before the scope shrank names nothing that was made or moved there since, nor does the feed', async () => {
    const ask = async (path: string, body?: object) => {
      const answer = await fetch(`${world.server.url}${path}`, {
        headers: { authorization: 'Bearer mika', 'content-type': 'application/json' },
        ...(body && { method: 'POST', body: JSON.stringify(body) }),
      });
      return (await answer.text())
        .split('\n')
        .filter((line) => line !== '')
        .map(
          (line) => JSON.parse(line) as { cursor: string; more?: boolean; kind: string; table?: string; id?: string },
        );
    };
    /** All rows of a table that pulls from a cursor on name, and the last cursor. */
    const replay = async (request: { readonly cursor?: string; readonly limit?: number; readonly where?: object }) => {
      const told: string[] = [];
      let { cursor } = request;
      for (let more = true; more; ) {
        const [header, ...rows] = await ask('/v1/pull', { ...request, ...(cursor && { cursor }) });
        told.push(...rows.flatMap(({ kind, table, id }) => (table === 'crop' ? [`${kind} ${id}`] : [])));
        more = header?.more === true;
        cursor = header?.cursor;
      }
      return { told: told.sort(), cursor: cursor as string };
    };
    const whole = await replay({});
    const high = await replay({ where: { crop: { plot: 'north' } } });
    // One that is in the middle of a first download, after its first page.
    const [begun] = await ask('/v1/pull', { limit: 4 });
    await office.delete('tenancy', 'mn');
    await office.insert('crop', { id: 'onion', plot: 'north', label: 'made since' });
    await office.update('crop', 'bean', { plot: 'north' });
    await office.update('crop', 'kale', { plot: 'south' });
    await office.sync();
    for (const request of [{ cursor: whole.cursor }, { cursor: whole.cursor, limit: 1 }, { cursor: high.cursor }])
      expect((await replay(request)).told, JSON.stringify(request).slice(0, 30)).toEqual(['leave kale', 'leave leek']);
    const middle = await replay({ cursor: begun?.cursor as string });
    for (const id of ['onion', 'bean']) expect(middle.told.filter((line) => line.endsWith(id))).toEqual([]);
    const feed = await ask(`/v1/feed?after=${encodeURIComponent(whole.cursor)}`);
    expect(
      feed
        .filter(({ table }) => table === 'crop')
        .map(({ id }) => id)
        .sort(),
    ).toEqual(['kale', 'leek']);
    // A number says nothing of what its sender was given.
    const numbered = await ask('/v1/feed?after=1');
    expect(numbered.filter(({ table }) => table === 'crop')).toEqual([]);
    await mika.sync();
    expect(await idsOf(mika, 'crop')).toEqual([]);
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
                if (message.type !== 'heartbeat') heard[person]?.push(JSON.stringify(message));
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
    await vi.waitFor(async () => expect(await idsOf(lives.tove as never, 'crop')).toEqual(['bean', 'leek']));
    expect(heard.mika?.join('')).not.toContain('tove');
    expect(heard.mika).toHaveLength(2);
    // What he sends out of his own sight is confirmed to him all the same.
    await lives.mika?.update('crop', 'kale', { label: 'on its way' });
    await vi.waitFor(async () => expect(await lives.mika?.status()).toMatchObject({ pending: 0 }));
    await office.insert('tenancy', { id: 'ms', plot: 'south', person: 'mika' });
    await office.sync();
    await vi.waitFor(async () => expect(await idsOf(lives.mika as never, 'crop')).toEqual(['bean', 'kale', 'leek']));
    await office.delete('tenancy', 'mn');
    await office.sync();
    await vi.waitFor(async () => expect(await idsOf(lives.mika as never, 'crop')).toEqual(['bean', 'leek']));
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
    // A table that the server does not know may be one of a newer app.
    expect(await seen({ tables: ["crop' --"] })).toEqual([]);
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
    expect(joined).toMatchObject({ type: 'joined', rows: [{ id: 'leek' }], applied: [] });
    // Another's transactions: neither whether they were applied, nor what became of them.
    await tove.update('crop', 'bean', { height: 2 });
    const [unsent] = await tove.outbox();
    await tove.sync({ direction: 'push' });
    const own = [unsent?.id as string];
    expect((await way.pull({ unacknowledged: own })).header.acknowledged).toEqual([]);
    expect((await wayOf(world, 'tove').pull({ unacknowledged: own })).header.acknowledged).toEqual(own);
  });

  test('a rule that changes with the server’s next deployment moves only the difference, without a new app', async () => {
    const all = wayOf(world, 'mika');
    await all.pull({});
    await world.restart(undefined, undefined, {
      scopes: {
        ...commonsScopes,
        plot: { read: () => 'all' },
        crop: { read: commonsScopes.crop.read, withhold: ['price', 'label'] },
        note: { read: () => 'none' },
      },
    });
    await mika.insert('note', { id: 'n', person: 'mika', words: 'not taken any more' });
    const { down, up } = await mika.sync();
    expect(down).toMatchObject({ insert: 1, delete: 0, leave: 0 });
    expect(up).toMatchObject({ rejected: 1 });
    expect(await idsOf(mika, 'plot')).toEqual(['north', 'pond', 'south']);
    expect(await mika.get('crop', 'leek')).toMatchObject({ label: null, price: null, height: 1 });
    await mika.close();
    expect(await inFile('mika', 'secret of north'), 'what is withheld now').toBe(false);
    const way = wayOf(world, 'mika');
    await way.pull({});
    expect(way.bytes?.down).toBeLessThan(all.bytes?.down ?? 0);
  });

  test('behind more changes of others than are looked at for one page comes what is his, deletions where rights go by the id alone as well', async () => {
    const shell = await world.shell();
    await shell.exec(
      `WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 60000)
       INSERT INTO crop (id, plot, picked) SELECT 'far-' || i, 'south', 0 FROM n`,
    );
    await shell.exec("UPDATE crop SET height = 7 WHERE id = 'leek'");
    expect((await mika.sync()).down).toEqual({ insert: 0, update: 1, delete: 0, leave: 0 });
    expect(await mika.get('crop', 'leek')).toMatchObject({ height: 7 });
    const sites = schema({ site: table({ name: text() }) });
    const other = await World.inTest(sites, kind, {
      authenticate: (id) => ({ id, claims: {} }),
      scopes: { site: { read: (user) => ({ id: { in: [`${user?.id}-1`, `${user?.id}-2`] } }) } },
    });
    const held = await other.closed(
      openReplica({ schema: sites, server: httpTransport(other.server.url, { token: () => 'mika' }) }),
    );
    const office = await other.shell();
    await office.exec("INSERT INTO site (id, name) VALUES ('mika-1', 'Marrowfen'), ('tove-1', 'Elder Row')");
    await held.sync();
    await office.exec("DELETE FROM site; INSERT INTO site (id, name) VALUES ('mika-2', 'Sallow Bank')");
    expect((await held.sync()).down).toMatchObject({ insert: 1, delete: 1 });
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
