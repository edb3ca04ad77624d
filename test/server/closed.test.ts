import { openReplica } from '@koinon/client';
import { integer, reference, schema, table, text } from '@koinon/core';
import { type Scopes, startServer } from '@koinon/server';
import { pino } from 'pino';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// Closed by default: who gets what is said of every table, scopes follow each other along references, and what rules do row by
// row.

const books = schema({
  site: table({ keeper: text({ filterable: true }), name: text() }),
  inspection: table({
    site: reference('site', { filterable: true }),
    number: integer({ optional: true, unique: true }),
  }),
  photo: table({ inspection: reference('inspection', { optional: true, filterable: true }), words: text() }),
  comment: table({ photo: reference('photo', { filterable: true }), place: integer({ unique: true }) }),
  scratch: table({ words: text() }, { home: 'device' }),
});
const authenticate = (token: string) => ({ id: token, claims: {} });
const kept = (write: () => undefined) =>
  ({
    site: { read: (user: { id: string } | undefined) => ({ keeper: user?.id ?? '' }), write },
    inspection: { with: 'site' },
    photo: { with: 'inspection' },
    comment: { with: 'photo' },
  }) as const satisfies Scopes<typeof books>;

describe.each(storeKinds)('on %s', (kind) => {
  let world: World<typeof books>;
  beforeEach(async () => {
    world = await World.of(books, kind, {
      authenticate,
      scopes: kept(() => undefined),
      rules: {
        inspection: {
          before: async ({ kind: what, after }, { query, sequence }) => {
            if (what !== 'insert' || after?.number !== null) return undefined;
            const number = await sequence('inspection');
            const [greatest] = await query<{ n: number | string }>(
              'SELECT coalesce(max(number), 0) AS n FROM inspection',
            );
            return Number(greatest?.n) + 1 === number ? { number } : { number: -1 };
          },
        },
        comment: {
          before: async ({ id, after }, { insert }) => {
            // A place that is taken is refused; the rule goes on.
            if (id === 'four')
              await insert('comment', { id: 'other', photo: after?.photo ?? 'p', place: 2 }).catch(() => undefined);
            return {};
          },
        },
      },
    });
  });
  afterEach(() => world.end());
  const replicaOf = (user: string) =>
    world.closed(openReplica({ schema: books, server: world.server.url, token: () => user }));

  test('a scope follows its parent’s, along a chain, as rows come and go', async () => {
    const [runa, ilse] = [await replicaOf('runa'), await replicaOf('ilse')];
    for (const [id, who] of [
      ['r', runa],
      ['i', ilse],
    ] as const) {
      await who.insert('site', { id: `site-${id}`, keeper: id === 'r' ? 'runa' : 'ilse', name: id });
      await who.insert('inspection', { id: `inspection-${id}`, site: `site-${id}` });
      await who.insert('photo', { id: `photo-${id}`, inspection: `inspection-${id}`, words: 'a frame' });
      await who.insert('comment', { id: `comment-${id}`, photo: `photo-${id}`, place: id === 'r' ? 1 : 2 });
      await who.sync();
    }
    await runa.insert('photo', { id: 'loose', words: 'of nothing' });
    await runa.sync();
    expect(await runa.rejections(), 'what refers to nothing is in nobody’s scope').toMatchObject([
      { problems: [{ code: 'not-permitted' }] },
    ]);
    const held = async (who: typeof runa) => {
      await who.sync();
      const tables = ['site', 'inspection', 'photo', 'comment'] as const;
      return (await Promise.all(tables.map((name) => who.rows({ from: name })))).flat().map(({ id }) => id);
    };
    await runa.discard((await runa.rejections())[0]?.transaction as string);
    expect(await held(runa)).toEqual(['site-r', 'inspection-r', 'photo-r', 'comment-r']);
    await (await world.shell()).exec("UPDATE inspection SET site = 'site-i' WHERE id = 'inspection-r'");
    expect(await held(runa)).toEqual(['site-r']);
    expect((await held(ilse)).sort()).toEqual(
      ['site-i', 'inspection-i', 'inspection-r', 'photo-i', 'photo-r', 'comment-i', 'comment-r'].sort(),
    );
  });

  test('history 27: new rows of one transaction are numbered row by row, and by two processes without a gap; values may change places', async () => {
    const other = await startServer<typeof books>({
      store: await world.database.open(books),
      port: 0,
      authenticate,
      scopes: kept(() => undefined),
      rules: {
        inspection: {
          before: async ({ kind: what }, { sequence }) =>
            what === 'insert' ? { number: await sequence('inspection') } : undefined,
        },
      },
    });
    const runa = await replicaOf('runa');
    const ilse = await world.closed(openReplica({ schema: books, server: other.url, token: () => 'ilse' }));
    await runa.insert('site', { id: 'a', keeper: 'runa', name: 'a' });
    await runa.transaction(async (transaction) => {
      for (const id of ['x', 'y', 'z']) await transaction.insert('inspection', { id, site: 'a' });
    });
    await runa.sync();
    expect((await runa.rows({ from: 'inspection', order: 'id' })).map(({ number }) => number)).toEqual([1, 2, 3]);
    await ilse.insert('site', { id: 'b', keeper: 'ilse', name: 'b' });
    for (let n = 0; n < 5; n++)
      for (const [who, site] of [
        [runa, 'a'],
        [ilse, 'b'],
      ] as const)
        await who.insert('inspection', { id: `${site}${n}`, site });
    await Promise.all([runa.sync(), ilse.sync()]);
    const rows = await (await world.shell()).all<{ number: number | string }>('SELECT number FROM inspection');
    expect(rows.map(({ number }) => Number(number)).sort((a, b) => a - b)).toEqual(
      Array.from({ length: 13 }, (_, i) => i + 1),
    );
    // A rule of its own does not keep two rows from changing places.
    await runa.insert('photo', { id: 'p', inspection: 'x', words: '' });
    await runa.insertAll('comment', [
      { id: 'one', photo: 'p', place: 1 },
      { id: 'two', photo: 'p', place: 2 },
    ]);
    await runa.sync();
    await runa.transaction(async (transaction) => {
      await transaction.update('comment', 'one', { place: 2 });
      await transaction.update('comment', 'two', { place: 1 });
    });
    expect((await runa.sync()).up).toMatchObject({ applied: 1, rejected: 0 });
    const places = await (await world.shell()).all<{ place: number }>('SELECT place FROM comment ORDER BY id');
    expect(places.map(({ place }) => Number(place))).toEqual([2, 1]);
    // The first has to wait for the last; the one between them, which no rule is asked of, is written once.
    await runa.transaction(async (transaction) => {
      await transaction.insert('comment', { id: 'three', photo: 'p', place: 1 });
      await transaction.insert('photo', { id: 'q', inspection: 'x', words: '' });
      await transaction.update('comment', 'two', { place: 3 });
      await transaction.insert('comment', { id: 'four', photo: 'q', place: 4 });
    });
    expect(await runa.rejections()).toEqual([]);
    expect((await runa.sync()).up).toMatchObject({ applied: 1, rejected: 0 });
    const stamps = kind === 'SQLite' ? 'koinon_stamp' : 'koinon.stamp';
    const ofNobody = `SELECT row_id AS id FROM ${stamps} WHERE table_name = 'comment' AND row_receipt IS NULL`;
    expect(await (await world.shell()).all(ofNobody), 'the device wrote all of them').toEqual([]);
    await other.close();
  });

  test('scopes that leave a table out, or cannot be what they say, do not start a server; what is most probably a mistake is told at start', async () => {
    const store = await world.database.open(books);
    const scopes = kept(() => undefined);
    const starts = (given: object, logger?: pino.Logger) =>
      startServer({ store, port: 0, authenticate, scopes: given as never, ...(logger && { logger }) });
    const { photo: _, ...without } = scopes;
    for (const [given, words] of [
      [without, /does not name photo/],
      [{ ...scopes, photo: {} }, /photo says who gets its rows/],
      [{ ...scopes, photo: { read: 'all', with: 'inspection' } }, /one of the two/],
      [{ ...scopes, photo: { with: 'words' } }, /words, which is no reference/],
      [{ ...scopes, photo: 'some' }, /not "some"/],
      [{ ...scopes, photo: { reed: 'all' } }, /no part "reed"/],
      [{ ...scopes, foto: 'all' }, /no table "foto"/],
    ] as const)
      await expect(starts(given), String(words)).rejects.toThrow(words);
    const said: string[] = [];
    const logger = pino({ level: 'warn' }, { write: (line: string) => said.push(JSON.parse(line).msg) });
    const server = await starts(
      {
        ...scopes,
        site: { read: (user: { id: string }) => ({ keeper: user.id }) },
        inspection: {
          read: async (
            user: { id: string },
            { rows }: { rows: (table: string, where: object) => Promise<{ id: string }[]> },
          ) => ({ site: { in: (await rows('site', { keeper: user.id })).map(({ id }) => id) } }),
        },
        comment: { read: () => ({ place: 7 }) },
      },
      logger,
    );
    expect(said).toEqual([
      expect.stringMatching(/^The scope of inspection reads site, and a user may write the rows of site/),
      expect.stringMatching(/^The scope of comment filters by place, which the schema does not declare filterable/),
    ]);
    await server.close();
  });
});
